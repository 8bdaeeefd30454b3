"""Figures of how values spread: histogram, duration curve, and a map of the hours of each day."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

import numpy as np
from matplotlib import dates

from leitwerk.analysis.intervals import wall_seconds
from leitwerk.analysis.summary import usual_interval, weights
from leitwerk.errors import QuantityError
from leitwerk.reports.canvas import BLUE, GREEN, GREY, ORANGE, VERMILION
from leitwerk.reports.time_figure import Trace, limits_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

FORMS = ("histogram", "duration", "days")
_BINS, _MOST = 60, 6
_COLOURS = (BLUE, VERMILION, GREEN, ORANGE, GREY, "#000000")
_DAY_S, _HOUR_S = 86_400.0, 3600.0


def fill_spread(
    figure: Figure, form: str, traces: Sequence[Trace], *, title: str, zone: ZoneInfo
) -> None:
    """Draw how values spread on a figure, in place of what is on it; a panel for each channel.

    Parameters
    ----------
    figure : matplotlib.figure.Figure
    form : str
        ``histogram``: for how long values lay where. ``duration``: the part of the time in which a value was
        exceeded. ``days``: the mean of each hour of each day, as the clock of the place shows it.
    traces : sequence of Trace
        Six at most; those with states are left out.
    title : str
    zone : ZoneInfo

    Raises
    ------
    QuantityError
        There is nothing to draw, too much of it, or no such form.

    """
    shown = [t for t in traces if t.channel.states is None and np.isfinite(t.values).any()]
    if form not in FORMS:
        raise QuantityError(f"there is no figure {form[:30]!r}", valid=", ".join(FORMS))
    if not 1 <= len(shown) <= _MOST:
        raise QuantityError(
            f"{len(shown)} channels with numbers cannot be drawn so",
            valid="1 to 6",
            remedy="--channel NAME",
        )
    figure.clear()
    columns = 1 if len(shown) == 1 else 2
    grid = figure.subplots(-(-len(shown) // columns), columns, squeeze=False).ravel()
    for axes in grid[len(shown) :]:
        axes.set_visible(False)
    for k, (axes, trace) in enumerate(zip(grid, shown, strict=False)):
        spent = weights(trace.times_s, usual_interval(trace.times_s))
        good = np.isfinite(trace.values)
        if form == "days":
            _days(figure, axes, trace, zone)
        else:
            draw = _histogram if form == "histogram" else _duration
            draw(axes, trace, trace.values[good], spent[good] / _HOUR_S, _COLOURS[k])
        axes.set_title(trace.name, fontsize=11)
    figure.suptitle(title, fontsize=13)
    figure.tight_layout()


def _histogram(axes: Axes, trace: Trace, values: Array, hours: Array, colour: str) -> None:
    axes.hist(values, bins=_BINS, weights=hours, color=colour, alpha=0.8)
    for limit in limits_of(trace.channel):
        axes.axvline(limit, color=VERMILION, linewidth=1, linestyle="--")
    axes.set_xlabel(str(trace.channel.unit))
    axes.set_ylabel("h")
    axes.grid(visible=True, alpha=0.3)


def _duration(axes: Axes, trace: Trace, values: Array, hours: Array, colour: str) -> None:
    """IEV 691-01: the ordered values, over the part of the time in which each was exceeded."""
    order = np.argsort(-values, kind="stable")
    part = 100.0 * np.cumsum(hours[order]) / max(float(hours.sum()), 1e-300)
    step = max(1, values.size // 4000)
    axes.plot(part[::step], values[order][::step], color=colour, linewidth=1.4)
    for limit in limits_of(trace.channel):
        axes.axhline(limit, color=VERMILION, linewidth=1, linestyle="--")
    axes.set_xlim(0.0, 100.0)
    axes.set_xlabel("% of the time, in which the value was exceeded")
    axes.set_ylabel(str(trace.channel.unit))
    axes.grid(visible=True, alpha=0.3)


def _days(figure: Figure, axes: Axes, trace: Trace, zone: ZoneInfo) -> None:
    day, table = hours_of_days(trace.times_s, trace.values, zone)
    edges = np.arange(day, day + table.shape[0] + 1)
    mesh = axes.pcolormesh(edges.astype(float), np.arange(25), table.T, cmap="viridis")
    axes.xaxis.set_major_locator(dates.AutoDateLocator(maxticks=8))  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_formatter(dates.DateFormatter("%m-%d"))  # type: ignore[no-untyped-call]
    axes.set_yticks(range(0, 25, 6))
    axes.set_ylabel(f"hour, {zone.key}")
    figure.colorbar(mesh, ax=axes, label=str(trace.channel.unit))


def hours_of_days(times_s: Array, values: Array, zone: ZoneInfo) -> tuple[int, Array]:
    """The mean of each hour of each day by the clock of a place.

    Returns
    -------
    day : int
        The first day, counted from 1970-01-01.
    table : array of shape (n_days, 24)
        NaN where there is no good value. An hour that comes twice is one.

    """
    good = np.isfinite(values)
    wall = wall_seconds(times_s[good], zone)
    days = np.floor(wall / _DAY_S).astype(np.int64)
    first = int(days.min())
    count = int(days.max()) - first + 1
    place = (days - first) * 24 + np.floor((wall % _DAY_S) / _HOUR_S).astype(np.int64)
    sums = np.bincount(place, values[good], minlength=24 * count)
    counts = np.bincount(place, minlength=24 * count)
    with np.errstate(invalid="ignore"):
        return first, (sums / counts).reshape(count, 24)
