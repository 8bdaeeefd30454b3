"""Values that are states: their names, and contacts that are wired the other way round."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


NO_STATE = math.inf  # in place of the number of a state: it is at rest, in none of them


@dataclass(frozen=True, slots=True)
class StateNames:
    """What the numbers of a channel are called, where they are states: pairs of number and name.

    Examples
    --------
    >>> charging = StateNames(((0.0, "off"), (1.0, "on"), (5.0, "absorbing")))
    >>> charging.name(5.0), charging.number("on"), charging.name(3.0)
    ('absorbing', 1.0, 'state 3')

    """

    pairs: tuple[tuple[float, str], ...]

    @property
    def names(self) -> tuple[str, ...]:
        """The names, in the order of the pairs."""
        return tuple(name for _, name in self.pairs)

    @property
    def numbers(self) -> tuple[float, ...]:
        """The numbers, in the order of the pairs."""
        return tuple(number for number, _ in self.pairs)

    def name(self, number: float) -> str:
        """What a number is called; the number itself if it has no name."""
        return next((name for known, name in self.pairs if known == number), f"state {number:g}")

    def number(self, name: str) -> float:
        """The number of a name.

        Raises
        ------
        QuantityError
            There is no such state.

        """
        for number, known in self.pairs:
            if known == name:
                return number
        raise QuantityError(f"{name!r} is not one of its states", valid=" or ".join(self.names))


@dataclass(frozen=True, slots=True)
class States:
    """What 0 and 1 are called; ``inverted`` when the signal is 1 in the first state.

    Examples
    --------
    >>> door = States(("ajar", "shut"))
    >>> door.name(1.0), door.number("ajar"), States(("ajar", "shut"), inverted=True).name(1.0)
    ('shut', 0.0, 'ajar')

    """

    names: tuple[str, str] = ("open", "closed")
    inverted: bool = False

    def value(self, signal: ArrayLike) -> NDArray[np.float64]:
        """0 or 1 for signals of any type; NaN stays NaN, all that is not 0 is 1."""
        x = np.asarray(signal, dtype=np.float64)
        high = (x != 0.0) != self.inverted
        return np.where(np.isnan(x), np.nan, high.astype(np.float64))

    def name(self, signal: float) -> str:
        """What a signal is called; ``unknown`` for NaN."""
        number = float(self.value(signal))
        return "unknown" if number != number else self.names[int(number)]

    def number(self, name: str) -> float:
        """The value of a state's name.

        Raises
        ------
        QuantityError
            There is no such state.

        """
        if name not in self.names:
            raise QuantityError(
                f"{name!r} is not one of the two states", valid=" or ".join(self.names)
            )
        return float(self.names.index(name))
