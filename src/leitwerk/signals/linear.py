"""Straight lines: through two points, or by gain and offset."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError
from leitwerk.signals.scale import EVERYWHERE, Ends, Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Linear(Scale):
    """value = gain · signal + offset.

    Raises
    ------
    QuantityError
        The gain is 0 or no finite number: it could not be turned back.

    Examples
    --------
    >>> Linear(0.5, 2.0).value([0, 4]), float(Linear(0.5, 2.0).signal(4.0))
    (array([2., 4.]), 4.0)

    """

    gain: float
    offset: float = 0.0

    def __post_init__(self) -> None:
        if self.gain == 0.0 or not (math.isfinite(self.gain) and math.isfinite(self.offset)):
            message = f"gain {self.gain:g} with offset {self.offset:g} is not a scale"
            raise QuantityError(message, valid="a finite gain other than 0, and a finite offset")

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Gain, then offset."""
        np.multiply(x, self.gain, out=out)
        if self.offset:
            out += self.offset

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Offset off, then gain off."""
        np.subtract(y, self.offset, out=out)
        out /= self.gain

    def __str__(self) -> str:
        if not self.offset:
            return f"times {self.gain:g}"
        sign = "plus" if self.offset > 0 else "minus"
        return f"times {self.gain:g} {sign} {abs(self.offset):g}"


@dataclass(frozen=True, slots=True)
class TwoPoint(Scale):
    """A straight line from signal to value; it goes on beyond its points.

    Raises
    ------
    QuantityError
        Both signals, or both values, are equal: there is no line, or it has no inverse.

    Examples
    --------
    >>> scale = TwoPoint(4.0, 20.0, 0.0, 100.0)
    >>> float(scale.value(12.0)), float(scale.signal(25.0))
    (50.0, 8.0)

    """

    signal_low: float
    signal_high: float
    value_low: float
    value_high: float

    def __post_init__(self) -> None:
        for name, low, high in (
            ("signals", self.signal_low, self.signal_high),
            ("values", self.value_low, self.value_high),
        ):
            if low == high or not (math.isfinite(low) and math.isfinite(high)):
                raise QuantityError(
                    f"both points of the scale have the same {name[:-1]}, {low:g}",
                    valid=f"two points with different {name}",
                )

    @property
    def gain(self) -> float:
        """Value per signal."""
        return (self.value_high - self.value_low) / (self.signal_high - self.signal_low)

    @property
    def ends(self) -> Ends:
        """The signals of both points, the lower first."""
        first, last = sorted((self.signal_low, self.signal_high))
        return first, last

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """From the low point along the line."""
        gain = self.gain
        np.multiply(x, gain, out=out)
        out += self.value_low - self.signal_low * gain

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The same line the other way."""
        np.subtract(y, self.value_low, out=out)
        out /= self.gain
        out += self.signal_low

    def __str__(self) -> str:
        return (
            f"{self.signal_low:g}..{self.signal_high:g} to {self.value_low:g}..{self.value_high:g}"
        )


@dataclass(frozen=True, slots=True)
class Limits(Scale):
    """What goes in comes out, inside limits only: the span in which a relation is known to hold."""

    low: float = EVERYWHERE[0]
    high: float = EVERYWHERE[1]

    @property
    def domain(self) -> Ends:
        """From limit to limit."""
        return self.low, self.high

    @property
    def span(self) -> Ends:
        """The same."""
        return self.low, self.high

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As it is."""
        out[...] = x

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The same."""
        out[...] = y

    def __str__(self) -> str:
        return f"within {self.low:g}..{self.high:g}"
