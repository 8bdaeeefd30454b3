"""Limits that hold in a share of all intervals: 95 % of the 10-minute values within 207..253 V."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.steps import IntervalSums, Steps, steps_of
from leitwerk.errors import QuantityError
from leitwerk.evaluation.followers import FurthestOut
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.quantities import format_span
from leitwerk.parsing.units import parse_unit
from leitwerk.results import Outcome, overall
from leitwerk.setup.papers import JudgedShare

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_COVERED = 0.999  # an interval counts when so much of it holds values
_INTERVALS = 1_000_000


@dataclass(frozen=True)
class ChannelShare:
    """One channel: how many intervals there are, how many have a value, how many of those lie within.

    ``percentiles`` are those of 100 % less the share that is wanted, and of that share (nearest rank).
    ``flagged`` are further ones: an event fell into them, and they are counted nowhere else.
    ``low`` and ``high`` are the limits in the channel's unit. ``lowest`` and ``highest`` are those of all
    values of intervals, NaN without one.
    """

    name: str
    unit: str
    low: float
    high: float
    intervals: int
    known: int
    within: int
    lowest: float
    highest: float
    worst: FurthestOut | None
    outcome: Outcome
    flagged: int = 0
    percentiles: tuple[float, float] = (math.nan, math.nan)

    @property
    def share(self) -> float:
        """Share of the known intervals that lie within, 0..1; NaN without one."""
        return self.within / self.known if self.known else math.nan


@dataclass(frozen=True)
class ShareVerdict:
    """A named limit, judged. ``each_s`` is the interval in s, ``at_least`` the share that is wanted, 0..1."""

    name: str
    each_s: float
    value: str
    at_least: float
    channels: tuple[ChannelShare, ...]

    def lines(self) -> Iterator[str]:
        """What came of each channel, in words."""
        for c in self.channels:
            # Cut, not rounded: 94.999 % is less than 95 %.
            within = f"{math.floor(1e4 * c.share + 1e-6) / 100.0:g} %" if c.known else ""
            share = f"{within} of {c.known:,} values within" if c.known else "no value, within"
            missing = f", {c.intervals - c.known:,} missing" if c.known < c.intervals else ""
            missing += f", {c.flagged:,} flagged and left out" if c.flagged else ""
            yield (
                f"{self.name}: {c.name}: {c.outcome.value}: {share} {format_span(c.low, c.high, None)} "
                f"{c.unit} (each {duration_text(self.each_s)}, at least {100.0 * self.at_least:g} %){missing}"
            )

    @property
    def outcome(self) -> Outcome:
        """Of all channels together: the worst one decides."""
        return overall(channel.outcome for channel in self.channels)


class ShareJudge:
    """Judges limits that hold in a share of all intervals, piece by piece.

    Intervals begin at multiples of their length in UTC, as IEC 61000-4-30:2015, 4.5 has it for 10 min. Those
    at the ends that the recording does not hold whole are left out. An interval with a gap, or without a good
    value for some of it, is not known: a limit passes only if the share is reached without all of them, and
    fails only if it is missed even with all of them. An interval with a flagged value is left out, and is
    counted apart (IEC 61000-4-30:2015, 4.7).

    Raises
    ------
    QuantityError
        The limits do not fit the unit of a channel, or the intervals are too many.

    """

    def __init__(self, columns: Sequence[Column], judged: Mapping[str, JudgedShare]) -> None:
        self._judged = judged
        self._places = {column.name: k for k, column in enumerate(columns)}
        self._units = {column.name: column.unit for column in columns}
        self._limits: dict[tuple[str, str], tuple[float, float]] = {}
        self._sums: dict[tuple[str, float, str], IntervalSums] = {}
        for name, share in judged.items():
            for channel in share.channels:
                if channel in self._places:
                    unit = parse_unit(self._units[channel] or "1")
                    low, high = sorted(share.within.ends_in(unit))
                    self._limits[name, channel] = low, high
                    edges_of = partial(_edges, share.each.seconds)
                    self._sums.setdefault(_key(channel, share), IntervalSums(edges_of))
        self._flagged: dict[str, list[Array]] = {}
        self._begin_s = self._end_s = math.nan

    def take(self, steps: Steps) -> None:
        """Take the next rows."""
        if math.isnan(self._begin_s):
            self._begin_s = float(steps.times_s[0])
        self._end_s = steps.end_s
        for (channel, _, value), sums in self._sums.items():
            x = steps.values[:, self._places[channel]]
            sums.take(steps.times_s, x * x if value != "mean" else x, steps.stands_s)
        if steps.flagged is not None:
            for channel, place in self._places.items():
                rows = steps.flagged[:, place]
                if rows.any():
                    begins = steps.times_s[rows]
                    stands = np.stack([begins, begins + steps.stands_s[rows] - 1e-3])
                    self._flagged.setdefault(channel, []).append(stands.ravel())

    def verdicts(self) -> tuple[ShareVerdict, ...]:
        """What came of it."""
        return tuple(self._verdict(name, share) for name, share in self._judged.items())

    def _verdict(self, name: str, share: JudgedShare) -> ShareVerdict:
        at_least, each_s = share.share, share.each.seconds
        found = []
        for channel in share.channels:
            if channel not in self._places:
                found.append(absent_share(channel))
                continue
            edges, area, covered = self._sums[_key(channel, share)].found()
            whole = (edges[:-1] >= self._begin_s - 1e-6) & (edges[1:] <= self._end_s + 1e-6)
            begins, area, covered = edges[:-1][whole], area[whole], covered[whole]
            unflagged = ~np.isin(np.round(begins / each_s), self._numbers(channel, each_s))
            begins, area, covered = begins[unflagged], area[unflagged], covered[unflagged]
            known = covered >= _COVERED * each_s
            values = np.full(known.shape, np.nan)
            values[known] = area[known] / covered[known]
            if share.value != "mean":
                values = np.sqrt(values)
            limits = self._limits[name, channel]
            one = _channel(channel, self._units[channel], limits, begins, values, at_least)
            found.append(replace(one, flagged=int((~unflagged).sum())))
        return ShareVerdict(name, each_s, share.value, at_least, tuple(found))

    def _numbers(self, channel: str, each_s: float) -> Array:
        """The numbers of the intervals in which a value of a channel is flagged."""
        times = self._flagged.get(channel, [])
        return np.unique(np.floor(np.concatenate([np.zeros(0), *times]) / each_s + 1e-9))


def judge_shares(series: Series, judged: Mapping[str, JudgedShare]) -> tuple[ShareVerdict, ...]:
    """The verdicts on limits that hold in a share of all intervals: see ``ShareJudge``."""
    judge = ShareJudge(series.columns, judged)
    judge.take(steps_of(series))
    return judge.verdicts()


def absent_share(channel: str) -> ChannelShare:
    """Of a channel that the rows lack: nothing is known."""
    none = math.nan
    return ChannelShare(channel, "", none, none, 0, 0, 0, none, none, None, Outcome.UNKNOWN)


def _key(channel: str, share: JudgedShare) -> tuple[str, float, str]:
    return channel, share.each.seconds, share.value


def _edges(each_s: float, begin_s: float, end_s: float) -> Array:
    """The edges of the intervals that hold all of a time."""
    first, last = math.floor(begin_s / each_s + 1e-9), math.ceil(end_s / each_s - 1e-9)
    if last - first > _INTERVALS:
        raise QuantityError("these are too many intervals", valid=f"at most {_INTERVALS:,}")
    return each_s * np.arange(first, max(first + 1, last) + 1, dtype=np.float64)


def _percentiles(values: Array, share: float) -> tuple[float, float]:
    if not values.size:
        return math.nan, math.nan
    low, high = np.quantile(values, [1.0 - share, share], method="inverted_cdf")
    return float(low), float(high)


def _channel(
    name: str,
    unit: str,
    limits: tuple[float, float],
    begins: Array,
    values: Array,
    at_least: float,
) -> ChannelShare:
    low, high = limits
    known = np.isfinite(values)
    count, intervals = int(known.sum()), values.size
    within = int(((values >= low) & (values <= high)).sum())
    worst = None
    if count:
        beyond = np.where(known, np.maximum(low - values, values - high), -np.inf)
        k = int(np.argmax(beyond))
        worst = FurthestOut(float(values[k]), float(begins[k]), float(beyond[k]))
    wanted = at_least * intervals - 1e-9
    if not intervals or within >= wanted:
        outcome = Outcome.PASSED if intervals else Outcome.UNKNOWN
    else:
        outcome = Outcome.FAILED if within + intervals - count < wanted else Outcome.UNKNOWN
    return ChannelShare(
        name, unit, low, high, intervals, count, within,
        float(np.nanmin(values)) if count else math.nan,
        float(np.nanmax(values)) if count else math.nan, worst, outcome,
        percentiles=_percentiles(values[known], at_least),
    )  # fmt: skip
