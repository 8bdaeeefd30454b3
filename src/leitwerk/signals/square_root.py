"""Flow from differential pressure by the square root, and sensors with a logarithmic output."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.scale import Ends, Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class SquareRoot(Scale):
    """Flow through an orifice, nozzle or Venturi from the signal of its differential pressure.

    The root is taken of the *fraction of the signal's span*: a quarter of the span is half of the
    flow. Just below the lower end the fraction is a little negative: a flow of zero, not an error.

    Parameters
    ----------
    signal_low, signal_high : float
        The signal at no flow and at ``full_flow``.
    full_flow : float
        The value at ``signal_high``.
    cut_off : float
        The part of the *flow* below which zero is shown (0.02: below 2 % of the flow, which is
        0.04 % of the differential pressure).

    References
    ----------
    ISO 5167-1:2022, clause 5.1: flow goes with the square root of the differential pressure.

    Examples
    --------
    >>> SquareRoot(4.0, 20.0, 120.0, cut_off=0.02).value([4.0, 4.005, 8.0, 20.0])
    array([  0.,   0.,  60., 120.])

    """

    signal_low: float
    signal_high: float
    full_flow: float
    cut_off: float = 0.0

    def __post_init__(self) -> None:
        if not self.signal_low < self.signal_high or self.full_flow <= 0:
            raise DomainError(
                "the root needs a signal that rises from no flow to full flow, and a full flow "
                "above 0"
            )
        if not 0.0 <= self.cut_off < 1.0:
            raise DomainError(
                f"a cut-off of {self.cut_off:g} is not valid", remedy="a part from 0 to 1"
            )

    @property
    def domain(self) -> Ends:
        """As far as a 4..20 mA transmitter may go before it reports a failure: 3.6 to 21 mA.

        What lies below the lower end is no flow. NAMUR NE 43 has measurement from 3.8 to 20.5 mA.
        """
        span = self.signal_high - self.signal_low
        return self.signal_low - span / 40.0, self.signal_high + span / 16.0

    @property
    def span(self) -> Ends:
        """From no flow to a little more than full flow."""
        return 0.0, self.full_flow * math.sqrt(17.0 / 16.0)

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fraction, root, cut-off."""
        np.subtract(x, self.signal_low, out=out)
        out /= self.signal_high - self.signal_low
        np.maximum(out, 0.0, out=out)
        np.sqrt(out, out=out)
        if self.cut_off:
            out[out < self.cut_off] = 0.0
        out *= self.full_flow

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The square; no flow is the lower end."""
        np.divide(y, self.full_flow, out=out)
        np.multiply(out, out, out=out)
        out *= self.signal_high - self.signal_low
        out += self.signal_low

    def __str__(self) -> str:
        cut = f", 0 below {self.cut_off:.3g} of it" if self.cut_off else ""
        ends = f"{self.signal_low:g}..{self.signal_high:g}"
        return f"square root of {ends} to 0..{self.full_flow:g}{cut}"


@dataclass(frozen=True, slots=True)
class Logarithmic(Scale):
    """A sensor whose signal goes with the logarithm of what it measures.

    value = value_low · (value_high / value_low) ** fraction of the signal's span.

    Examples
    --------
    >>> Logarithmic(0.0, 10.0, 0.001, 1000.0).value([0.0, 5.0, 10.0]).round(6)
    array([1.e-03, 1.e+00, 1.e+03])

    """

    signal_low: float
    signal_high: float
    value_low: float
    value_high: float

    def __post_init__(self) -> None:
        if self.value_low <= 0 or self.value_high <= 0 or self.value_low == self.value_high:
            raise DomainError(
                f"{self.value_low:g} and {self.value_high:g} have no logarithmic scale",
                remedy="give two different values above 0",
            )
        if not self.signal_low < self.signal_high:
            raise DomainError("the signals of a logarithmic scale stand in rising order")

    @property
    def domain(self) -> Ends:
        """From signal to signal."""
        return self.signal_low, self.signal_high

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """A power of the ratio of both values."""
        np.subtract(x, self.signal_low, out=out)
        out *= math.log(self.value_high / self.value_low) / (self.signal_high - self.signal_low)
        np.exp(out, out=out)
        out *= self.value_low

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Its logarithm."""
        np.divide(y, self.value_low, out=out)
        np.log(out, out=out)
        out *= (self.signal_high - self.signal_low) / math.log(self.value_high / self.value_low)
        out += self.signal_low

    def __str__(self) -> str:
        ends = f"{self.signal_low:g}..{self.signal_high:g}"
        return f"logarithmic, {ends} to {self.value_low:g}..{self.value_high:g}"
