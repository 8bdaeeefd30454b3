"""Tables of points: straight, logarithmic or smooth between them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.bisection import bisect
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import EVERYWHERE, Ends, Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray

Between = Literal["linear", "logarithmic", "cubic"]


@dataclass(frozen=True)
class PointTable(Scale):
    """Values at points, and a rule for what lies between them.

    Parameters
    ----------
    points : tuple of (signal, value)
        At least two, signals strictly rising.
    between : {"linear", "logarithmic", "cubic"}
        A straight line; a straight line in the logarithm of the value (all values positive); or a
        monotone cubic, which is smooth and never overshoots its points.
    extrapolate : bool
        Whether the first and last piece go on beyond the table; the quality then is EXTRAPOLATED.

    Raises
    ------
    DomainError
        Fewer than two points, signals that do not rise, numbers that are not finite, or a value that is
        not positive in a logarithmic table. The message names the first point that is wrong.

    References
    ----------
    F. N. Fritsch, J. Butland: A method for constructing local monotone piecewise cubic
    interpolants, SIAM J. Sci. Stat. Comput. 5 (1984) 300-304.

    Examples
    --------
    >>> tank = PointTable(((0.0, 0.0), (0.5, 120.0), (1.2, 900.0)))
    >>> tank.value([0.25, 1.0, 1.3]).round(1)
    array([ 60. , 677.1,   nan])

    """

    points: tuple[tuple[float, float], ...]
    between: Between = "linear"
    extrapolate: bool = False

    def __post_init__(self) -> None:
        if len(self.points) < 2:
            raise DomainError("a table needs at least two points", remedy="add a point")
        for number, (signal, value) in enumerate(self.points, start=1):
            if not (math.isfinite(signal) and math.isfinite(value)):
                raise DomainError(
                    f"point {number} of the table, {signal:g}: {value:g}, is not a number"
                )
            if self.between == "logarithmic" and value <= 0:
                message = (
                    f"point {number} of the table has the value {value:g}, which has no logarithm"
                )
                raise DomainError(message, remedy="use a linear or cubic table")
        for number, (one, other) in enumerate(pairwise(self.points), start=2):
            if other[0] <= one[0]:
                what = "the same signal as" if other[0] == one[0] else "a lower signal than"
                raise DomainError(
                    f"point {number} of the table, {other[0]:g}, has {what} the one before it",
                    remedy="enter the points in the order of their signals, each signal once",
                )

    @cached_property
    def _signals(self) -> NDArray[np.float64]:
        return np.array([signal for signal, _ in self.points])

    @cached_property
    def _values(self) -> NDArray[np.float64]:
        values = np.array([value for _, value in self.points])
        return np.log(values) if self.between == "logarithmic" else values

    @property
    def ends(self) -> Ends:
        """The first and the last signal."""
        return self.points[0][0], self.points[-1][0]

    @property
    def domain(self) -> Ends:
        """From the first to the last point, or everywhere when it may extrapolate."""
        return EVERYWHERE if self.extrapolate else self.ends

    @property
    def span(self) -> Ends:
        """From the lowest to the highest value, or all that extrapolation can give."""
        values = [value for _, value in self.points]
        if self.extrapolate:
            return (0.0, math.inf) if self.between == "logarithmic" else EVERYWHERE
        return min(values), max(values)

    @cached_property
    def has_inverse(self) -> bool:
        """Whether the values only rise or only fall."""
        steps = np.diff(self._values)
        return bool(np.all(steps > 0) or np.all(steps < 0))

    @cached_property
    def _pieces(self) -> NDArray[np.float64]:
        """Coefficients of each piece, highest power first, in the distance from its first point."""
        x, y = self._signals, self._values
        if self.between != "cubic":
            return np.array([np.diff(y) / np.diff(x), y[:-1]])
        from scipy.interpolate import PchipInterpolator  # noqa: PLC0415 - 0.3 s, for few

        coefficients: NDArray[np.float64] = PchipInterpolator(x, y).c
        return coefficients

    @cached_property
    def _end_slopes(self) -> tuple[float, float]:
        first, last = self._pieces[:, 0], self._pieces[:, -1]
        slope_last = np.polyval(np.polyder(last), self._signals[-1] - self._signals[-2])
        return float(first[-2]), float(slope_last)

    def _between_points(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """From signals to values (or their logarithms), from the first to the last point."""
        piece = np.searchsorted(self._signals, x, side="right") - 1
        np.clip(piece, 0, len(self.points) - 2, out=piece)
        d = x - self._signals[piece]
        coefficients = self._pieces[:, piece]
        out[...] = coefficients[0]
        for c in coefficients[1:]:
            out *= d
            out += c

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Find the piece and evaluate it; beyond the ends, along the tangents there."""
        inner = np.clip(x, *self.ends)
        beyond = x - inner if self.extrapolate else 0.0
        self._between_points(inner, out)
        if self.extrapolate:
            out += beyond * np.where(beyond < 0.0, *self._end_slopes)
        if self.between == "logarithmic":
            np.exp(out, out=out)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Straight pieces by the swapped table, smooth ones by bisection."""
        wanted = np.log(y) if self.between == "logarithmic" else y
        first, last = self._values[0], self._values[-1]
        inner = np.clip(wanted, min(first, last), max(first, last))
        beyond = wanted - inner
        if self.between == "cubic":
            bisect(self._between_points, inner, self.ends, out)
        else:
            rising = slice(None, None, 1 if last > first else -1)
            out[...] = np.interp(inner, self._values[rising], self._signals[rising])
        if self.extrapolate:
            slope = np.where((beyond < 0.0) == (last > first), *self._end_slopes)
            # Where the curve ends level, nothing beyond its last value has a signal.
            further = np.where(slope == 0.0, np.nan, beyond / slope)
            out += np.where(beyond == 0.0, 0.0, further)

    def quality(self, x: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.uint8]:
        """As for every scale; what lies beyond the table is uncertain when it may extrapolate."""
        result = super().quality(x, values)
        if self.extrapolate:
            low, high = self.ends
            beyond = ((x < low) | (x > high)) & np.isfinite(values)
            result[beyond] = Quality.EXTRAPOLATED
        return result

    def __str__(self) -> str:
        (first, low), (last, high) = self.points[0], self.points[-1]
        return (
            f"a {self.between} table of {len(self.points)} points, {first:g}..{last:g} to "
            f"{low:g}..{high:g}"
        )


class OddPoint(NamedTuple):
    """A point of a curve that does not go with its neighbours: its place, and what is odd."""

    place: int
    words: str


_FAR = 20.0  # times the steps beside it: more is no curve


def odd_point(values: Sequence[float]) -> OddPoint | None:
    """The point of a curve that falls where the others rise, or lies far off its neighbours; None for none.

    Parameters
    ----------
    values : sequence of float
        Those of the points, in the order of their signals.

    Examples
    --------
    >>> odd_point([5.0, 12.0, 46.0, 37.0, 52.0])
    OddPoint(place=3, words='falls where it rises elsewhere')
    >>> odd_point([1.0, 2.0, 3.0, 40.0, 5.0, 6.0]) is None, odd_point([0.0, 1.0, 4.0, 9.0])
    (False, None)

    """
    steps = np.diff(np.asarray(values, float))
    if steps.size < 2:
        return None
    rises, falls = int((steps > 0.0).sum()), int((steps < 0.0).sum())
    if rises and falls and abs(rises - falls) > 0:
        fewer = steps < 0.0 if falls < rises else steps > 0.0
        if int(fewer.sum()) <= max(1, steps.size // 4):
            words = (
                "falls where it rises elsewhere"
                if falls < rises
                else "rises where it falls elsewhere"
            )
            return OddPoint(int(np.flatnonzero(fewer)[0]) + 1, words)
    sizes = np.abs(steps)
    for place in range(1, sizes.size - 1):
        if sizes[place] > _FAR * max(sizes[place - 1], sizes[place + 1]) > 0.0:
            return OddPoint(place + 1, "leaps there, far from its neighbours")
    return None
