"""What a long recording comes down to: numbers of each column, gathered piece by piece."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.parsing.units import Unit, convert, parse_unit

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

PERCENTILES = (5.0, 25.0, 50.0, 75.0, 95.0)
GAP_INTERVALS = 1.5  # samples further apart than so many intervals have a gap between them
_BINS = 4096
# USP <1079.2>: 83.144 kJ/mol over the gas constant.
_ACTIVATION_K = 83.144e3 / 8.314462618
_TOTALS = {"volume flow": "m³", "power": "kWh", "mass flow": "kg"}
_PER_SECOND = {"volume flow": "m³/s", "power": "kW", "mass flow": "kg/s"}
_SECONDS = {"power": 3600.0}


@dataclass(frozen=True, slots=True)
class ColumnSummary:
    """One column, in its unit; NaN where there is nothing to say.

    ``count`` are the good values, ``missing`` the rows without one. ``percentiles`` are those of
    ``PERCENTILES``. ``mean_kinetic`` is the mean kinetic temperature of a column of temperatures; ``total``
    what flowed in all, in ``total_unit``.
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


def summarise_column(
    values: Array, weights_s: Array | None = None, unit: Unit | None = None
) -> ColumnSummary:
    """The numbers of one column.

    Parameters
    ----------
    values : array of shape (n,)
        NaN where there is no good value.
    weights_s : array of shape (n,), in s, optional
        For how long each value stands; for totals and the mean kinetic temperature.
    unit : Unit, optional

    References
    ----------
    Percentiles by linear interpolation between ranks (Hyndman and Fan 1996, type 7). Mean kinetic
    temperature: USP <1079.2>, with 83.144 kJ/mol.

    """
    good = ~np.isnan(values)
    count = int(np.count_nonzero(good))
    if not count:
        none = math.nan
        return ColumnSummary(
            0, values.size, none, none, none, none, none, none, (none,) * len(PERCENTILES)
        )
    x = values if count == values.size else values[good]
    mean = float(x.mean())
    low, high = float(x.min()), float(x.max())
    offsets = x - mean
    deviation = math.sqrt(float(np.dot(offsets, offsets)) / (count - 1)) if count > 1 else math.nan
    plain = ColumnSummary(
        count, values.size - count, mean, deviation, low, high, float(x[0]), float(x[-1]),
        exact_percentiles(x, PERCENTILES, low, high),
    )  # fmt: skip
    if weights_s is None or unit is None:
        return plain
    w = weights_s if count == values.size else weights_s[good]
    return _with_weights(plain, x, w, unit)


def _with_weights(plain: ColumnSummary, x: Array, weights_s: Array, unit: Unit) -> ColumnSummary:
    kinetic, total, total_unit = math.nan, math.nan, ""
    if unit.dimension == "temperature" and weights_s.sum() > 0.0:
        kelvin = np.asarray(convert(x, unit, parse_unit("K")))
        rates = np.exp(-_ACTIVATION_K / kelvin)
        mean_rate = float(np.dot(rates, weights_s) / weights_s.sum())
        kinetic = float(convert(-_ACTIVATION_K / math.log(mean_rate), parse_unit("K"), unit))
    if unit.dimension in _TOTALS:
        flow = np.asarray(convert(x, unit, parse_unit(_PER_SECOND[unit.dimension])))
        total = float(np.dot(flow, weights_s)) / _SECONDS.get(unit.dimension, 1.0)
        total_unit = _TOTALS[unit.dimension]
    return ColumnSummary(
        plain.count, plain.missing, plain.mean, plain.deviation, plain.minimum, plain.maximum,
        plain.first, plain.last, plain.percentiles, kinetic, total, total_unit,
    )  # fmt: skip


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
    place = ((values - low) * ((_BINS - 1) / (high - low))).astype(np.uint16)
    below = np.concatenate(([0], np.cumsum(np.bincount(place, minlength=_BINS))))
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
    """The interval that most rows are apart, in s; NaN for fewer than two."""
    steps = np.diff(times_s)
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
    steps = np.append(np.diff(times_s), one)
    found: Array = np.where(steps > GAP_INTERVALS * one, one, np.maximum(steps, 0.0))
    return found
