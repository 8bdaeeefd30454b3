"""Thermistors: the beta model, Steinhart and Hart, and fitting either to points."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.scale import Ends, Scale

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

ZERO_C = 273.15
_SPAN_C = (-100.0, 300.0)  # what either model is used for at most


@dataclass(frozen=True, slots=True)
class SteinhartHart(Scale):
    """Temperature in °C from resistance in Ω: 1/T = a + b·ln R + c·(ln R)³, T in K.

    With c = 0 it is the beta model: see ``from_beta``.

    Raises
    ------
    DomainError
        b is not positive or c is negative: it would not fall steadily with temperature.

    References
    ----------
    J. S. Steinhart, S. R. Hart: Calibration curves for thermistors, Deep-Sea Research 15 (1968)
    497-503; the three-term form, without the square.

    Examples
    --------
    >>> ntc = SteinhartHart.from_beta(10e3, 3977.0)
    >>> float(ntc.value(10e3).round(6)), float(ntc.signal(85.0).round(1))
    (25.0, 1070.3)

    """

    a: float
    b: float
    c: float = 0.0
    low_c: float = _SPAN_C[0]
    high_c: float = _SPAN_C[1]

    def __post_init__(self) -> None:
        if not (self.b > 0.0 and self.c >= 0.0 and math.isfinite(self.a + self.b + self.c)):
            raise DomainError(
                f"a = {self.a:g}, b = {self.b:g}, c = {self.c:g} is not a thermistor",
                remedy="b is above 0 and c not below it; is the logarithm the natural one?",
            )

    @classmethod
    def from_beta(cls, resistance: float, beta: float, at: float = 25.0) -> SteinhartHart:
        """From a data sheet's ``resistance`` in Ω at a temperature in °C, and ``beta`` in K.

        Beta depends on the two temperatures it was taken between (25/85 is not 25/50).
        """
        if resistance <= 0 or beta <= 0 or at <= -ZERO_C:
            raise DomainError(
                f"{resistance:g} Ω at {at:g} °C with a beta of {beta:g} K is not a thermistor"
            )
        return cls(1.0 / (at + ZERO_C) - math.log(resistance) / beta, 1.0 / beta)

    @classmethod
    def fit(cls, points: Sequence[tuple[float, float]], *, beta: bool = False) -> SteinhartHart:
        """The model that fits points of (temperature in °C, resistance in Ω) best.

        The least squares are those of 1/T. It holds between the points only.

        Parameters
        ----------
        points : sequence of (temperature, resistance)
            Three or more; two are enough for the beta model.
        beta : bool
            Fit the beta model, without the cubic term.

        Raises
        ------
        DomainError
            Too few points, points that are not valid, or that no thermistor has.

        """
        needed = 2 if beta else 3
        if len({r for _, r in points}) < needed:
            raise DomainError(f"{len(points)} points are too few", remedy=f"give {needed} or more")
        t, r = np.array(points, dtype=np.float64).T
        if not (np.all(np.isfinite(t) & np.isfinite(r)) and np.all(r > 0) and np.all(t > -ZERO_C)):
            raise DomainError("a point has no resistance above 0 Ω or no temperature")
        log = np.log(r)
        # The mean is taken out first, or the three columns would nearly be one.
        columns = [np.ones_like(log), log] + ([] if beta else [log**3])
        (a, b, *rest), *_ = np.linalg.lstsq(
            np.stack(columns, axis=1), 1.0 / (t + ZERO_C), rcond=None
        )
        low, high = float(t.min()), float(t.max())
        return cls(float(a), float(b), float(rest[0]) if rest else 0.0, low, high)

    @property
    def domain(self) -> Ends:
        """In Ω; the hottest temperature has the lowest resistance."""
        low, high = self._resistance(np.array([self.high_c, self.low_c])).tolist()
        return low * (1.0 - 1e-12), high * (1.0 + 1e-12)

    @property
    def span(self) -> Ends:
        """In °C."""
        return self.low_c, self.high_c

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The equation as it stands."""
        np.log(x, out=out)
        inverse = (self.c * out * out + self.b) * out + self.a
        np.divide(1.0, inverse, out=out)
        out -= ZERO_C

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The real root of the cubic, or the beta model solved for the resistance."""
        out[...] = self._resistance(y)

    def _resistance(self, t: NDArray[np.float64]) -> NDArray[np.float64]:
        rest = 1.0 / (t + ZERO_C) - self.a
        if self.c < 1e-14 * self.b:
            return np.exp(rest / self.b)
        # y³ + p·y = q has one real root for p > 0 (Cardano, in the form that loses no digits).
        p, q = self.b / self.c, rest / self.c
        root = np.sqrt(p / 3.0)
        log: NDArray[np.float64] = 2.0 * root * np.sinh(np.arcsinh(1.5 * q / (p * root)) / 3.0)
        return np.exp(log)

    def __str__(self) -> str:
        kind = f"a = {self.a:g}, b = {self.b:g}" + (f", c = {self.c:g}" if self.c else "")
        return f"thermistor, {kind}, {self.low_c:g}..{self.high_c:g} °C"
