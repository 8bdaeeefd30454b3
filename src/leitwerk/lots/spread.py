"""Where units of a lot stand among the others: those that pass and do not belong, and trends over a lot."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

_NORMAL = (
    1.4826  # from the median absolute deviation to the standard deviation of a normal distribution
)
_LEAST = 8  # values from which on one can stand apart
_CHANCE = 0.05  # that any of all units of a lot stands apart though it belongs


def outliers(values: ArrayLike, *, chance: float = _CHANCE) -> NDArray[np.bool_]:
    """Which values do not belong to the others: too far from their median, for a normal distribution.

    Parameters
    ----------
    values : array_like of shape (n,)
        NaN belongs.
    chance : float
        That one value of all of them is named though all belong together; the limit follows from it and from
        their number.

    Returns
    -------
    array of shape (n,)
        True for those that do not belong. Fewer than eight values all do.

    References
    ----------
    B. Iglewicz and D. C. Hoaglin, How to Detect and Handle Outliers, ASQC 1993: the modified z-score.

    """
    from scipy.special import ndtri  # noqa: PLC0415 - takes long to load, and only here

    numbers = np.asarray(values, np.float64)
    known = numbers[np.isfinite(numbers)]
    if known.size < _LEAST:
        return np.zeros(numbers.shape, np.bool_)
    middle = float(np.median(known))
    spread = _NORMAL * float(np.median(np.abs(known - middle)))
    # Of few values, the median deviation itself is uncertain: the limit is that of Student's t.
    limit = float(-ndtri(chance / (2.0 * known.size)))
    if known.size < 100:
        from scipy.special import stdtrit  # noqa: PLC0415 - takes long to load, and only here

        limit = float(-stdtrit(0.37 * (known.size - 1), chance / (2.0 * known.size)))
    with np.errstate(invalid="ignore"):
        return np.abs(numbers - middle) > limit * spread if spread > 0.0 else numbers != middle


@dataclass(frozen=True, slots=True)
class Trend:
    """A straight line through the values of a lot in the order of their test.

    ``change`` is from the first to the last unit; ``is_clear`` is whether that is no chance.
    """

    change: float
    uncertainty: float
    is_clear: bool


def trend(values: ArrayLike, *, chance: float = _CHANCE) -> Trend | None:
    """The trend over a lot; None for fewer than eight values.

    Parameters
    ----------
    values : array_like of shape (n,)
        In the order of their test; NaN does not count.
    chance : float
        That a trend is called clear though there is none.

    """
    numbers = np.asarray(values, np.float64)
    order = np.flatnonzero(np.isfinite(numbers)).astype(np.float64)
    known = numbers[np.isfinite(numbers)]
    if known.size < _LEAST:
        return None
    from scipy.special import stdtrit  # noqa: PLC0415 - takes long to load, and only here

    x = order - order.mean()
    squares = float((x * x).sum())
    slope = float((x * (known - known.mean())).sum()) / squares
    rest = known - known.mean() - slope * x
    length = float(order[-1] - order[0])
    error = math.sqrt(float((rest * rest).sum()) / (known.size - 2) / squares) * length
    half = float(stdtrit(known.size - 2, 1.0 - chance / 2.0)) * error
    change = slope * length
    return Trend(change, half, abs(change) > half)
