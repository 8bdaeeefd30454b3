"""From calibration points to a correction: one more link of a channel's scale chain."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.bisection import bisect
from leitwerk.signals.linear import Linear
from leitwerk.signals.polynomial import horner
from leitwerk.signals.scale import Ends, Scale, Wrapped
from leitwerk.signals.table import PointTable

if TYPE_CHECKING:
    from numpy.typing import NDArray

_POLYNOMIAL = re.compile(r"polynomial ([2-9])")
KINDS = ("offset", "gain", "offset and gain", "polynomial 2", "table")


@dataclass(frozen=True, slots=True)
class CalibrationPoint:
    """What the reference was, and what was read there, as often as it was read."""

    reference: float
    readings: tuple[float, ...]

    @property
    def reading(self) -> float:
        """The mean of the readings."""
        return float(np.mean(self.readings))

    @property
    def error(self) -> float:
        """Reading less reference. The correction has the opposite sign."""
        return self.reading - self.reference

    @property
    def repeatability(self) -> float:
        """Standard deviation of the readings, NaN for a single one."""
        return float(np.std(self.readings, ddof=1)) if len(self.readings) > 1 else float("nan")


@dataclass(frozen=True)
class Correction(Wrapped):
    """A correction: the corrected value from a reading.

    ``relation`` is what was fitted. Between the calibrated points it is known to hold; beyond them
    it is extended, and the check of a setup warns. ``expanded`` is the expanded uncertainty (k = 2)
    of the calibration.
    """

    kind: str
    relation: Scale
    calibrated: Ends
    residuals: tuple[float, ...]
    parameters: int
    expanded: float = 0.0

    @property
    def residual_deviation(self) -> float:
        """Standard deviation of the residuals, with as many degrees of freedom less as parameters
        were fitted; NaN when none are left.
        """
        free = len(self.residuals) - self.parameters
        return (
            float(np.sqrt(np.sum(np.square(self.residuals)) / free)) if free > 0 else float("nan")
        )

    def holds(self, low: float, high: float) -> bool:
        """Whether readings from ``low`` to ``high`` lie between the calibrated points."""
        return self.calibrated[0] <= low and high <= self.calibrated[1]

    def __str__(self) -> str:
        return f"{self.kind}: {self.relation}"


@dataclass(frozen=True)
class _AddedPolynomial(Scale):
    """The reading plus a polynomial in its distance from ``middle``; the correction is small, so the
    sum rises steadily. Beyond ``ends`` the correction stays what it is at the nearer one.
    """

    coefficients: tuple[float, ...]
    middle: float
    ends: Ends

    @cached_property
    def has_inverse(self) -> bool:
        """Whether the sum rises from end to end."""
        x = np.linspace(*self.ends, 1001)
        return bool(np.all(np.diff(self.value(x)) > 0))

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Reading plus correction."""
        added = np.empty_like(x)
        horner(self.coefficients, np.clip(x, *self.ends) - self.middle, added)
        np.add(x, added, out=out)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """By bisection between the ends, beyond them by the shift there."""
        low, high = self.value(np.array(self.ends)).tolist()
        inner, rest = np.clip(y, low, high), y - np.clip(y, low, high)
        bisect(self.forward, inner, self.ends, out)
        out += rest

    def __str__(self) -> str:
        return f"polynomial of degree {len(self.coefficients) - 1} added"


def fit_correction(points: Sequence[CalibrationPoint], kind: str) -> Correction:
    """The correction that brings readings closest to the reference.

    The reference is fitted as a function of the reading, since that is what a correction is; least
    squares, every point with the weight of one.

    Parameters
    ----------
    points : sequence of CalibrationPoint
    kind : str
        ``offset``, ``gain`` (through zero), ``offset and gain``, ``polynomial 2`` to ``9``, or
        ``table`` (straight between the points, the nearest point's correction beyond).

    Raises
    ------
    DomainError
        An unknown kind, too few different points, a point without a number, or a fit that could not
        be turned back.

    Examples
    --------
    >>> points = [CalibrationPoint(0.0, (0.12, 0.08)), CalibrationPoint(100.0, (100.5,))]
    >>> correction = fit_correction(points, "offset and gain")
    >>> correction.value([0.1, 50.3]).round(3) + 0.0
    array([ 0., 50.])

    """
    polynomial = _POLYNOMIAL.fullmatch(kind)
    if polynomial is None and kind not in KINDS:
        raise DomainError(f"{kind!r} is not a kind of correction", remedy=", ".join(KINDS))
    needed = {"offset": 1, "gain": 1, "offset and gain": 2, "table": 2}.get(kind)
    needed = needed or int(polynomial[1] if polynomial else 0) + 1
    # A point without readings has none that is a number.
    x = np.array([p.reading if p.readings else np.nan for p in points])
    y = np.array([p.reference for p in points])
    if not (np.all(np.isfinite(x)) and np.all(np.isfinite(y))):
        raise DomainError("a calibration point has no number", remedy="leave the point out")
    if len(set(x.tolist())) < needed:
        raise DomainError(
            f"{len(set(x.tolist()))} different points are too few for {kind!r}",
            remedy=f"give at least {needed}, or fit something simpler",
        )
    relation = _fit(x, y, kind, needed)
    if not relation.has_inverse:
        raise DomainError(
            f"{kind!r} through these points does not rise steadily: two readings would become one",
            remedy="look for a swapped or mistyped point, or fit something simpler",
        )
    residuals = tuple((y - relation.value(x)).tolist())
    ends = float(x.min()), float(x.max())
    return Correction(kind, relation, ends, residuals, len(x) if kind == "table" else needed)


def _fit(x: NDArray[np.float64], y: NDArray[np.float64], kind: str, parameters: int) -> Scale:
    if kind == "offset":
        return Linear(1.0, float(np.mean(y - x)))
    if kind == "gain":
        if not np.any(x):
            raise DomainError("a gain cannot be fitted to readings of 0")
        return Linear(float(np.dot(x, y) / np.dot(x, x)))
    ends = float(x.min()), float(x.max())
    if kind == "table":
        order = np.argsort(x)
        points = zip(x[order].tolist(), y[order].tolist(), strict=True)
        return _HeldTable(PointTable(tuple(points)))
    # Around the middle, or the normal equations lose their digits where all readings are large.
    middle = float(np.mean(x))
    powers = np.vander(x - middle, parameters, increasing=True)
    if kind == "offset and gain":
        (a, b), *_ = np.linalg.lstsq(powers, y, rcond=None)
        return Linear(float(b), float(a - b * middle))
    added, *_ = np.linalg.lstsq(powers, y - x, rcond=None)
    return _AddedPolynomial(tuple(added.tolist()), middle, ends)


@dataclass(frozen=True, slots=True)
class _HeldTable(Scale):
    """A table of readings and references; beyond it the last correction is held."""

    table: PointTable

    @property
    def has_inverse(self) -> bool:
        """Whether the references rise with the readings."""
        return self.table.has_inverse and self.table.points[-1][1] > self.table.points[0][1]

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Inside by the table, beyond by the shift at its end."""
        inner = np.clip(x, *self.table.ends)
        rest = x - inner
        self.table.forward(inner, out)
        out += rest

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The same the other way."""
        inner = np.clip(y, *self.table.span)
        rest = y - inner
        self.table.backward(inner, out)
        out += rest

    def __str__(self) -> str:
        return f"table of {len(self.table.points)} points"
