"""What is added up by the clock: energies, volumes and costs of each hour, day or month."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.analysis.intervals import wall_clock_intervals
from leitwerk.analysis.series import Series
from leitwerk.analysis.steps import integrals
from leitwerk.analysis.summary import total_of, usual_interval, weights
from leitwerk.parsing.durations import DAY_S
from leitwerk.parsing.units import convert, parse_unit

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_COVERED = 0.999


@dataclass(frozen=True, slots=True)
class HighestMean:
    """The highest mean of an interval by the clock: a demand. In the channel's unit, from ``begin_s``."""

    value: float
    begin_s: float
    length_s: float


@dataclass(frozen=True)
class ChannelTotals:
    """One channel: what it adds up to in each period, in ``unit``, and in all.

    ``missing_s`` is the time of each period within the recording for which there is no value: what was then
    is in no total.
    """

    name: str
    label: str
    unit: str
    channel_unit: str
    totals: tuple[float, ...]
    missing_s: tuple[float, ...]
    highest: HighestMean | None = None

    @property
    def total(self) -> float:
        """Of all periods."""
        return math.fsum(self.totals)


@dataclass(frozen=True)
class PeriodTotals:
    """Channels added up over the same periods; ``edges_s`` has one entry more than there are periods."""

    each: str
    edges_s: tuple[float, ...]
    channels: tuple[ChannelTotals, ...]


def add_up(
    series: Series,
    names: Sequence[str],
    each: str,
    zone: ZoneInfo,
    *,
    highest_mean_s: float | None = None,
    labels: Callable[[str], str] = str,
) -> PeriodTotals:
    """Add up channels by the clock of a place.

    Powers and flows are integrated, each row for as long as it stands; of every other column the increases
    are added, and one that falls began anew at 0: a counter that was reset.

    Parameters
    ----------
    series : Series
    names : sequence of str
        Columns; those that the rows lack are left out.
    each : {"hour", "day", "month"}
    zone : ZoneInfo
        Whose clock it is.
    highest_mean_s : float, optional, in s
        For the highest mean of an interval of this length, of powers and flows.
    labels : callable
        What people call a channel.

    Raises
    ------
    QuantityError
        The length of the interval fits no clock, or there are too many periods.

    """
    times = series.times_s
    stands = weights(times, usual_interval(times))
    end_s = float(times[-1] + stands[-1])
    edges = _edges(float(times[0]), end_s, each, zone)
    inside = np.clip(edges, times[0], end_s)
    places = {column.name: k for k, column in enumerate(series.columns)}
    found = []
    for name in (name for name in names if name in places):
        unit, x = series.columns[places[name]].unit, series.good()[:, places[name]]
        rate = total_of(unit)
        highest = None
        if rate is None:
            totals, covered = _increases(times, x, stands, edges)
        else:
            per_second = np.asarray(convert(x, parse_unit(unit), parse_unit(rate.per_second)))
            area, covered = integrals(times, per_second, stands, edges)
            totals = area / rate.seconds
            if highest_mean_s is not None:
                highest = _highest(times, x, stands, highest_mean_s, zone)
        missing = np.maximum(np.diff(inside) - covered, 0.0)
        missing[missing < 1e-6 * np.diff(edges)] = 0.0
        found.append(
            ChannelTotals(
                name, labels(name), rate.unit if rate else unit, unit, tuple(totals.tolist()),
                tuple(missing.tolist()), highest,
            )
        )  # fmt: skip
    return PeriodTotals(each, tuple(edges.tolist()), tuple(found))


def _increases(times: Array, x: Array, stands: Array, edges: Array) -> tuple[Array, Array]:
    """What a counter has counted in each period; between two rows at a constant rate."""
    good = np.isfinite(x)
    _, covered = integrals(times, x, stands, edges)
    t, counts = times[good], x[good]
    if t.size < 2:
        return np.zeros(edges.size - 1), covered
    steps = np.diff(counts)
    steps = np.where(steps < 0.0, counts[1:], steps)
    run = np.concatenate(([0.0], np.cumsum(steps)))
    found: Array = np.diff(np.interp(edges, t, run))
    return found, covered


def _highest(
    times: Array, x: Array, stands: Array, length_s: float, zone: ZoneInfo
) -> HighestMean | None:
    begin, end = (datetime.fromtimestamp(t, UTC) for t in (times[0], times[-1] + stands[-1]))
    edges = wall_clock_intervals(begin, end, length_s, zone).edges
    area, covered = integrals(times, x, stands, edges)
    length = np.diff(edges)
    known = covered >= _COVERED * length
    if not known.any():
        return None
    means = np.where(known, area / np.where(known, covered, 1.0), -np.inf)
    k = int(np.argmax(means))
    return HighestMean(float(means[k]), float(edges[k]), float(length[k]))


def _edges(begin_s: float, end_s: float, each: str, zone: ZoneInfo) -> Array:
    begin = datetime.fromtimestamp(begin_s, UTC)
    end = datetime.fromtimestamp(end_s, UTC)
    if each != "month":
        length = 3600.0 if each == "hour" else DAY_S
        return wall_clock_intervals(begin, end, length, zone).edges
    local = begin.astimezone(zone)
    edge = datetime(local.year, local.month, 1, tzinfo=zone)
    found = [edge]
    while found[-1] < end:
        found.append((found[-1].replace(day=1) + timedelta(days=32)).replace(day=1))
    return np.array([one.timestamp() for one in found])
