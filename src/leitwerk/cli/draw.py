"""leitwerk draw."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import Pair, local_moment
from leitwerk.cli.panels import PANEL, parse_panels
from leitwerk.cli.rows_of import rows_options

if TYPE_CHECKING:
    from collections.abc import Sequence

    from leitwerk.analysis.series import Series
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.rows_of import RowsWanted
    from leitwerk.reports.time_figure import Drawable, Trace


@click.command()
@click.argument("source", metavar="SAMPLES")
@rows_options
@PANEL
@click.option(
    "--form",
    type=click.Choice(["time", "histogram", "duration", "days", "bands", "phasors"]),
    default="time",
    show_default=True,
    help="Over time; how long values lay where; the part of the time in which they were exceeded; the hours "
    "of each day; means of the bands of a spectrum (band_63_Hz); of phasors (u1 with u1_angle).",
)
@click.option(
    "--beside",
    metavar="SOURCE",
    multiple=True,
    help="Another run to compare with: a file, or a device.",
)
@click.option(
    "--align",
    type=click.Choice(["start", "clock"]),
    default="start",
    show_default=True,
    help="Of runs beside each other: from their starts, or by the clock.",
)
@click.option(
    "--mark",
    "marks",
    type=Pair(),
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
    form: str,
    beside: tuple[str, ...],
    align: str,
    marks: tuple[tuple[str, str], ...],
    target: str | None,
    window: bool,
) -> int:
    """Draw SAMPLES over time: a CSV or Parquet file, or the serial number of a device in the store.

    With --setup, with expectations and limits of alarms, and the derived channels. Every extreme is drawn,
    however many samples there are; gaps stay gaps. Times are those of the setup's zone, else UTC.

    Exit code 0: drawn. 2: usage, or a file that cannot be used.
    """
    from leitwerk.reports.canvas import new_figure, save
    from leitwerk.reports.mean_figures import FORMS, fill_means
    from leitwerk.reports.spread_figures import fill_spread
    from leitwerk.reports.time_figure import fill_figure

    checked = wanted.checked()
    series, about = wanted.read(checked)
    zone = wanted.zone(checked, about)
    events = [(local_moment(at, zone).timestamp(), text) for at, text in marks]
    shown = parse_panels(panels)
    source = Path(wanted.source)
    path = Path(target) if target else source.with_suffix(".png")
    traces = _traces(series, checked)
    for other in beside:
        more, _ = replace(wanted, source=other, begin=None, end=None).read(checked)
        shift = series.times_s[0] - more.times_s[0] if align == "start" else 0.0
        name = Path(other).stem
        traces += [
            replace(t, name=f"{t.name} {name}", times_s=t.times_s + shift)
            for t in _traces(more, checked)
        ]
    title = checked.setup.title if checked else about.title or source.name
    figure = new_figure()
    if form == "time":
        names = shown.names or _together(traces) if beside else shown.names
        fill_figure(
            figure, traces, title=title, panels=names, spans=shown.spans, events=events, zone=zone
        )
    elif form in FORMS:
        fill_means(figure, form, traces, title=title)
    else:
        fill_spread(figure, form, traces, title=title, zone=zone)
    save(figure, path)
    click.echo(f"{path}: {series.times_s.size:,} samples")
    if window:
        from leitwerk.reports.window import show_figure

        show_figure(figure, source.name)
    return FINE


def _traces(series: Series, checked: CheckedSetup | None) -> list[Trace]:
    """The columns, as the setup knows them, else by name and unit."""
    from leitwerk.reports.time_figure import Trace

    values = series.known()
    return [
        Trace(channel.name, channel, series.times_s, values[:, k])
        for k, channel in enumerate(_drawables(series, checked))
    ]


def _together(traces: Sequence[Trace]) -> tuple[tuple[str, ...], ...]:
    """The first two channels, each with its runs in one panel."""
    by_channel: dict[str, list[str]] = {}
    for trace in traces:
        by_channel.setdefault(trace.channel.name, []).append(trace.name)
    return tuple(tuple(names[:6]) for names in list(by_channel.values())[:2])


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
