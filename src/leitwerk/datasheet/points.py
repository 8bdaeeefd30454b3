"""Points: single values in a device, for all protocols.

A point's value is a text (also for choices and times), or a number in the point's unit. What comes back
after it was encoded and decoded is what the device *could* store.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import KW_ONLY, dataclass
from functools import cached_property
from typing import Generic, Self, TypeAlias, TypeVar

from leitwerk.parsing.quantities import parse_quantity
from leitwerk.parsing.units import parse_unit

# A number is a float; a whole one that a float could not hold exactly is an int.
Stored: TypeAlias = float | int | str

INDEX = re.compile(r"\{(\w+)\}")
_LONG = re.compile(r"[-+]?\d{16,20}")  # more digits than a float holds
# Units that another setting decides: that of the input, and that of the channel.
OF_SIGNAL, OF_CHANNEL = "signal", "channel"


@dataclass(frozen=True, slots=True)
class Point(ABC):
    """One value in a device: what it is called, and what it may be.

    A number lies within ``limits`` where the device says so. What is ``self_adjusting`` may end at
    another value than was written, and that is right. ``needs`` is ``stopped`` or ``restart`` where
    writing takes that, or has no effect without it. ``special`` names codes that stand for no value,
    ``substitute`` is the value that the device shows when a sensor is missing. ``unit_by`` and
    ``decimals_by`` are settings that decide in which unit, and with how many decimals, a reading comes;
    ``unit`` is the one in which it is given here. ``set_shown_by`` is
    the point of the status that says whether a secret is set. ``requires`` is what points of the status must
    say before this one is written. The choice of the setting ``span_by`` decides which of ``spans`` holds.
    """

    name: str
    _: KW_ONLY
    unit: str = ""
    limits: tuple[float, float] | None = None
    special: tuple[tuple[float, str], ...] = ()
    substitute: float | None = None
    read_only: bool = False
    role: str = ""
    needs: str = ""
    self_adjusting: bool = False
    set_shown_by: str = ""
    requires: tuple[tuple[str, str], ...] = ()
    span_by: str = ""
    spans: tuple[tuple[str, tuple[float, float]], ...] = ()
    unit_by: str = ""
    decimals_by: str = ""

    @property
    @abstractmethod
    def place(self) -> str:
        """Where it lives, for people."""

    @property
    @abstractmethod
    def choice_numbers(self) -> tuple[tuple[str, float], ...]:
        """Each choice, and the number that stands for it where readings are read as numbers."""

    @property
    def choice_names(self) -> tuple[str, ...]:
        """The names of its choices, empty when it has none."""
        return tuple(name for name, _ in self.choice_numbers)

    @property
    @abstractmethod
    def is_text(self) -> bool:
        """Whether the value is a free text."""

    @property
    def special_words(self) -> tuple[str, ...]:
        """What its codes for no value are called."""
        return tuple(name for _, name in self.special)

    @property
    def is_time(self) -> bool:
        """Whether the value is a moment, written as a text."""
        return False

    @property
    @abstractmethod
    def resolution(self) -> float:
        """The smallest difference between two values; 0 where numbers float, or it is not known."""

    @property
    def fixed_unit(self) -> str:
        """Its unit, empty where another setting decides it or it has choices."""
        decided = self.unit in {OF_SIGNAL, OF_CHANNEL} or bool(self.choice_names)
        return "" if decided else self.unit

    @property
    def tells_missing_values(self) -> bool:
        """Whether the value alone says when it is not a reading."""
        return bool(self.special) or self.substitute is not None or self.limits is not None

    @abstractmethod
    def at(self, index: int, stride: int) -> Self:
        """The same for another index, that many strides on."""

    @abstractmethod
    def special_name(self, value: float) -> str:
        """What a number stands for that is not a value, empty when it is one."""

    @abstractmethod
    def span(self) -> tuple[float, float]:
        """The smallest and the largest number that can be stored."""

    @abstractmethod
    def storable(self, value: Stored) -> Stored:
        """What the device has in memory when ``value`` is written.

        Raises
        ------
        QuantityError
            It cannot store that: a number outside its span, an unknown choice, a text that is too
            long or has characters it does not have.

        """

    def value_of(self, text: str) -> Stored:
        """The value that a text means for this point: a number in its unit, or the text itself.

        Raises
        ------
        QuantityError
            The text is not a number in such a unit.

        """
        is_word = text in self.special_words
        if self.is_text or self.is_time or self.choice_names or is_word:
            return text
        if _LONG.fullmatch(text.strip()):
            return int(text)
        unit = "" if self.unit in {OF_SIGNAL, OF_CHANNEL} else self.unit
        return parse_quantity(text).value_in(parse_unit(unit))


def name_at(name: str, index: int) -> str:
    """A name with a number in the place of its letter: ``channel.{n}.range`` of 3."""
    head, _, rest = name.partition("{")
    return f"{head}{index}{rest.partition('}')[2]}"


P_co = TypeVar("P_co", bound=Point, covariant=True)


@dataclass(frozen=True)
class PointFamily(Generic[P_co]):
    """Points that differ by one index: ``channel.{n}.range`` lives at ``start + stride * n``.

    ``further`` are members of the same family that lie elsewhere.
    """

    template: P_co
    own_indices: Sequence[int]
    stride: int = 0
    further: tuple[PointFamily[P_co], ...] = ()

    @cached_property
    def indices(self) -> Sequence[int]:
        """The indices of all members; empty for a single point."""
        if not self.further:
            return self.own_indices
        return tuple(sorted([*self.own_indices, *(i for f in self.further for i in f.indices)]))

    def name_at(self, index: int | None) -> str:
        """The name of the point of one index."""
        return self.template.name if index is None else name_at(self.template.name, index)

    def point(self, index: int | None = None) -> P_co:
        """The point of one index (None: the family is a single point).

        Raises
        ------
        KeyError
            The device has no such index.

        """
        if index is None or not self.indices:
            return self.template
        if index in self.own_indices:
            return self.template.at(index, self.stride)
        for family in self.further:
            if index in family.own_indices:
                return family.point(index)
        raise KeyError(index)

    def storable(self, value: Stored) -> Stored:
        """As ``Point.storable``; every member of the family stores alike."""
        return self.template.storable(value)

    def points(self) -> list[P_co]:
        """All points of the family, in order."""
        return [self.point(index) for index in self.indices] or [self.template]
