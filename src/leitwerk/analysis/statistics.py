"""What is kept of the samples in each storage interval."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.intervals import Intervals
from leitwerk.analysis.levels import is_level, powers
from leitwerk.parsing.units import Unit
from leitwerk.signals.angles import deviation_of_directions, full_turn, mean_direction

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

STATISTICS = ("mean", "minimum", "maximum", "standard deviation", "last", "count")


def interval_statistics(
    times_s: ArrayLike,
    values: ArrayLike,
    intervals: Intervals,
    statistics: Sequence[str] = STATISTICS,
    *,
    unit: Unit | None = None,
    circular: bool = True,
) -> dict[str, NDArray[np.float64]]:
    """The statistics of each interval, by name.

    A sample on an edge belongs to the interval that begins there. Values that are NaN are bad and
    count nowhere. An interval without a good value has count 0 and NaN elsewhere; the standard
    deviation (with n - 1) of a single one is NaN.

    Parameters
    ----------
    times_s : array_like of shape (n,), in s since 1970-01-01 UTC
        In any order; ``last`` is the one with the latest time.
    values : array_like of shape (n,)
    statistics : sequence of str
        Some of ``STATISTICS``.
    unit : Unit, optional
        Of the values. Angles have a mean direction and a circular deviation, and neither minimum nor maximum;
        levels in dB have the mean of their powers.
    circular : bool
        Whether angles begin again after a full turn.

    Returns
    -------
    dict of arrays of shape (intervals.count,)

    """
    count = intervals.count
    times, every = np.asarray(times_s, dtype=np.float64), np.asarray(values, dtype=np.float64)
    x, counts = _by_interval(times, every, intervals)
    filled = np.flatnonzero(counts)
    first = (np.cumsum(counts) - counts)[filled].astype(np.intp)

    def spread(of_filled: NDArray[np.float64]) -> NDArray[np.float64]:
        spread_out = np.full(count, np.nan)
        spread_out[filled] = of_filled
        return spread_out

    if not filled.size:
        empty = np.full(count, np.nan)
        return {name: counts if name == "count" else empty.copy() for name in statistics}
    # The mean is taken of differences from the first value, and the deviations from the mean: sums
    # of large numbers would cancel.
    base = x[first]
    n = counts[filled]
    offsets = np.add.reduceat(x - np.repeat(base, n.astype(int)), first)
    mean = base + offsets / n
    found: dict[str, NDArray[np.float64]] = {"count": counts, "mean": spread(mean)}
    if "minimum" in statistics:
        found["minimum"] = spread(np.minimum.reduceat(x, first))
    if "maximum" in statistics:
        found["maximum"] = spread(np.maximum.reduceat(x, first))
    if "standard deviation" in statistics:
        squares = np.add.reduceat((x - np.repeat(mean, n.astype(int))) ** 2, first)
        with np.errstate(invalid="ignore", divide="ignore"):
            found["standard deviation"] = spread(np.sqrt(squares / (n - 1.0)))
    turn = full_turn(unit) if circular else 0.0
    if turn:
        pieces = np.split(x, first[1:])
        found["mean"] = spread(np.array([mean_direction(piece, turn) for piece in pieces]))
        deviations = np.array([deviation_of_directions(piece, turn) for piece in pieces])
        found["standard deviation"] = spread(deviations)
        found["minimum"] = found["maximum"] = np.full(count, np.nan)
    elif is_level(unit):
        found["mean"] = spread(10.0 * np.log10(np.add.reduceat(powers(x), first) / n))
    if "last" in statistics:
        found["last"] = spread(x[first + n.astype(int) - 1])
    return {name: found[name] for name in statistics}


def _by_interval(
    times: NDArray[np.float64], values: NDArray[np.float64], intervals: Intervals
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The good values in the order of time, and how many of them each interval has."""
    if (
        intervals.count
        and times.size
        and (times[1:] >= times[:-1]).all()
        and np.isfinite(values).all()
    ):
        begins = np.searchsorted(times, intervals.edges)
        return values[begins[0] : begins[-1]], np.diff(begins).astype(float)
    number = intervals.of(times)
    used = (number >= 0) & (number < intervals.count) & np.isfinite(values)
    t, x, number = times[used], values[used], number[used]
    if (t[1:] < t[:-1]).any():
        order = np.argsort(t, kind="stable")
        x, number = x[order], number[order]
    return x, np.bincount(number, minlength=intervals.count).astype(float)
