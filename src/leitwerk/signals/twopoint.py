"""The two-point scale: a straight line through two pairs of signal and value."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


@dataclass(frozen=True, slots=True)
class TwoPoint:
    """A straight line from signal to value.

    Raises
    ------
    QuantityError
        Both signals, or both values, are equal: there is no line, or none that can be turned back.

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
            if low == high:
                raise QuantityError(
                    f"both points of the scale have the same {name[:-1]}, {low:g}",
                    valid=f"two points with different {name}",
                )

    @property
    def gain(self) -> float:
        """Value per signal."""
        return (self.value_high - self.value_low) / (self.signal_high - self.signal_low)

    def value(self, signal: ArrayLike) -> NDArray[np.float64]:
        """Values, of the same shape, for signals; the line goes on beyond its points."""
        x = np.asarray(signal, dtype=np.float64)
        return self.value_low + (x - self.signal_low) * self.gain

    def signal(self, value: ArrayLike) -> NDArray[np.float64]:
        """Signals, of the same shape, that stand for values."""
        y = np.asarray(value, dtype=np.float64)
        return self.signal_low + (y - self.value_low) / self.gain
