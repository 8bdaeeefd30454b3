"""The one form of files with values over time: live samples, recordings, courses, condensed values."""

import io
import json
import math
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import checked, kept, kiln_text
from leitwerk.analysis.series import Column, Series, number_text, read_series
from leitwerk.devices.device import Device
from leitwerk.recordings.condense import condense
from leitwerk.recordings.fetch import RecordedWith, fetch_recordings
from leitwerk.signals.quality import Quality

GOOD = st.floats(-(2.0**99), 2.0**99, width=32)


@given(
    st.lists(st.tuples(st.integers(0, 2**41), GOOD, st.sampled_from(Quality)), min_size=1),
    st.booleans(),
)
def test_what_is_written_is_read_again_by_us_and_by_pandas(rows, dated):
    times = np.array([ms / 1000.0 for ms, _, _ in rows])
    values = np.array([[value, 1.0] for _, value, _ in rows])
    qualities = np.array([[q, Quality.GOOD] for _, _, q in rows], dtype=np.uint8)
    columns = (Column("air", "°C"), Column("=door"))
    text = Series(columns, times, values, qualities, dated).csv()
    again = read_series(text)
    assert again.columns == columns
    assert again.dated is dated
    np.testing.assert_allclose(again.times_s, times, atol=1e-6)
    np.testing.assert_array_equal(again.qualities, qualities)
    shown = (qualities == Quality.GOOD) | (qualities >= Quality.UNDER_LIMIT)
    same = again.values.astype(np.float32), values.astype(np.float32)
    np.testing.assert_array_equal(same[0][shown], same[1][shown])
    table = pd.read_csv(io.StringIO(text))
    np.testing.assert_allclose(table["air [°C]"].to_numpy(float), again.values[:, 0], rtol=1e-15)
    if dated:
        stamps = pd.to_datetime(table["time"], format="ISO8601")
        assert str(stamps.dt.tz) == "UTC"


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (float(np.float32(21.53)), "21.53"), (1 / 3, "0.333333333"), (-0.0, "0"),
        (9007199254740991.0, "9007199254740991"),
        (math.nan, ""), (math.inf, ""), (1e300, "1e+300"), (3.5e38, "3.5e+38"),
    ],
)  # fmt: skip
def test_numbers_have_one_form(value, text):
    assert number_text(value) == text


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "values over time"), ("when,air\n1,2\n", "values over time"),
        ("time,air\n2026-03-02T05:00:00Z\n", "line 2 has 1 cells"),
        ("time,air\n2026-03-02T05:00:00,3\n", "has no zone"),
        ("time,air\nyesterday,3\n", "is not a time"), ("time [s],air\n,3\n", "time is missing"),
        ('time [s],air\n1,"3,5"\n', "is not a number"), ("time [s],air,air\n1,2,3\n", "two columns"),
        ("time [s],air,air.quality\n1,2,splendid\n", "is not a quality"),
    ],
)  # fmt: skip
def test_what_is_not_a_series_is_refused_with_its_line(text, says):
    with pytest.raises(lw.QuantityError, match=says):
        read_series(text)


def test_a_recording_of_a_device_elsewhere_is_condensed_by_its_own_days(device, logger, tmp_path):
    """The clock of the device shows the time of New York; this computer's zone is not asked."""
    zone = ZoneInfo("America/New_York")
    there = Device(device.datasheet, device.link, zone)
    setup = kiln_text().replace("title:", "zone: America/New_York\ntitle:", 1)
    wanted = checked(setup)
    lw.upload(wanted, there, kept(tmp_path))
    logger.record(rows=3)
    logger.recording_since_s = None
    logger.recordings[0].started = "2026-01-15 00:00:00"
    (path,) = fetch_recordings(there, RecordedWith(there.read_settings(), wanted), tmp_path / "x")
    series = read_series(path.read_text("utf-8"))
    assert datetime.fromtimestamp(series.times_s[0], UTC) == datetime(2026, 1, 15, 5, tzinfo=UTC)
    (at,) = (k for k, column in enumerate(series.columns) if column == Column("stack", "kg"))
    stored = np.array(logger.recordings[0].rows)[:, 5]
    np.testing.assert_allclose(series.values[:, at], stored - 850.0, rtol=1e-6)  # the tare
    day = condense(series, 86400.0, ["count"], zone)
    assert day.times_s.tolist() == [datetime(2026, 1, 15, 5, tzinfo=UTC).timestamp()]
    assert day.values[0, 0] == 3


def test_one_file_goes_from_command_to_command(leitwerk, tmp_path, standin, kiln_file):
    path = kiln_file(standin().address)
    leitwerk("upload", path, "--discard-recordings")
    leitwerk("record", path, "start")
    samples = str(tmp_path / "samples.csv")
    assert (
        leitwerk("live", path, "--for", "0.4 s", "--every", "0.2 s", "--samples", samples).exit_code
        == 0
    )
    fetched = leitwerk("fetch", path)
    assert fetched.exit_code == 0, fetched.output
    assert "in UTC" in fetched.stderr
    condensed = tmp_path / "condensed.csv"
    for source in (samples, fetched.stdout.splitlines()[0]):
        assert leitwerk("dry-run", path, "--recorded", source).exit_code == 0
        shown = leitwerk(
            "condense", source, "--every", "1 min", "--statistics", "mean,maximum,count"
        )
        assert "air_top mean [°C],air_top maximum [°C],air_top count" in shown.stdout
        condensed.write_text(shown.stdout, "utf-8")
        tracks = json.loads(
            leitwerk("dry-run", path, "--recorded", str(condensed), "--json").stdout
        )
        assert tracks["samples"] >= 1
        assert leitwerk("condense", str(condensed), "--every", "1 h").exit_code == 0


def test_without_the_setup_or_with_another_one_the_heading_says_as_stored(
    leitwerk, tmp_path, standin, kiln_file
):
    address = standin().address
    path = kiln_file(address)
    leitwerk("upload", path, "--discard-recordings")
    leitwerk("record", path, "start")
    by_address = leitwerk("fetch", str(address), "--folder", str(tmp_path / "kept"))
    assert "are not in them" in by_address.stderr
    (file,) = by_address.stdout.splitlines()
    assert "Weight of the stack as stored [kg]" in Path(file).read_text("utf-8")
    other = Path(path).read_text("utf-8").replace("sensor: type K ", "sensor: type N ")
    Path(path).write_text(other, "utf-8")
    with_other = leitwerk("fetch", path)
    assert "timber_core: the device is set otherwise" in with_other.stderr
    heading = Path(with_other.stdout.splitlines()[0]).read_text("utf-8").splitlines()[0]
    assert "Timber core as stored [°C]" in heading
    assert "stack [kg]" in heading
    assert leitwerk("dry-run", path, "--recorded", file).exit_code == 2
