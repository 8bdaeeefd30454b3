"""What is added up by the clock: energies, volumes and costs of each hour, day or month."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.analysis.intervals import wall_clock_intervals
from leitwerk.analysis.series import Column, Series, utc_text
from leitwerk.analysis.steps import IntervalSums, Steps, steps_of
from leitwerk.analysis.summary import total_of
from leitwerk.derived.tariffs import parse_tariff
from leitwerk.parsing.durations import DAY_S, duration_text
from leitwerk.parsing.quantities import format_number
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
    is in no total. ``by_tariff`` is what it adds up to within each tariff.
    """

    name: str
    label: str
    unit: str
    channel_unit: str
    totals: tuple[float, ...]
    missing_s: tuple[float, ...]
    highest: HighestMean | None = None
    by_tariff: tuple[float, ...] = ()

    def lines(self) -> Iterator[str]:
        """What a summary of the rows does not say: increases of a counter, and the highest mean."""
        if self.unit == self.channel_unit:
            yield f"{self.name}: {format_number(self.total, 6)} {self.unit}".rstrip() + " in all"
        if self.highest is not None:
            value = f"{format_number(self.highest.value, 5)} {self.channel_unit}"
            lasts, begin = duration_text(self.highest.length_s), utc_text(self.highest.begin_s)
            yield f"{self.name}: highest mean of {lasts} {value}, from {begin}"

    @property
    def total(self) -> float:
        """Of all periods."""
        return math.fsum(self.totals)


@dataclass(frozen=True)
class PeriodTotals:
    """Channels added up over the same periods; ``edges_s`` has one entry more than there are periods.

    ``tariffs`` are the names of those within which they are added up, too.
    """

    each: str
    edges_s: tuple[float, ...]
    channels: tuple[ChannelTotals, ...]
    tariffs: tuple[str, ...] = ()

    def tariff_lines(self) -> Iterator[str]:
        """What each channel adds up to within each tariff."""
        for channel in self.channels:
            for name, total in zip(self.tariffs, channel.by_tariff, strict=False):
                amount = f"{format_number(total, 6)} {channel.unit}".rstrip()
                yield f"{channel.name}, {name}: {amount}"


class Adder:
    """Adds up channels by the clock of a place, piece by piece.

    Powers and flows are integrated, each row for as long as it stands; of every other column the increases
    are added, and one that falls began anew at 0: a counter that was reset.

    Parameters
    ----------
    columns : sequence of Column
        Of the rows.
    names : sequence of str
        Those to add up; what the rows lack is left out.
    each : {"hour", "day", "month"}
    zone : ZoneInfo
        Whose clock it is.
    highest_mean_s : float, optional, in s
        For the highest mean of an interval of this length, of powers and flows.
    labels : callable
        What people call a channel.
    tariffs : mapping, optional
        Days and times that are added up apart, by name; see ``parse_tariff``.
    holidays : sequence of str

    Raises
    ------
    QuantityError
        The length of the interval fits no clock, or there are too many periods.

    """

    def __init__(
        self,
        columns: Sequence[Column],
        names: Sequence[str],
        each: str,
        zone: ZoneInfo,
        *,
        highest_mean_s: float | None = None,
        labels: Callable[[str], str] = str,
        tariffs: Mapping[str, str] | None = None,
        holidays: Sequence[str] = (),
    ) -> None:
        self._each, self._zone, self._mean_s, self._labels = each, zone, highest_mean_s, labels
        self._tariffs = None if not tariffs else _Tariffs(tariffs, holidays, zone)
        places = {column.name: k for k, column in enumerate(columns)}
        self._edges_of = partial(_edges, each, zone)
        self._columns = [
            _AddedColumn(
                columns[places[name]],
                places[name],
                self._edges_of,
                zone,
                highest_mean_s,
                self._tariffs,
            )
            for name in names
            if name in places
        ]
        self._begin_s = self._end_s = math.nan

    def take(self, steps: Steps) -> None:
        """Take the next rows."""
        if math.isnan(self._begin_s):
            self._begin_s = float(steps.times_s[0])
        self._end_s = steps.end_s
        for column in self._columns:
            column.take(steps)

    def totals(self) -> PeriodTotals:
        """What came of it."""
        if math.isnan(self._begin_s):
            return PeriodTotals(self._each, (), ())
        edges = self._edges_of(self._begin_s, self._end_s)
        inside = np.diff(np.clip(edges, self._begin_s, self._end_s))
        found = tuple(column.totals(edges, inside, self._labels) for column in self._columns)
        names = () if self._tariffs is None else self._tariffs.names
        return PeriodTotals(self._each, tuple(edges.tolist()), found, names)


class _Tariffs:
    """Days and times that are added up apart."""

    def __init__(self, tariffs: Mapping[str, str], holidays: Sequence[str], zone: ZoneInfo) -> None:
        self.names = tuple(tariffs)
        # What is a price elsewhere is the number of the tariff here.
        rows = [(text, float(k)) for k, text in enumerate(tariffs.values())]
        self._tariff, self._zone = parse_tariff(rows, holidays, zone.key), zone

    def edges(self, begin_s: float, end_s: float) -> Array:
        """Where tariffs begin, so that they hold all of a time."""
        return self._reach(begin_s, end_s)[0]

    def sums(self, sums: IntervalSums) -> Array:
        """What was added up within each tariff."""
        edges, amounts, _ = sums.found()
        if not amounts.size:
            return np.zeros(len(self.names))
        numbers = self._reach(float(edges[0]), float(edges[-1]) - 1.0)[1][: amounts.size]
        return np.bincount(numbers.astype(np.intp), amounts, len(self.names)).astype(np.float64)

    def _reach(self, begin_s: float, end_s: float) -> tuple[Array, Array]:
        day = timedelta(days=1)
        first, last = (datetime.fromtimestamp(s, self._zone).date() for s in (begin_s, end_s))
        times, numbers = self._tariff.edges(first - day, last + day)
        low = int(np.searchsorted(times, begin_s, side="right")) - 1
        high = int(np.searchsorted(times, end_s, side="left"))
        return times[low : high + 1], numbers[low : high + 1]


class _AddedColumn:
    """One channel that is added up."""

    def __init__(
        self,
        column: Column,
        place: int,
        edges_of: Callable[[float, float], Array],
        zone: ZoneInfo,
        mean_s: float | None,
        tariffs: _Tariffs | None,
    ) -> None:
        self._column, self._place, self._rate = column, place, total_of(column.unit)
        self._known, self._sums = IntervalSums(edges_of), IntervalSums(edges_of)
        self._means = None
        if mean_s is not None and self._rate is not None:
            self._means = IntervalSums(partial(_clock_edges, mean_s, zone))
        self._mean_s = mean_s
        self._tariffs = tariffs
        self._by_tariff = None if tariffs is None else IntervalSums(tariffs.edges)
        self._last: tuple[float, float] | None = None  # of a counter: when, and what it showed

    def take(self, steps: Steps) -> None:
        x = steps.values[:, self._place]
        self._known.take(steps.times_s, x, steps.stands_s)
        if self._rate is None:
            self._count(steps.times_s, x)
            return
        unit, per_second = parse_unit(self._column.unit), parse_unit(self._rate.per_second)
        self._add(steps.times_s, np.asarray(convert(x, unit, per_second)), steps.stands_s)
        if self._means is not None:
            self._means.take(steps.times_s, x, steps.stands_s)

    def _count(self, times: Array, x: Array) -> None:
        """Take what a counter shows: between two rows it counts at a constant rate."""
        good = np.isfinite(x)
        t, counts = times[good], x[good]
        if self._last is not None:
            t, counts = np.append(self._last[0], t), np.append(self._last[1], counts)
        if not t.size:
            return
        self._last = float(t[-1]), float(counts[-1])
        added = np.diff(counts)
        added = np.where(added < 0.0, counts[1:], added)
        lasts = np.diff(t)
        passed = lasts > 0.0
        self._add(t[:-1][passed], added[passed] / lasts[passed], lasts[passed])

    def _add(self, times_s: Array, per_second: Array, stands_s: Array) -> None:
        self._sums.take(times_s, per_second, stands_s)
        if self._by_tariff is not None:
            self._by_tariff.take(times_s, per_second, stands_s)

    def totals(self, edges: Array, inside: Array, labels: Callable[[str], str]) -> ChannelTotals:
        rate, name = self._rate, self._column.name
        sums = _spread(self._sums, edges, 1)
        missing = np.maximum(inside - _spread(self._known, edges, 2), 0.0)
        missing[missing < 1e-6 * np.diff(edges)] = 0.0
        seconds, by_tariff = rate.seconds if rate else 1.0, tuple[float, ...]()
        if self._tariffs is not None and self._by_tariff is not None:
            by_tariff = tuple((self._tariffs.sums(self._by_tariff) / seconds).tolist())
        return ChannelTotals(
            name, labels(name), rate.unit if rate else self._column.unit, self._column.unit,
            tuple((sums / seconds).tolist()), tuple(missing.tolist()), self._highest(), by_tariff,
        )  # fmt: skip

    def _highest(self) -> HighestMean | None:
        if self._means is None:
            return None
        edges, area, covered = self._means.found()
        length = np.diff(edges)
        known = covered >= _COVERED * length
        if not known.any():
            return None
        means = np.where(known, area / np.where(known, covered, 1.0), -np.inf)
        k = int(np.argmax(means))
        return HighestMean(float(means[k]), float(edges[k]), float(length[k]))


def _spread(sums: IntervalSums, edges: Array, which: int) -> Array:
    """The sums (1) or covered times (2) of all periods; 0 in those without rows."""
    own = sums.found()
    found = np.zeros(edges.size - 1)
    found[np.searchsorted(edges, own[0][:-1])] = own[which]
    return found


def add_up(
    series: Series, names: Sequence[str], each: str, zone: ZoneInfo, **more: Any
) -> PeriodTotals:
    """Add up channels of a recording by the clock of a place: see ``Adder``."""
    adder = Adder(series.columns, names, each, zone, **more)
    adder.take(steps_of(series))
    return adder.totals()


def _edges(each: str, zone: ZoneInfo, begin_s: float, end_s: float) -> Array:
    if each != "month":
        return _clock_edges(3600.0 if each == "hour" else DAY_S, zone, begin_s, end_s)
    end = datetime.fromtimestamp(end_s, UTC)
    local = datetime.fromtimestamp(begin_s, zone)
    found = [datetime(local.year, local.month, 1, tzinfo=zone)]
    while found[-1] < end or len(found) < 2:
        found.append((found[-1].replace(day=1) + timedelta(days=32)).replace(day=1))
    return np.array([one.timestamp() for one in found])


def _clock_edges(length_s: float, zone: ZoneInfo, begin_s: float, end_s: float) -> Array:
    begin, end = (datetime.fromtimestamp(t, UTC) for t in (begin_s, end_s))
    return wall_clock_intervals(begin, end, length_s, zone).edges
