"""The numbers of each column of a long recording, gathered piece by piece."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from leitwerk.analysis.levels import is_level, level_of, powers
from leitwerk.errors import DomainError
from leitwerk.parsing.units import Unit, convert, parse_unit
from leitwerk.signals.angles import Directions

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]
    T = TypeVar("T", bound=np.generic)

PERCENTILES = (5.0, 25.0, 50.0, 75.0, 95.0)
GAP_INTERVALS = 1.5  # samples further apart than so many intervals have a gap between them
_BINS = 4096
_PART = 1 << 15
JUDGED_ROWS = 10_000  # of the first rows: what interval is usual
# USP <1079.2>: 83.144 kJ/mol over the gas constant.
_ACTIVATION_K = 83.144e3 / 8.314462618
_USUAL_K = 293.15


@dataclass(frozen=True, slots=True)
class Rate:
    """A power or a flow, and its total: the integral in ``per_second``, over ``seconds``, is in ``unit``."""

    unit: str
    per_second: str
    seconds: float = 1.0


_RATES = {
    "volume flow": Rate("m³", "m³/s"),
    "power": Rate("kWh", "kW", 3600.0),
    "mass flow": Rate("kg", "kg/s"),
}


def total_of(symbol: str) -> Rate | None:
    """The total of a column in this unit; None where it is neither a power nor a flow."""
    return _RATES.get(parse_unit(symbol).dimension) if symbol else None


@dataclass(frozen=True, slots=True)
class ColumnSummary:
    """One column, in its unit; NaN where there is nothing to say.

    ``count`` are the good values, ``missing`` the rows without one. ``percentiles`` are those of
    ``PERCENTILES``. ``mean_kinetic`` is the mean kinetic temperature of a column of temperatures. The mean of
    levels in dB is that of their powers, each counted by its time: of equivalent levels, the level of the
    whole; ``arithmetic`` is the mean of their numbers. Angles have a mean direction and a circular deviation,
    and neither extremes nor percentiles. ``total`` is what flowed in all, in
    ``total_unit``, in the ``known_s`` for which there are values.
    """

    count: int
    missing: int
    mean: float
    deviation: float
    minimum: float
    maximum: float
    first: float
    last: float
    percentiles: tuple[float, ...]
    mean_kinetic: float = math.nan
    total: float = math.nan
    total_unit: str = ""
    arithmetic: float = math.nan
    known_s: float = 0.0


class ColumnNumbers:
    """Gathers the numbers of one column, piece by piece; memory does not grow.

    Parameters
    ----------
    unit : Unit, optional
        For totals, the mean kinetic temperature and equivalent levels.
    turn : float
        A full turn, where the column holds angles that begin again after it.
    with_histogram : bool
        Whether values are counted for percentiles.

    References
    ----------
    Means and squares of pieces are joined by Chan, Golub and LeVeque, Updating formulae and a pairwise
    algorithm for computing sample variances, Stanford 1979. Mean kinetic temperature: USP <1079.2>, with
    83.144 kJ/mol.

    """

    def __init__(
        self, unit: Unit | None = None, *, turn: float = 0.0, with_histogram: bool = False
    ) -> None:
        self.histogram = Histogram() if with_histogram and not turn else None
        self._directions = Directions(turn) if turn else None
        self.count, self.missing = 0, 0
        self.mean, self._squares = 0.0, 0.0
        self.minimum, self.maximum = math.nan, math.nan
        self.first, self.last = math.nan, math.nan
        self._unit = unit
        # In K stand differences, too.
        self._is_temperature = (
            unit is not None and unit.dimension == "temperature" and unit.offset != 0
        )
        self._is_level = is_level(unit)
        self._rate = None if unit is None else _RATES.get(unit.dimension)
        self._rates, self._weights = 0.0, 0.0

    def take(self, values: Array) -> None:
        """Take values, NaN where there is no good one."""
        x, total = values, float(values.sum())
        if math.isnan(total):  # only then is it worth to look at each
            x = values[~np.isnan(values)]
            total = float(x.sum())
        count = x.size
        self.missing += values.size - count
        if not count:
            return
        if self._directions is not None:
            self._directions.take(x)
        mean, squares = total / count, 0.0
        low, high = math.inf, -math.inf
        for part in _parts(x):
            offsets = part - mean
            squares += float(np.dot(offsets, offsets))
            low, high = min(low, float(part.min())), max(high, float(part.max()))
        if not self.count:
            self.first, self.minimum, self.maximum = float(x[0]), low, high
        both = self.count + count
        step = mean - self.mean
        self._squares += squares + step * step * self.count * count / both
        self.mean += step * count / both
        self.count, self.last = both, float(x[-1])
        self.minimum, self.maximum = min(self.minimum, low), max(self.maximum, high)
        if self.histogram is not None:
            self.histogram.take(x, low, high)

    def take_weighted(self, values: Array, weights_s: Array) -> None:
        """Take values again, that stand for so long, in s: for totals and means of another kind.

        ``weights_s`` of shape (1,) is that of each value.
        """
        unit = self._unit
        if unit is None or not (self._is_temperature or self._is_level or self._rate):
            return
        x, w = values, weights_s
        if self.missing:
            good = ~np.isnan(values)
            x, w = values[good], weights_s if weights_s.size == 1 else weights_s[good]
        even = w.size == 1
        self._weights += float(w[0]) * x.size if even else float(w.sum())
        for begin in range(0, x.size, _PART):
            rates = self._rate_of(x[begin : begin + _PART], unit)
            self._rates += (
                float(w[0]) * float(rates.sum(dtype=np.float64))
                if even
                else float(np.dot(rates.astype(np.float64, copy=False), w[begin : begin + _PART]))
            )

    def _rate_of(self, x: Array, unit: Unit) -> NDArray[Any]:
        """What is averaged, or added up, of each value."""
        if self._is_level:
            return powers(x)
        if self._rate is not None:
            return np.asarray(convert(x, unit, parse_unit(self._rate.per_second)))
        # Rates are those relative to 20 °C. Single precision leaves less than 0.1 mK of error.
        kelvin = x.astype(np.float32)
        if unit.factor != 1.0:
            kelvin *= np.float32(unit.factor)
        kelvin += np.float32(unit.offset)
        np.maximum(kelvin, 1.0, out=kelvin)
        np.divide(-_ACTIVATION_K, kelvin, out=kelvin)
        kelvin += np.float32(_ACTIVATION_K / _USUAL_K)
        return np.exp(kelvin, out=kelvin)

    def numbers(self, percentiles: tuple[float, ...]) -> ColumnSummary:
        """All of it; the percentiles are found apart from this."""
        kinetic, total, arithmetic = math.nan, math.nan, math.nan
        mean = self.mean if self.count else math.nan
        if self._is_level and self._rates > 0.0:
            mean, arithmetic = level_of(self._rates / self._weights), mean
        elif self._is_temperature and self._weights > 0.0 and self._unit is not None:
            rate = math.log(self._rates / self._weights) - _ACTIVATION_K / _USUAL_K
            kelvin = -_ACTIVATION_K / rate
            kinetic = float(convert(kelvin, parse_unit("K"), self._unit))
        if self._rate is not None and self.count:
            total = self._rates / self._rate.seconds
        if self._directions is not None:
            none = (math.nan,) * len(percentiles)
            return ColumnSummary(
                self.count, self.missing, self._directions.mean, self._directions.deviation,
                math.nan, math.nan, self.first, self.last, none,
            )  # fmt: skip
        several = self.count > 1
        return ColumnSummary(
            self.count, self.missing, mean,
            math.sqrt(self._squares / (self.count - 1)) if several else math.nan,
            self.minimum, self.maximum, self.first, self.last, percentiles, kinetic, total,
            "" if self._rate is None else self._rate.unit, arithmetic, self._weights,
        )  # fmt: skip


class Histogram:
    """Counts values in bins that grow with their span, piece by piece: for percentiles of what is not sorted.

    A bin is 2^k wide, and begins at a multiple of that; k is the least with which all values fit. So what is
    found does not depend on how the values were cut into pieces.
    """

    def __init__(self, bins: int = 1 << 16) -> None:
        self._bins = bins
        self._counts = np.zeros(bins, np.int64)
        self._exponent, self._base = -1074, 0
        self._low, self._high = math.inf, -math.inf

    def take(self, values: Array, low: float, high: float) -> None:
        """Count values, without NaN; ``low`` and ``high`` are the least and the greatest of them."""
        before = self._high >= self._low
        self._low, self._high = min(self._low, low), max(self._high, high)
        if not math.isfinite(self._high - self._low):
            raise DomainError("values beyond the largest number have no percentiles")
        exponent = self._fitting()
        if before:
            self._widen(exponent)
        self._exponent, self._base = exponent, _floor(self._low, exponent)
        place = np.floor(np.ldexp(values, -exponent)).astype(np.int64) - self._base
        self._counts += np.bincount(place, minlength=self._bins)

    def _fitting(self) -> int:
        """The least exponent with which the span fits into the bins, and numbers of bins are exact."""
        _, most = math.frexp(max(abs(self._low), abs(self._high), 5e-324))
        exponent = max(self._exponent, most - 50)
        while _floor(self._high, exponent) - _floor(self._low, exponent) >= self._bins:
            exponent += 1
        return exponent

    def _widen(self, exponent: int) -> None:
        """Join bins to wider ones."""
        used = np.flatnonzero(self._counts)
        number = (self._base + used) >> (exponent - self._exponent)
        counts = np.zeros(self._bins, np.int64)
        np.add.at(counts, number - _floor(self._low, exponent), self._counts[used])
        self._counts = counts

    def percentiles(self, wanted: Sequence[float]) -> tuple[float, ...]:
        """Percentiles, each right to the width of a bin, at most 1/32768 of the span; NaN without a value."""
        total = int(self._counts.sum())
        if not total:
            return (math.nan,) * len(wanted)
        below = np.cumsum(self._counts)
        found = []
        for percentile in wanted:
            rank = (total - 1) * percentile / 100.0
            number = int(np.searchsorted(below, rank, side="right"))
            before = below[number] - self._counts[number]
            inside = min((rank - before + 0.5) / self._counts[number], 1.0)
            value = math.ldexp(self._base + number + inside, self._exponent)
            found.append(min(max(value, self._low), self._high))
        return tuple(found)


def _parts(values: NDArray[T]) -> Iterator[NDArray[T]]:
    """An array in parts that stay in the cache of a processor while several things are done with each."""
    for begin in range(0, values.size, _PART):
        yield values[begin : begin + _PART]


def _floor(value: float, exponent: int) -> int:
    return math.floor(math.ldexp(value, -exponent))


def exact_percentiles(
    values: Array, percentiles: Sequence[float], low: float, high: float
) -> tuple[float, ...]:
    """Percentiles, as sorting all values would give them.

    Values are counted in bins, and only those of the bins that matter are sorted.

    Parameters
    ----------
    values : array of shape (n,), without NaN
    percentiles : sequence of float, in %
    low, high : float
        The least and the greatest of the values.

    """
    n = values.size
    if n <= _BINS or not high > low or not math.isfinite(high - low):
        return tuple(np.percentile(values, percentiles).tolist())
    place, counts = np.empty(n, np.uint16), np.zeros(_BINS, np.int64)
    for piece, own in zip(_parts(values), _parts(place), strict=True):
        scaled = piece - low
        scaled *= (_BINS - 1) / (high - low)
        own[:] = scaled
        counts += np.bincount(own, minlength=_BINS)
    below = np.concatenate(([0], np.cumsum(counts)))
    known: dict[int, Array] = {}

    def ranked(rank: int) -> float:
        number = int(np.searchsorted(below, rank, side="right")) - 1
        if number not in known:
            known[number] = np.sort(values[place == number])
        return float(known[number][rank - below[number]])

    found = []
    for percentile in percentiles:
        at = (n - 1) * percentile / 100.0
        rank = min(int(at), n - 1)
        one = ranked(rank)
        part = at - rank
        found.append(one if not part else one + part * (ranked(min(rank + 1, n - 1)) - one))
    return tuple(found)


@dataclass(frozen=True, slots=True)
class Gap:
    """A time without rows, in s since 1970-01-01 UTC: the last row before it, and the first behind."""

    begin_s: float
    end_s: float


def usual_interval(times_s: Array) -> float:
    """The interval that most of the first rows are apart, in s; NaN for fewer than two."""
    steps = np.diff(times_s[:JUDGED_ROWS])
    steps = steps[steps > 0.0]
    return float(np.median(steps)) if steps.size else math.nan


def gaps(times_s: Array, interval_s: float) -> list[Gap]:
    """Where rows are further apart than ``GAP_INTERVALS`` intervals."""
    at = np.flatnonzero(np.diff(times_s) > GAP_INTERVALS * interval_s)
    return [Gap(float(times_s[k]), float(times_s[k + 1])) for k in at.tolist()]


def weights(times_s: Array, interval_s: float) -> Array:
    """For how long each row stands, in s: until the next one, but over a gap for one interval.

    The last row stands for one interval, too.
    """
    if not times_s.size:
        return np.zeros(0)
    one = 0.0 if math.isnan(interval_s) else interval_s
    found = np.empty(times_s.size)
    np.subtract(times_s[1:], times_s[:-1], out=found[:-1])
    found[-1] = one
    # Most pieces have no gap: one look at the extremes says so.
    if found.max() > GAP_INTERVALS * one:
        found[found > GAP_INTERVALS * one] = one
    if found.min() < 0.0:
        np.maximum(found, 0.0, out=found)
    return found
