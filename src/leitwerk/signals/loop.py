"""Current loops: through a shunt into a voltage input."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.chunks import all_inside
from leitwerk.signals.linear import Linear
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray

LOOP_MA = (4.0, 20.0)
_FAILURE_MA = 21.0  # NAMUR NE 43: a transmitter may drive up to this, and it must still be seen


@dataclass(frozen=True, slots=True)
class Shunt:
    """A resistor that turns the current of a loop into a voltage.

    Parameters
    ----------
    resistance : float, in Ω
    tolerance : float
        As a part: 0.001 for 0.1 %.

    Examples
    --------
    >>> shunt = Shunt(250.0, tolerance=0.001)
    >>> shunt.voltage_range(), shunt.error(12.0)
    ((1.0, 5.0), 0.012)

    """

    resistance: float
    tolerance: float = 0.0

    def __post_init__(self) -> None:
        if not 0.0 < self.resistance < 1e6 or not 0.0 <= self.tolerance < 1.0:
            raise DomainError(
                f"{self.resistance:g} Ω within {self.tolerance:.3%} is not a shunt",
                remedy="a resistance above 0 Ω and a tolerance from 0 to 1",
            )

    @property
    def scale(self) -> Linear:
        """From V across the shunt to mA through it."""
        return Linear(1000.0 / self.resistance)

    def voltage_range(
        self, low: float = LOOP_MA[0], high: float = LOOP_MA[1]
    ) -> tuple[float, float]:
        """The voltages in V between which a loop from ``low`` to ``high`` in mA moves."""
        return low * self.resistance / 1000.0, high * self.resistance / 1000.0

    def needed_range(self) -> tuple[float, float]:
        """The voltages in V that an input must take: up to a transmitter's failure signal, with the
        shunt at the upper end of its tolerance.
        """
        return 0.0, _FAILURE_MA * self.resistance * (1.0 + self.tolerance) / 1000.0

    def error(self, current: float) -> float:
        """How far off, in mA, the shunt's tolerance lets a current be measured, to either side."""
        return abs(current) * self.tolerance


@dataclass(frozen=True, slots=True)
class LoopBands(Scale):
    """The status bands of a 4-20 mA loop: what goes in comes out, with its quality.

    From 3.8 to 20.5 mA is measurement. Down to 3.6 and up to 21 mA the transmitter stands at its
    limit: the value is shown and uncertain. At 3.6 mA and below, at 21 mA and above, it reports a
    failure: there is no value. This comes before any clamping or scaling, or else a broken wire
    reads 0 %.

    ``seen_through`` gives the same bands in terms of what a device makes of the current; ``falling``
    says that it turns the order round.

    References
    ----------
    NAMUR NE 43:2021, clause 4: 3.8..20.5 mA measurement information, failure information at 3.6 mA
    or less and at 21 mA or more.

    Examples
    --------
    >>> values, qualities = LoopBands().convert([3.5, 3.7, 12.0, 20.8, 22.0])
    >>> values, qualities.tolist()
    (array([ nan,  3.7, 12. , 20.8,  nan]), [8, 32, 0, 33, 9])

    """

    failure_low: float = 3.6
    good_low: float = 3.8
    good_high: float = 20.5
    failure_high: float = 21.0
    falling: bool = False

    def __post_init__(self) -> None:
        bands = (self.failure_low, self.good_low, self.good_high, self.failure_high)
        if list(bands) != sorted(set(bands)):
            raise DomainError(f"the bands {bands} do not rise", remedy="3.6, 3.8, 20.5, 21 mA")

    def seen_through(self, line: Scale) -> LoopBands:
        """The bands behind a straight line, whose values stand for the currents."""
        currents = [self.failure_low, self.good_low, self.good_high, self.failure_high]
        a, b, c, d = line.value(currents).tolist()
        return LoopBands(a, b, c, d) if a < d else LoopBands(d, c, b, a, falling=True)

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As it is, without what reports a failure."""
        failed = (x <= self.failure_low) | (x >= self.failure_high)
        out[...] = np.where(failed, np.nan, x)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The same."""
        self.forward(y, out)

    def quality(self, x: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.uint8]:
        """The band of each current."""
        del values
        result = np.zeros(x.shape, dtype=np.uint8)
        if x.size and all_inside(x, self.good_low, self.good_high):
            return result  # the usual case
        with np.errstate(invalid="ignore"):
            under, over = Quality.UNDER_LIMIT, Quality.OVER_LIMIT
            result[x < self.good_low] = over if self.falling else under
            result[x > self.good_high] = under if self.falling else over
            low, high = Quality.FAILURE_LOW, Quality.FAILURE_HIGH
            result[x <= self.failure_low] = high if self.falling else low
            result[x >= self.failure_high] = low if self.falling else high
        result[~np.isfinite(x)] = Quality.NO_NUMBER
        return result

    def __str__(self) -> str:
        return (
            f"NE 43: good {self.good_low:g}..{self.good_high:g}, failure to {self.failure_low:g} and "
            f"from {self.failure_high:g} on"
        )
