"""Steps of a gear from two speeds: which of some ratios is nearest, and whether it turns at all."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from leitwerk.errors import DomainError

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array: TypeAlias = NDArray[np.float64]

NO_STEP = -1.0  # where it turns, and no ratio is near enough
_NUMBER = r"\d+(?:\.\d+)?"
_RATIO = re.compile(rf"(-?)\s*({_NUMBER})\s*(?:[/:]\s*({_NUMBER}))?")


@dataclass(frozen=True, slots=True)
class Steps:
    """Ratios by name: how often the fast shaft turns for each turn of the slow one.

    Parameters
    ----------
    names : tuple of str
    ratios : tuple of float
        Negative where the slow shaft turns the other way.
    within : float
        How far a ratio may be off, as a part of it.
    least : float
        The speed of the fast shaft, in 1/s, below which it is at rest.

    Raises
    ------
    DomainError
        No ratio, one that is 0, two of one name or that are equal, or a tolerance that cannot be used.

    """

    names: tuple[str, ...]
    ratios: tuple[float, ...]
    within: float
    least: float = 0.0

    def __post_init__(self) -> None:
        if not self.ratios:
            raise DomainError("a gear without a step has no ratio", remedy="name at least one")
        for name, ratio in zip(self.names, self.ratios, strict=True):
            if not (math.isfinite(ratio) and ratio != 0.0):
                raise DomainError(
                    f"the ratio of step {name} is {ratio:g}", remedy="a ratio is not 0"
                )
        if not 0.0 < self.within < 0.5:
            raise DomainError(
                f"a tolerance of {self.within:.3g} of the ratio cannot be used",
                remedy="above 0 and below 50 %",
            )

    @property
    def numbers(self) -> tuple[float, ...]:
        """The number of each step: its name, where that is one, else one that no other has."""
        named = [float(name) if name.isdecimal() else None for name in self.names]
        free = 1.0 + max((n for n in named if n is not None), default=-1.0)
        numbers = []
        for number in named:
            numbers.append(free if number is None else number)
            free += number is None
        return tuple(numbers)

    def overlapping(self) -> list[tuple[str, str]]:
        """Pairs of steps whose tolerances overlap: between them, the nearer one is taken."""
        pairs = combinations(zip(self.names, self.ratios, strict=True), 2)
        return [
            (one, other)
            for (one, a), (other, b) in pairs
            if a * b > 0.0 and abs(a - b) < self.within * (abs(a) + abs(b))
        ]

    def at(self, fast: Array, slow: Array) -> Array:
        """The number of the step, ``NO_STEP`` where none fits, NaN at rest and where a speed is missing."""
        result: Array = np.full(np.broadcast_shapes(np.shape(fast), np.shape(slow)), NO_STEP)
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = fast / slow
            best = np.full(result.shape, np.inf)
            for number, wanted in zip(self.numbers, self.ratios, strict=True):
                off = np.abs(ratio / wanted - 1.0)
                nearer = (off <= self.within) & (off < best)
                result = np.where(nearer, number, result)
                best = np.where(nearer, off, best)
        # A shaft that stands: of the fast one, below the least speed; of the slow one, not at all.
        rest = (np.abs(fast) < self.least) | (fast == 0.0) | (slow == 0.0)
        return np.where(rest | np.isnan(fast) | np.isnan(slow), np.nan, result)

    def slow_speeds(self, fast: float) -> dict[str, float]:
        """The speed of the slow shaft in each step, where the fast one turns with ``fast``."""
        return {name: fast / ratio for name, ratio in zip(self.names, self.ratios, strict=True)}


def parse_ratio(text: str) -> float:
    """A ratio as a fraction, as two numbers of teeth, or as a decimal.

    Raises
    ------
    DomainError
        It is no ratio, or divides by zero.

    Examples
    --------
    >>> parse_ratio("43/15") == parse_ratio("43:15"), parse_ratio("2.5")
    (True, 2.5)

    """
    match = _RATIO.fullmatch(text.strip())
    if match is None or (match[3] and float(match[3]) == 0.0) or float(match[2]) == 0.0:
        raise DomainError(
            f"{text[:40]!r} is not a ratio", remedy="such as 43/15, 43:15 (teeth) or 2.867; not 0"
        )
    value = float(match[2]) / float(match[3] or 1.0)
    return -value if match[1] else value


def parse_steps(rows: Sequence[tuple[str, str]], within: float, least: float) -> Steps:
    """Steps from rows of name and ratio.

    Raises
    ------
    DomainError
        As ``Steps`` and ``parse_ratio``.

    """
    names = tuple(name for name, _ in rows)
    return Steps(names, tuple(parse_ratio(text) for _, text in rows), within, least)
