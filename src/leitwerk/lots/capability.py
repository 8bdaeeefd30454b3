"""How well a lot keeps its limits: capability with its confidence, yield, and how two lots differ."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.errors import DomainError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

CONFIDENCE = 0.95
_LEAST = 2  # values that a spread is worked out from


@dataclass(frozen=True, slots=True)
class Capability:
    """Capability of a lot of values with two limits, each index with its confidence interval.

    ``cp`` compares the limits with the spread, ``cpk`` also with where the mean lies. With one limit alone,
    ``cp`` is NaN. ``standard_deviation`` is that of all values (n - 1): between the units of the lot.
    """

    count: int
    mean: float
    standard_deviation: float
    cp: float
    cp_interval: tuple[float, float]
    cpk: float
    cpk_interval: tuple[float, float]

    def to_dict(self) -> dict[str, Any]:
        """The capability as plain data for JSON; None for what is not a number."""
        found = {name: getattr(self, name) for name in self.__dataclass_fields__}
        for name in ("cp_interval", "cpk_interval"):
            found[name] = [_or_none(end) for end in found[name]]
        return {name: _or_none(v) if isinstance(v, float) else v for name, v in found.items()}


def _or_none(number: float) -> float | None:
    return number if math.isfinite(number) else None


def capability(
    values: ArrayLike, low: float, high: float, *, confidence: float = CONFIDENCE
) -> Capability:
    """The capability of values with their limits.

    Parameters
    ----------
    values : array_like of shape (n,)
        One of each unit, in one unit; NaN does not count.
    low, high : float
        The limits; infinite for a one-sided one.
    confidence : float
        Of the intervals.

    Raises
    ------
    DomainError
        Fewer than two values, or limits upside down.

    Notes
    -----
    The interval of Cp is exact for normally distributed values (chi-squared). That of Cpk is the
    approximation of Bissell.

    References
    ----------
    NIST/SEMATECH e-Handbook of Statistical Methods, 6.1.6; A. F. Bissell, How reliable is your capability
    index?, Applied Statistics 39 (1990), 331-340.

    """
    from scipy.stats import chi2, norm  # noqa: PLC0415 - takes long to load, and only here

    known = np.asarray(values, np.float64)
    known = known[np.isfinite(known)]
    count = known.size
    if count < _LEAST or not low < high:
        raise DomainError(
            f"{count} values with limits {low:g} and {high:g} have no capability",
            remedy="give two values or more, and the lower limit first",
        )
    mean, spread = float(known.mean()), float(known.std(ddof=1))
    if spread == 0.0:
        inside = math.inf if low < mean < high else -math.inf
        nothing = (math.nan, math.nan)
        return Capability(count, mean, 0.0, math.inf, nothing, inside, nothing)
    freedom, tail = count - 1, (1.0 - confidence) / 2.0
    cp = (high - low) / (6.0 * spread) if math.isfinite(high - low) else math.nan
    ends = [float(chi2.ppf(part, freedom)) for part in (tail, 1.0 - tail)]
    cpk = min(high - mean, mean - low) / (3.0 * spread)
    error = float(norm.ppf(1.0 - tail)) * math.sqrt(1.0 / (9.0 * count) + cpk**2 / (2.0 * freedom))
    return Capability(
        count, mean, spread, cp, (cp * math.sqrt(ends[0] / freedom), cp * math.sqrt(ends[1] / freedom)),
        cpk, (cpk - error, cpk + error),
    )  # fmt: skip


def share_interval(count: int, of: int, *, confidence: float = CONFIDENCE) -> tuple[float, float]:
    """The confidence interval of a share, such as a yield: of Clopper and Pearson.

    Never shorter than its confidence says, also for few units and for shares of 0 and 1.

    Raises
    ------
    DomainError
        There are no units, or more of them than there are.

    References
    ----------
    C. J. Clopper and E. S. Pearson, Biometrika 26 (1934), 404-413; ISO 11453:1996, annex B.

    """
    from scipy.stats import beta  # noqa: PLC0415 - takes long to load, and only here

    if not 0 <= count <= of or of == 0:
        raise DomainError(f"{count} of {of} is no share", remedy="count units, at least one")
    tail = (1.0 - confidence) / 2.0
    low = 0.0 if count == 0 else float(beta.ppf(tail, count, of - count + 1))
    high = 1.0 if count == of else float(beta.ppf(1.0 - tail, count + 1, of - count))
    return low, high


@dataclass(frozen=True, slots=True)
class Difference:
    """How one lot of values differs from another: means with their interval, and whether that is no chance.

    ``spread_ratio`` is the standard deviation of the one over that of the other, with its interval.
    """

    means: float
    interval: tuple[float, float]
    is_clear: bool
    spread_ratio: float
    spread_interval: tuple[float, float]


def difference(one: ArrayLike, other: ArrayLike, *, confidence: float = CONFIDENCE) -> Difference:
    """How the values of one lot differ from those of another.

    The interval of the means is that of Welch, for spreads that may differ; that of the spreads follows from
    the F distribution.

    Raises
    ------
    DomainError
        One of them has fewer than two values.

    References
    ----------
    B. L. Welch, Biometrika 34 (1947), 28-35; ISO 2854:1976.

    """
    from scipy.stats import f, t  # noqa: PLC0415 - takes long to load, and only here

    left, right = (np.asarray(v, np.float64) for v in (one, other))
    left, right = left[np.isfinite(left)], right[np.isfinite(right)]
    if min(left.size, right.size) < _LEAST:
        raise DomainError("a lot of fewer than two values has no spread", remedy="test more units")
    squares = [float(v.var(ddof=1)) / v.size for v in (left, right)]
    means, tail = float(left.mean() - right.mean()), (1.0 - confidence) / 2.0
    total = sum(squares)
    if total == 0.0:
        same = (means, means)
        return Difference(means, same, means != 0.0, math.nan, (math.nan, math.nan))
    freedom = total**2 / sum(
        s**2 / (v.size - 1) for s, v in zip(squares, (left, right), strict=True)
    )
    half = float(t.ppf(1.0 - tail, freedom)) * math.sqrt(total)
    ratio, ends = math.nan, (math.nan, math.nan)
    if min(squares) > 0.0:
        ratio = float(left.std(ddof=1) / right.std(ddof=1))
        numbers = left.size - 1, right.size - 1
        ends = tuple(ratio / math.sqrt(f.ppf(p, *numbers)) for p in (1.0 - tail, tail))  # type: ignore[assignment]
    return Difference(means, (means - half, means + half), abs(means) > half, ratio, ends)
