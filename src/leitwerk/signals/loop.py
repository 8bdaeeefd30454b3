"""Current loops: through a shunt into a voltage input."""

from __future__ import annotations

from dataclasses import dataclass

from leitwerk.errors import DomainError
from leitwerk.signals.linear import Linear

LOOP_MA = (4.0, 20.0)
_FAILURE_MA = 21.0  # NAMUR NE 43: a transmitter may drive so much, and it must still be seen


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
                f"{self.resistance:g} Ω within {self.tolerance:.3%} is no shunt",
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
