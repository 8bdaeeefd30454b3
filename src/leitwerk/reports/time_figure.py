"""Figures of channels over time: with expectation, alarm lines, gaps and events; also on axes of your own."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol
from zoneinfo import ZoneInfo

import numpy as np
from matplotlib import dates

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.analysis.reduction import reduced
from leitwerk.errors import QuantityError
from leitwerk.parsing.units import Unit, convert
from leitwerk.reports.canvas import BLUE, GREEN, GREY, ORANGE, VERMILION, new_figure, save
from leitwerk.signals.states import StateNames

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

Events = Sequence[tuple[float, str]]
Spans = Sequence[tuple[float, float] | None]


class Drawable(Protocol):
    """What is drawn: a channel of a setup, or a bare ``Curve``."""

    @property
    def name(self) -> str:
        """Its name."""

    @property
    def unit(self) -> Unit:
        """Of its values."""

    @property
    def expected(self) -> tuple[float, float] | None:
        """Its expectation and the tolerance of it."""

    @property
    def alarms(self) -> Sequence[AlarmDefinition]:
        """Its alarms."""

    @property
    def states(self) -> StateNames | None:
        """The names of its values, if they are states."""

    @property
    def turn(self) -> float:
        """A full turn, if its values are angles that begin again; else 0."""


@dataclass(frozen=True, slots=True)
class Curve:
    """Values of which only name and unit are known."""

    name: str
    unit: Unit
    expected: tuple[float, float] | None = None
    alarms: Sequence[AlarmDefinition] = ()
    states: StateNames | None = None
    turn: float = 0.0


COLUMNS = 1280  # a line has no more points than that can show
_COLOURS = (BLUE, VERMILION, GREEN, ORANGE, GREY)
_PANELS, _SHARED = 2, 6  # panels of a figure, and channels in each
_GAP_INTERVALS = 5.0
_UTC = ZoneInfo("UTC")


def plot_channel(
    axes: Axes,
    channel: Drawable,
    times_s: Array,
    values: Array,
    *,
    unit: Unit | None = None,
    colour: str = BLUE,
    zone: ZoneInfo = _UTC,
    label: str = "",
) -> None:
    """Draw one channel over time: its line, its expectation, the limits of its alarms.

    Any number of samples is reduced to what can be seen; every extreme stays. Samples further apart than five
    intervals are not joined.

    Parameters
    ----------
    axes : matplotlib.axes.Axes
    channel : CheckedChannel or Curve
    times_s : array of shape (n,), in s since 1970-01-01 UTC
    values : array of shape (n,), in the channel's unit
        NaN where there is no value.
    unit : Unit, optional
        In which it is drawn; its own, if not given.
    colour : str
        Of the line.
    zone : ZoneInfo
        Of the times at the axis.
    label : str
        Of the line; the channel's name, if not given.

    """
    shown = unit or channel.unit

    def to_shown(numbers: Array) -> Array:
        found: Array = np.asarray(convert(numbers, channel.unit, shown), np.float64)
        return found

    if np.any(np.diff(times_s) < 0.0):  # a clock was set back
        order = np.argsort(times_s, kind="stable")
        times_s, values = times_s[order], values[order]
    intervals = np.diff(times_s)
    gap_s = _GAP_INTERVALS * float(np.median(intervals)) if intervals.size else math.inf
    t, x = reduced(times_s, values, COLUMNS, gap_s=gap_s)
    t, x = _broken_at_turns(t, x, channel.turn)
    # A state stays until the next row: a slope between two of them would be a state that there is not.
    form = "default" if channel.states is None else "steps-post"
    axes.plot(
        _moments(t),
        to_shown(x),
        color=colour,
        linewidth=1.1,
        label=label or channel.name,
        drawstyle=form,
    )
    if channel.expected is not None:
        expected, tolerance = channel.expected
        low, middle, high = to_shown(
            np.array([expected - tolerance, expected, expected + tolerance])
        ).tolist()
        axes.axhspan(low, high, color=GREEN, alpha=0.15, linewidth=0)
        axes.axhline(middle, color=GREEN, linewidth=1, alpha=0.7)
    for alarm in channel.alarms:
        for limit in to_shown(np.array(_limits(alarm))).tolist():
            axes.axhline(limit, color=VERMILION, linewidth=1, linestyle="--")
            name = axes.annotate(
                alarm.name, (1.0, limit), xycoords=("axes fraction", "data"), ha="right", va="bottom",
                fontsize=9, color=VERMILION,
            )  # fmt: skip
            name.set_in_layout(False)  # an axis of one's own may end before the limit
    if channel.states is not None:
        axes.set_yticks(channel.states.numbers, channel.states.names)
    else:
        axes.set_ylabel(str(shown))
    locator = dates.AutoDateLocator(tz=zone)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator, tz=zone))  # type: ignore[no-untyped-call]
    axes.grid(visible=True, alpha=0.3)


def _broken_at_turns(times_s: Array, values: Array, turn: float) -> tuple[Array, Array]:
    """A line of angles, interrupted where it begins again after a full turn."""
    if not turn:
        return times_s, values
    at = np.flatnonzero(np.abs(np.diff(values)) > turn / 2.0) + 1
    return np.insert(times_s, at, times_s[at]), np.insert(values, at, np.nan)


def _moments(times_s: Array) -> Any:
    """Times as Matplotlib takes them."""
    return np.round(times_s * 1000.0).astype("datetime64[ms]")


def limits_of(channel: Drawable) -> list[float]:
    """The values at which the alarms of a channel trip, in its unit."""
    return [limit for alarm in channel.alarms for limit in _limits(alarm)]


def _limits(alarm: AlarmDefinition) -> list[float]:
    """The values at which an alarm on the value itself trips."""
    if alarm.watch is not Watch.VALUE:
        return []
    return [end for end in alarm.trip if math.isfinite(end)]


@dataclass(frozen=True)
class Trace:
    """A channel with its samples: times of shape (n,) in s since 1970-01-01 UTC, values in its unit."""

    name: str
    channel: Drawable
    times_s: Array
    values: Array


def draw_channels(
    channels: Sequence[Drawable],
    times_s: Array,
    values: Array,
    path: str | Path,
    *,
    title: str = "",
    panels: Sequence[Sequence[str]] = (),
    spans: Spans = (),
    units: Mapping[str, Unit] | None = None,
    events: Events = (),
    zone: ZoneInfo = _UTC,
) -> Figure:
    """Draw channels over time into a PNG or SVG file, in one or two panels.

    Parameters
    ----------
    channels : sequence of CheckedChannel or Curve
    times_s : array of shape (n,), in s since 1970-01-01 UTC
    values : array of shape (n, n_channels)
        In the channels' units, NaN where there is no value.
    path : str or Path
    title, panels, spans, units, events, zone
        As for ``fill_figure``.

    Raises
    ------
    QuantityError
        A panel names no channel, or too many.
    FileProblem
        The file cannot be written.

    """
    figure = new_figure()
    traces = [Trace(c.name, c, times_s, values[:, k]) for k, c in enumerate(channels)]
    fill_figure(
        figure,
        traces,
        title=title,
        panels=panels,
        spans=spans,
        units=units,
        events=events,
        zone=zone,
    )
    save(figure, path)
    return figure


def fill_figure(
    figure: Figure,
    traces: Sequence[Trace],
    *,
    title: str = "",
    panels: Sequence[Sequence[str]] = (),
    spans: Spans = (),
    units: Mapping[str, Unit] | None = None,
    events: Events = (),
    zone: ZoneInfo = _UTC,
) -> None:
    """Draw channels over time on a figure, in place of what is on it.

    Parameters
    ----------
    figure : matplotlib.figure.Figure
    traces : sequence of Trace
        Each may have times of its own.
    title : str
    panels : sequence of sequences of names
        Which traces stand together, in one or two panels; those of one unit, if not given.
    spans : sequence of (low, high) or None
        What the upright axis of each panel shows, in its unit; what fits, if not given.
    units : mapping from name to Unit, optional
        In which traces are drawn.
    events : sequence of (time in s, text)
        Each is marked by an upright line.
    zone : ZoneInfo

    Raises
    ------
    QuantityError
        A panel names no trace, or too many.

    """
    place = {trace.name: trace for trace in traces}
    wanted = chosen_panels(traces, panels)
    figure.clear()
    grid = figure.subplots(len(wanted), 1, squeeze=False, sharex=True)[:, 0]
    for axes, panel in zip(grid, wanted, strict=True):
        for number, name in enumerate(panel):
            trace = place[name]
            plot_channel(
                axes, trace.channel, trace.times_s, trace.values, unit=(units or {}).get(name),
                colour=_COLOURS[number % len(_COLOURS)], zone=zone, label=name,
            )  # fmt: skip
        shown = [(units or {}).get(name) or place[name].channel.unit for name in panel]
        if len(panel) > 1 and all(place[name].channel.states is None for name in panel):
            axes.set_ylabel(", ".join(dict.fromkeys(map(str, shown))))
        axes.legend(loc="upper left", fontsize=10, framealpha=0.8)
        for at, text in events:
            (day,) = _moments(np.array([at]))
            axes.axvline(day, color=GREY, linewidth=1, linestyle=":")
            axes.annotate(
                text,
                (day, 1.0),
                xycoords=("data", "axes fraction"),
                fontsize=9,
                rotation=90,
                va="top",
            )
    for axes, span in zip(grid, spans, strict=False):
        if span is not None:
            axes.set_ylim(*span)
    grid[-1].set_xlabel(f"time, {zone.key}")
    figure.suptitle(title, fontsize=13)
    figure.tight_layout()


def chosen_panels(traces: Sequence[Trace], panels: Sequence[Sequence[str]] = ()) -> list[list[str]]:
    """The names of the traces in each panel: as asked for, or those of one unit together.

    Raises
    ------
    QuantityError
        A panel names no trace, or too many.

    """
    names = [trace.name for trace in traces]
    wanted = [list(panel) for panel in panels if panel] or _usual_panels(traces)
    for name in (name for panel in wanted for name in panel):
        if name not in names:
            raise QuantityError(f"there is no channel {name!r}", valid=", ".join(names))
    if len(wanted) > _PANELS or any(len(panel) > _SHARED for panel in wanted):
        raise QuantityError(
            "a figure has one or two panels, each of six channels at most",
            valid="fewer channels, or another figure",
        )
    return wanted


def _usual_panels(traces: Sequence[Trace]) -> list[list[str]]:
    """Traces of the first unit in one panel, and those of the next in another."""
    by_unit: dict[str, list[str]] = {}
    for trace in traces:
        channel = trace.channel
        key = trace.name if channel.states is not None else str(channel.unit)
        by_unit.setdefault(key, []).append(trace.name)
    return [names[:_SHARED] for names in list(by_unit.values())[:_PANELS]]
