"""Polynomials of any degree, and their inverse where they only rise or only fall."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.bisection import bisect
from leitwerk.signals.scale import Ends, Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray


def horner(
    coefficients: tuple[float, ...], x: NDArray[np.float64], out: NDArray[np.float64]
) -> None:
    """Fill ``out`` with c0 + c1·x + c2·x² + …; ``out`` must not be ``x``."""
    out.fill(coefficients[-1])
    for c in reversed(coefficients[:-1]):
        out *= x
        out += c


@dataclass(frozen=True)
class Polynomial(Scale):
    """value = c0 + c1·signal + c2·signal² + …, from ``low`` to ``high``.

    It has an inverse when it only rises or only falls between its ends.

    Raises
    ------
    DomainError
        No coefficients, coefficients or ends that are not finite, or ends that are reversed.

    Examples
    --------
    >>> square = Polynomial((0.0, 0.0, 1.0), 0.0, 10.0)
    >>> square.value([3.0, 11.0]), float(square.signal(9.0).round(9))
    (array([ 9., nan]), 3.0)

    """

    coefficients: tuple[float, ...]
    low: float
    high: float

    def __post_init__(self) -> None:
        numbers = (*self.coefficients, self.low, self.high)
        if not self.coefficients or not all(map(math.isfinite, numbers)) or self.low >= self.high:
            raise DomainError(
                f"{self.coefficients} from {self.low:g} to {self.high:g} is not a polynomial scale",
                remedy="give finite coefficients, lowest power first, and the ends in rising order",
            )

    @property
    def domain(self) -> Ends:
        """From end to end."""
        return self.low, self.high

    @cached_property
    def span(self) -> Ends:
        """Over ends and turning points."""
        values = self.value(np.array([self.low, self.high, *self._turns]))
        return float(values.min()), float(values.max())

    @cached_property
    def _turns(self) -> tuple[float, ...]:
        slope = np.polynomial.Polynomial(self.coefficients).deriv()
        roots = slope.roots() if np.any(slope.coef) else np.array([])
        real = roots.real[np.abs(roots.imag) < 1e-12 * max(1.0, abs(self.high), abs(self.low))]
        width = self.high - self.low
        inside = (real > self.low + 1e-12 * width) & (real < self.high - 1e-12 * width)
        return tuple(real[inside].tolist())

    @property
    def has_inverse(self) -> bool:
        """Whether it only rises or only falls."""
        return not self._turns and self.span[0] < self.span[1]

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Horner's scheme."""
        horner(self.coefficients, x.copy() if x is out else x, out)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """By bisection: it works for every monotonic curve, also where it is flat at an end."""
        bisect(lambda x, found: horner(self.coefficients, x, found), y, self.domain, out)

    def __str__(self) -> str:
        terms = [f"{c:g}" + ("" if k == 0 else f"·x^{k}") for k, c in enumerate(self.coefficients)]
        return " + ".join(terms).replace("x^1 ", "x ").replace("+ -", "- ")
