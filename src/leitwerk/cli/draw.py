"""leitwerk draw."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import local_moment
from leitwerk.cli.panels import PANEL, parse_panels
from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from leitwerk.analysis.series import Series
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.reports.time_figure import Drawable


@click.command()
@click.argument("samples")
@click.option(
    "--setup",
    metavar="SETUP",
    help="Whose channels they are: with expectations and limits of alarms.",
)
@PANEL
@click.option("--from", "begin", metavar="TIME", help="From when on: '2026-03-02 06:00'.")
@click.option("--until", "end", metavar="TIME", help="Until when.")
@click.option(
    "--mark",
    "marks",
    metavar="TIME=TEXT",
    multiple=True,
    help="Mark a moment: '2026-03-02 06:10=door'.",
)
@click.option(
    "--to", "target", metavar="FILE", help="Where to: .png or .svg; beside SAMPLES, if not given."
)
@click.option("--window", is_flag=True, help="Show it in a window, too.")
def draw(
    samples: str,
    *,
    setup: str | None,
    panels: tuple[str, ...],
    begin: str | None,
    end: str | None,
    marks: tuple[str, ...],
    target: str | None,
    window: bool,
) -> int:
    """Draw SAMPLES over time: a CSV or Parquet file of 'live --samples', 'fetch', or the like.

    Every extreme is drawn, however many samples there are; gaps stay gaps. Times are those of the setup's
    zone, else UTC.

    Exit code 0: drawn. 2: usage, or a file that cannot be used.
    """
    from zoneinfo import ZoneInfo

    import numpy as np

    from leitwerk.project.setups import read_setup
    from leitwerk.reports.time_figure import draw_channels

    checked = None if setup is None else read_setup(setup)
    zone = ZoneInfo("UTC") if checked is None else checked.setup.zone
    series = _series(Path(samples))
    chosen = np.ones(series.times_s.size, bool)
    if begin is not None:
        chosen &= series.times_s >= local_moment(begin, zone).timestamp()
    if end is not None:
        chosen &= series.times_s <= local_moment(end, zone).timestamp()
    if not chosen.any():
        raise QuantityError("there is no sample in this time", valid=_span(series))
    values = series.known()
    events = [
        (local_moment(at, zone).timestamp(), text)
        for at, _, text in (mark.partition("=") for mark in marks)
    ]
    shown = parse_panels(panels)
    path = Path(target) if target else Path(samples).with_suffix(".png")
    figure = draw_channels(
        _drawables(series, checked), series.times_s[chosen], values[chosen], path,
        title=checked.setup.title if checked else Path(samples).name,
        panels=shown.names, spans=shown.spans,
        events=events, zone=zone,
    )  # fmt: skip
    click.echo(f"{path}: {int(chosen.sum()):,} samples")
    if window:
        from leitwerk.reports.window import show_figure

        show_figure(figure, Path(samples).name)
    return FINE


def _series(path: Path) -> Series:
    from leitwerk.analysis.series import read_series
    from leitwerk.errors import FileProblem
    from leitwerk.recordings.parquet import read_parquet

    if path.suffix == ".parquet":
        series, _ = read_parquet(path)
    else:
        try:
            text = path.read_text("utf-8")
        except (OSError, UnicodeDecodeError) as error:
            reason = getattr(error, "strerror", None) or "it is no text in UTF-8"
            raise FileProblem(f"cannot read {path}: {reason}") from None
        series = read_series(text)
    if not series.dated:
        raise QuantityError(
            f"{path} has times without a date", valid="times such as 2026-03-02T05:00:00Z"
        )
    return series


def _drawables(series: Series, checked: CheckedSetup | None) -> list[Drawable]:
    """The channels of a file, as the setup knows them, else by name and unit."""
    from leitwerk.parsing.units import parse_unit
    from leitwerk.reports.time_figure import Curve

    known = {} if checked is None else {channel.name: channel for channel in checked.channels}
    found: list[Drawable] = []
    for column in series.columns:
        channel = known.get(column.name)
        if channel is not None and channel.symbol == column.unit:
            found.append(channel)
        else:
            found.append(Curve(column.name, parse_unit(column.unit)))
    return found


def _span(series: Series) -> str:
    from leitwerk.analysis.series import utc_text

    return f"{utc_text(series.times_s.min())} to {utc_text(series.times_s.max())}"
