"""Figures of samples: panels, limits, gaps and marks; on axes of one's own; and what cannot be drawn."""

from datetime import datetime
from zoneinfo import ZoneInfo

import numpy as np
import pandas as pd
import pytest
from matplotlib.figure import Figure
from PIL import Image

import leitwerk as lw
from conftest import EXAMPLES, checked
from leitwerk.analysis.series import Column, Series
from leitwerk.parsing.units import parse_unit
from leitwerk.reports.spread_figures import hours_of_days

KILN = (
    (EXAMPLES / "kiln.yaml").read_text("utf-8").replace("title:", "zone: Europe/Vienna\ntitle:", 1)
)
BEGIN = 1_772_438_400.0  # 2026-03-02T08:00Z


@pytest.fixture
def run(tmp_path):
    """A quarter of an hour with a spike, a gap, and a sensor that is open for a while."""
    times = BEGIN + np.arange(9000) * 0.1
    times[5000:] += 300
    values = np.column_stack([60 + np.sin(times / 300), np.full(9000, 55.0)])
    values[3000, 0] = 90.0
    qualities = np.zeros((9000, 2), np.uint8)
    qualities[1000:1500, 1] = 3
    series = Series((Column("air_top", "°C"), Column("humidity", "%")), times, values, qualities)
    path = tmp_path / "run.csv"
    path.write_text(series.csv(), "utf-8")
    (tmp_path / "kiln.yaml").write_text(KILN, "utf-8")
    return path


def test_with_the_channels_of_a_setup(run, leitwerk, tmp_path):
    words = [
        "--setup",
        str(tmp_path / "kiln.yaml"),
        "--panel",
        "air_top 15..95",
        "--panel",
        "humidity",
    ]
    words += ["--from", "2026-03-02 09:01", "--mark", "2026-03-02 09:05=door"]
    drawn = leitwerk("draw", str(run), *words)
    assert drawn.exit_code == 0, drawn.output
    assert "8,400 samples" in drawn.stdout
    with Image.open(run.with_suffix(".png")) as picture:
        assert picture.size == (1280, 800)
    svg = leitwerk("draw", str(run), *words, "--to", str(tmp_path / "run.svg"))
    assert svg.exit_code == 0
    assert (tmp_path / "run.svg").read_text("utf-8").startswith("<?xml")


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["--panel", "air_topp"], "there is no channel 'air_topp'"),
        (["--panel", "air_top", "--panel", "humidity", "--panel", "air_top"], "one or two panels"),
        (["--panel", "air_top 90..15"], "an axis cannot show '90..15'"),
        (["--panel", "air_top 15..90 °C"], "in the unit of the axis"),
        (["--from", "2027-01-01 00:00"], "no rows in this time"),
        (["--from", "yesterday"], "is not a"),
        (["--mark", "noon=sun"], "is not a"),
        (["--mark", "2026-03-02 09:05"], "is not TIME=TEXT"),
        (["--to", "/nowhere/at/all.png"], "cannot write"),
    ],
)
def test_what_cannot_be_drawn(run, leitwerk, words, says):
    result = leitwerk("draw", str(run), *words)
    assert result.exit_code == 2
    assert says in result.stderr


def test_files_that_are_no_samples(leitwerk, tmp_path):
    path = tmp_path / "a.csv"
    for content, says in (
        (b"\xff\xfe", "no text in UTF-8"),
        (b"time [s],a\n0,1\n", "without a date"),
    ):
        path.write_bytes(content)
        assert says in leitwerk("draw", str(path)).stderr
    assert "cannot read" in leitwerk("draw", str(tmp_path / "none.parquet")).stderr


def test_on_axes_of_ones_own():
    channel = checked(KILN).channel("air_top")
    axes = Figure().subplots()
    times = BEGIN + np.arange(200_000.0)
    values = 20.0 + np.random.default_rng(1).standard_normal(200_000)
    values[70_000] = 77.0
    lw.plot_channel(axes, channel, times, values, unit=parse_unit("°F"))
    (line,) = [line for line in axes.lines if line.get_label() == "air_top"]
    assert len(line.get_xdata()) < 6000
    assert np.nanmax(line.get_ydata()) == pytest.approx(77.0 * 1.8 + 32.0)
    limits = {round(float(x.get_ydata()[0]), 1) for x in axes.lines if x is not line}
    assert limits == {70.7, 172.4}  # what is expected, and the limit of its alarm
    assert axes.get_ylabel() == "°F"
    # A clock that was set back is no line across the picture.
    back = np.concatenate([times[:100], times[50:150]])
    other = Figure().subplots()
    lw.plot_channel(other, lw.Curve("x", parse_unit("V")), back, np.ones(200))
    assert np.all(np.diff(other.lines[0].get_xdata().astype(float)) >= 0.0)


@pytest.mark.process
def test_the_figure_of_a_watch_grows_in_a_window(
    standin, leitwerk, kiln_file, tmp_path, monkeypatch
):
    """The window itself needs a screen: here stands one that only asks for the figure again and again."""
    path = kiln_file(standin().address)
    assert leitwerk("upload", path).exit_code == 0
    seen = []

    def window(figure, title, redraw, every_s):
        while redraw():
            lines = [axes.lines[0].get_xdata().size for axes in figure.axes]
            seen.append((title, lines, figure.axes[0].get_ylim()))
            assert every_s == 1.0

    monkeypatch.setattr("leitwerk.reports.window.show_figure", window)
    panels = ("--panel", "air_top,air_bottom 15..30", "--panel", "humidity")
    words = (
        *panels,
        "--window",
        "--for",
        "1 s",
        "--every",
        "50 ms",
        "--figure",
        str(tmp_path / "end.svg"),
    )
    shown = leitwerk("live", path, *words)
    assert shown.exit_code == 0, shown.output
    titles, counts, limits = zip(*seen, strict=True)
    assert {*titles} == {"Kiln 2, spring drying run"}
    assert counts[-1][0] > counts[0][0]
    assert limits[-1] == (15.0, 30.0)
    assert (tmp_path / "end.svg").read_text("utf-8").startswith("<?xml")
    monkeypatch.undo()
    monkeypatch.delenv("DISPLAY", raising=False)
    refused = leitwerk("live", path, *panels, "--window", "--for", "1 s")
    assert (refused.exit_code, "a window needs a screen" in refused.stderr) == (2, True), (
        refused.output
    )
    assert (
        leitwerk("live", path, "--panel", "air", "--for", "0.1 s", "--figure", "x.png").exit_code
        == 2
    )


@pytest.mark.parametrize("form", ["histogram", "duration", "days"])
def test_how_values_spread(run, leitwerk, tmp_path, form):
    target = tmp_path / "spread.png"
    words = ("--setup", str(tmp_path / "kiln.yaml"), "--form", form, "--to", str(target))
    assert leitwerk("draw", str(run), *words).exit_code == 0
    with Image.open(target) as picture:
        assert picture.size == (1280, 800)
        assert len(picture.convert("RGB").getcolors(1 << 20)) > 50
    assert leitwerk("draw", str(run), "--channel", "door", "--form", form).exit_code == 2


def test_the_hours_of_a_day_are_those_of_the_clock_of_the_place():
    zone = ZoneInfo("Europe/Vienna")
    times = datetime(2026, 10, 23, tzinfo=zone).timestamp() + 600.0 * np.arange(6 * 24 * 4)
    values = np.random.default_rng(1).random(times.size)
    values[50:90] = np.nan
    day, table = hours_of_days(times, values, zone)
    local = pd.Series(values, pd.to_datetime(times, unit="s", utc=True).tz_convert(zone))
    means = (
        local.groupby([local.index.normalize().tz_localize(None), local.index.hour])
        .mean()
        .unstack()
    )
    np.testing.assert_allclose(table[: len(means)], means.to_numpy())
    assert day == (datetime(2026, 10, 23) - datetime(1970, 1, 1)).days  # noqa: DTZ001 - a day, and no moment


def test_runs_beside_each_other(run, leitwerk, tmp_path):
    other = tmp_path / "later.csv"
    other.write_text(run.read_text("utf-8").replace("2026-03-02T", "2026-04-02T"), "utf-8")
    for align in ("start", "clock"):
        target = tmp_path / f"{align}.svg"
        drawn = leitwerk(
            "draw", str(run), "--beside", str(other), "--align", align, "--to", str(target)
        )
        assert drawn.exit_code == 0, drawn.output
        assert target.stat().st_size > 10_000
