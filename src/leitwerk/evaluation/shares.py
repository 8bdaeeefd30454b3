"""Limits that hold in a share of all intervals: 95 % of the 10-minute values within 207..253 V."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.series import Series
from leitwerk.analysis.steps import integrals
from leitwerk.analysis.summary import usual_interval, weights
from leitwerk.errors import QuantityError
from leitwerk.evaluation.followers import FurthestOut
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

    @property
    def outcome(self) -> Outcome:
        """Of all channels together: the worst one decides."""
        return overall(channel.outcome for channel in self.channels)


def judge_shares(series: Series, judged: Mapping[str, JudgedShare]) -> tuple[ShareVerdict, ...]:
    """The verdicts on limits that hold in a share of all intervals.

    Intervals begin at multiples of their length in UTC, as IEC 61000-4-30:2015, 4.5 has it for 10 min. Those
    at the ends that the recording does not hold whole are left out. An interval with a gap, or without a good
    value for some of it, is not known: a limit passes only if the share is reached without all of them, and
    fails only if it is missed even with all of them.

    Raises
    ------
    QuantityError
        The limits do not fit the unit of a channel, or the intervals are too many.

    """
    interval_s = usual_interval(series.times_s)
    stands = weights(series.times_s, interval_s)
    return tuple(_judge(series, stands, name, one) for name, one in judged.items())


def _judge(series: Series, stands: Array, name: str, judged: JudgedShare) -> ShareVerdict:
    places = {column.name: k for k, column in enumerate(series.columns)}
    each_s = judged.each.seconds
    edges = _edges(series.times_s, stands, each_s)
    at_least = judged.at_least.value_in(parse_unit("1"))
    found = []
    for channel in judged.channels:
        if channel not in places:
            nothing = ChannelShare(channel, "", math.nan, math.nan, edges.size - 1, 0, 0, math.nan,
                                   math.nan, None, Outcome.UNKNOWN)  # fmt: skip
            found.append(nothing)
            continue
        k = places[channel]
        unit = series.columns[k].unit
        low, high = sorted(judged.within.ends_in(parse_unit(unit or "1")))
        by_square = judged.value == "root mean square"
        x = series.good()[:, k]
        area, covered = integrals(series.times_s, x * x if by_square else x, stands, edges)
        known = covered >= _COVERED * each_s
        values = np.full(known.shape, np.nan)
        values[known] = area[known] / covered[known]
        values = np.sqrt(values) if by_square else values
        found.append(_channel(channel, unit, (low, high), edges, values, at_least))
    return ShareVerdict(name, each_s, judged.value, at_least, tuple(found))


def _edges(times_s: Array, stands: Array, each_s: float) -> Array:
    """The edges of the intervals that lie within the recording."""
    first = math.ceil(times_s[0] / each_s - 1e-9)
    last = math.floor((times_s[-1] + stands[-1]) / each_s + 1e-9)
    if last - first > _INTERVALS:
        raise QuantityError("these are too many intervals", valid=f"at most {_INTERVALS:,}")
    return each_s * np.arange(first, max(first, last) + 1, dtype=np.float64)


def _channel(
    name: str,
    unit: str,
    limits: tuple[float, float],
    edges: Array,
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
        worst = FurthestOut(float(values[k]), float(edges[k]), float(beyond[k]))
    wanted = at_least * intervals - 1e-9
    if not intervals or within >= wanted:
        outcome = Outcome.PASSED if intervals else Outcome.UNKNOWN
    else:
        outcome = Outcome.FAILED if within + intervals - count < wanted else Outcome.UNKNOWN
    return ChannelShare(
        name, unit, low, high, intervals, count, within,
        float(np.nanmin(values)) if count else math.nan,
        float(np.nanmax(values)) if count else math.nan, worst, outcome,
    )  # fmt: skip
