"""Measurement uncertainty to the GUM: a budget line by line."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal, TypeAlias

from leitwerk.errors import DomainError

Distribution: TypeAlias = Literal["normal", "expanded", "rectangular", "triangular", "u-shaped"]
# JCGM 100:2008, 4.3: what a half-width (or expanded uncertainty) is divided by.
_DIVISORS: dict[str, float] = {
    "normal": 1.0,
    "expanded": 2.0,
    "rectangular": math.sqrt(3.0),
    "triangular": math.sqrt(6.0),
    "u-shaped": math.sqrt(2.0),
}
_ROUNDING = 1.0 + 1e-9  # whole degrees of freedom may come out of sums a little too small
COVERAGE = 0.9545  # JCGM 100:2008, G.6.6: k = 2 for many degrees of freedom


@dataclass(frozen=True, slots=True)
class Contribution:
    """One line of a budget.

    Parameters
    ----------
    name : str
    amount : float
        A standard uncertainty (``normal``), an expanded one with k = 2 (``expanded``), or a
        half-width (the others). A resolution of one step is a rectangle of half a step.
    distribution : str
    sensitivity : float
        By how much the result changes per unit of this.
    freedom : float
        Degrees of freedom: n - 1 for a mean of n readings; infinite when the amount is known.

    """

    name: str
    amount: float
    distribution: Distribution = "normal"
    sensitivity: float = 1.0
    freedom: float = math.inf

    def __post_init__(self) -> None:
        if self.distribution not in _DIVISORS:
            raise DomainError(
                f"{self.distribution!r} is not a distribution", remedy=", ".join(_DIVISORS)
            )
        if not (self.amount >= 0.0 and math.isfinite(self.amount * self.sensitivity)):
            raise DomainError(
                f"{self.name}: {self.amount:g} is not an uncertainty", remedy="0 or more"
            )
        if not self.freedom >= 1.0:
            raise DomainError(
                f"{self.name}: {self.freedom:g} degrees of freedom are not valid",
                remedy="read at least twice, or give the deviation of an earlier, longer series",
            )

    @property
    def standard(self) -> float:
        """The standard uncertainty of the result due to this line."""
        return abs(self.sensitivity) * self.amount / _DIVISORS[self.distribution]


@dataclass(frozen=True, slots=True)
class Budget:
    """An uncertainty budget; the contributions are independent of each other.

    ``bias`` is an error that is known and not corrected for: it widens the expanded uncertainty.

    References
    ----------
    JCGM 100:2008 (GUM), clause 5.1.2 (combination), G.4.1 (effective degrees of freedom by Welch and
    Satterthwaite), G.6.4 (coverage factor), F.2.4.5 (a known error that is not
    corrected).

    Examples
    --------
    >>> budget = Budget((
    ...     Contribution("reference, certificate", 0.02, "expanded"),
    ...     Contribution("resolution 0.1", 0.05, "rectangular"),
    ...     Contribution("mean of 5 readings", 0.03, freedom=4),
    ... ))
    >>> round(budget.standard, 4), round(budget.freedom, 1), round(budget.k, 2)
    (0.0428, 16.6, 2.17)

    """

    contributions: tuple[Contribution, ...]
    bias: float = 0.0

    @property
    def standard(self) -> float:
        """The combined standard uncertainty."""
        return math.hypot(*(c.standard for c in self.contributions))

    @property
    def freedom(self) -> float:
        """The effective degrees of freedom."""
        rest = sum(c.standard**4 / c.freedom for c in self.contributions)
        return self.standard**4 / rest if rest > 0.0 else math.inf

    @property
    def k(self) -> float:
        """The coverage factor for 95.45 %: Student's t for the effective degrees of freedom,
        truncated to an integer as the GUM asks.
        """
        from scipy.special import stdtrit  # noqa: PLC0415 - heavy, and rarely needed

        freedom = self.freedom
        if math.isinf(freedom):
            return 2.0
        return float(stdtrit(max(1.0, math.floor(freedom * _ROUNDING)), 0.5 + COVERAGE / 2.0))

    @property
    def expanded(self) -> float:
        """The expanded uncertainty for a coverage of 95.45 %."""
        return self.k * self.standard + abs(self.bias)

    def lines(self) -> list[dict[str, Any]]:
        """The budget as a table: one row for each contribution, with its share of the variance."""
        variance = self.standard**2
        return [
            {
                "name": c.name,
                "amount": c.amount,
                "distribution": c.distribution,
                "sensitivity": c.sensitivity,
                "standard": c.standard,
                "freedom": None if math.isinf(c.freedom) else c.freedom,
                "share": c.standard**2 / variance if variance else 0.0,
            }
            for c in self.contributions
        ]

    def __str__(self) -> str:
        rows = [
            f"{row['name']:32} {row['amount']:<10.4g} {row['distribution']:12} "
            f"{row['standard']:<10.4g} {row['share']:4.0%}"
            for row in self.lines()
        ]
        freedom = "∞" if math.isinf(self.freedom) else f"{self.freedom:.0f}"
        if self.bias:
            rows.append(
                f"known error, not corrected: {self.bias:+.4g}, added to the expanded uncertainty"
            )
        rows.append(
            f"combined {self.standard:.4g}, {freedom} degrees of freedom, k = {self.k:.2f}, "
            f"expanded {self.expanded:.2g}"
        )
        return "\n".join(rows)


def mean_contribution(name: str, readings: Sequence[float]) -> Contribution:
    """The line for a mean of repeated readings (type A).

    Raises
    ------
    DomainError
        Fewer than two readings.

    References
    ----------
    JCGM 100:2008, 4.2.3.

    """
    count = len(readings)
    if count < 2:
        raise DomainError(f"{name}: {count} readings have no deviation", remedy="read again")
    mean = math.fsum(readings) / count
    deviation = math.sqrt(math.fsum((r - mean) ** 2 for r in readings) / (count - 1))
    return Contribution(name, deviation / math.sqrt(count), freedom=count - 1)
