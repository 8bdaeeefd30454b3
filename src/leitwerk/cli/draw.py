"""leitwerk draw."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.panels import PANEL, parse_panels
from leitwerk.cli.rows_of import rows_options

if TYPE_CHECKING:
    from leitwerk.analysis.series import Series
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.rows_of import RowsWanted
    from leitwerk.reports.time_figure import Drawable


@click.command()
@click.argument("source", metavar="SAMPLES")
@rows_options
@PANEL
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
    wanted: RowsWanted,
    *,
    panels: tuple[str, ...],
    marks: tuple[str, ...],
    target: str | None,
    window: bool,
) -> int:
    """Draw SAMPLES over time: a CSV or Parquet file, or the serial number of a device in the store.

    With --setup, with expectations and limits of alarms, and the derived channels. Every extreme is drawn,
    however many samples there are; gaps stay gaps. Times are those of the setup's zone, else UTC.

    Exit code 0: drawn. 2: usage, or a file that cannot be used.
    """
    from leitwerk.cli.options import local_moment
    from leitwerk.reports.time_figure import draw_channels

    checked = wanted.checked()
    series, about = wanted.read(checked)
    zone = wanted.zone(checked, about)
    events = [
        (local_moment(at, zone).timestamp(), text)
        for at, _, text in (mark.partition("=") for mark in marks)
    ]
    shown = parse_panels(panels)
    source = Path(wanted.source)
    path = Path(target) if target else source.with_suffix(".png")
    figure = draw_channels(
        _drawables(series, checked), series.times_s, series.known(), path,
        title=checked.setup.title if checked else about.title or source.name,
        panels=shown.names, spans=shown.spans,
        events=events, zone=zone,
    )  # fmt: skip
    click.echo(f"{path}: {series.times_s.size:,} samples")
    if window:
        from leitwerk.reports.window import show_figure

        show_figure(figure, source.name)
    return FINE


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
