"""Limits of a test: absolute, or around what reference units showed, with a guard band."""

from __future__ import annotations

import enum
import math
from dataclasses import dataclass

from leitwerk.errors import DomainError
from leitwerk.lots.measures import Measured

LEAST_UNITS = 10  # of a reference: then its spread is known to a quarter (1 / sqrt(2 (n - 1)))


class Around(enum.StrEnum):
    """What a deviation from the reference is given in."""

    UNIT = "unit"
    PERCENT = "%"
    SPREADS = "spreads"


@dataclass(frozen=True, slots=True)
class ReferenceValue:
    """What reference units showed: their mean, and the standard deviation of one measurement of one unit.

    ``units`` is how many units there were: that, and not how often each was measured, makes a spread known.
    """

    mean: float
    spread: float
    units: int


@dataclass(frozen=True, slots=True)
class Limits:
    """What a number must lie between, in its unit; infinite where there is no limit."""

    low: float = -math.inf
    high: float = math.inf

    @property
    def text(self) -> str:
        """The limits in words."""
        if math.isinf(self.low):
            return f"at most {self.high:.5g}"
        return (
            f"at least {self.low:.5g}"
            if math.isinf(self.high)
            else f"{self.low:.5g}..{self.high:.5g}"
        )

    def verdict(self, measured: Measured, *, uncertainty: float, guarded: bool) -> str:
        """Hold a number against the limits: ``pass``, ``below``, ``above``, or ``no value``.

        With ``guarded``, it must lie within them by its expanded uncertainty (k = 2): that of the samples and
        ``uncertainty``, the standard one of what measures (JCGM 106, 8.3.2: guarded acceptance).
        """
        value = measured.value
        if math.isnan(value):
            return "no value"
        known = 0.0 if math.isnan(measured.standard) else measured.standard
        guard = 2.0 * math.hypot(known, uncertainty) if guarded else 0.0
        if self.low + guard <= value <= self.high - guard:
            return "pass"
        nearer_low = math.isfinite(self.low) and value < (self.low + self.high) / 2.0
        return "below" if math.isinf(self.high) or nearer_low else "above"


@dataclass(frozen=True, slots=True)
class LimitRule:
    """How limits are given: fixed ends, or a deviation from the reference."""

    low: float = -math.inf
    high: float = math.inf
    deviation: float | None = None
    around: Around = Around.UNIT

    @property
    def needs_reference(self) -> bool:
        """Whether it says nothing without reference units."""
        return self.deviation is not None

    def limits(self, reference: ReferenceValue | None) -> Limits:
        """The limits, with what reference units showed.

        Raises
        ------
        DomainError
            It needs reference units, or more of them.

        """
        if self.deviation is None:
            return Limits(self.low, self.high)
        if reference is None or not math.isfinite(reference.mean):
            raise DomainError(
                "this limit is around a reference, and the reference does not have this value",
                remedy="measure reference units with this plan: leitwerk reference",
            )
        if self.around is Around.SPREADS and reference.units < LEAST_UNITS:
            raise DomainError(
                f"the spread of {reference.units} reference units is not known well enough",
                remedy=f"measure at least {LEAST_UNITS} units, or give the deviation in percent",
            )
        half = {
            Around.UNIT: self.deviation,
            Around.PERCENT: abs(reference.mean) * self.deviation / 100.0,
            Around.SPREADS: reference.spread * self.deviation,
        }[self.around]
        return Limits(reference.mean - half, reference.mean + half)
