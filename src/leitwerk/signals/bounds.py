"""The signals that a sensor is said to give: what lies outside is marked."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.signals.chunks import all_inside
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray

_SLACK = 0.01  # of the span: what noise and an offset do at its ends


@dataclass(frozen=True, slots=True)
class SignalBounds(Scale):
    """What goes in comes out; outside ``low`` to ``high`` it is marked. A little beyond is noise.

    Examples
    --------
    >>> values, qualities = SignalBounds(0.0, 1.0).convert([-0.5, -0.005, 0.5, 1.2])
    >>> Quality.describe(qualities).tolist()[0], qualities.tolist()
    ('outside the signal of the sensor', [35, 0, 0, 35])

    """

    low: float
    high: float

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As it is."""
        out[...] = x

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As it is."""
        out[...] = y

    def quality(self, x: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.uint8]:
        """Where the signal is not one that the sensor gives."""
        del values
        slack = _SLACK * (self.high - self.low)
        result = np.zeros(x.shape, dtype=np.uint8)
        if x.size and all_inside(x, self.low - slack, self.high + slack):
            return result  # the usual case
        with np.errstate(invalid="ignore"):
            outside = (x < self.low - slack) | (x > self.high + slack)
        result[outside] = Quality.OUTSIDE_SIGNAL
        result[~np.isfinite(x)] = Quality.NO_NUMBER
        return result

    def __str__(self) -> str:
        return f"signal {self.low:g}..{self.high:g}"
