"""Conditions: what must hold for an alarm to be watched, or for a rule to act.

Written as short sentences (``air_top above 40 °C``, ``door is ajar``, ``kiln.too_hot is active``,
``time 22:00..06:00``) and joined by ``all of``, ``any of`` and ``not``. A condition is unknown where
a reading is missing; unknown is neither true nor false, and no rule acts on it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Protocol, TypeAlias

from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import DAY_S, format_time_of_day, parse_time_of_day
from leitwerk.parsing.quantities import Quantity, parse_quantity

_NAME = r"[A-Za-z]\w{0,39}(?:\.[A-Za-z]\w{0,39})?"
_COMPARED = re.compile(rf"({_NAME}) +(above|below) +(.+)")
_STATED = re.compile(rf"({_NAME}) +is +(not +)?(\S.*?)")
_TIME = re.compile(r"time +(\d\d:\d\d)\.\.(\d\d:\d\d)")
_GROUPS = ("all of", "any of", "not")
_DEEPEST = 8
_VALID = (
    "air_top above 40 °C; door is ajar; air_top.too_hot is active; time 22:00..06:00; "
    "{all of: […]}, {any of: […]}, {not: …}"
)


class Facts(Protocol):
    """What conditions are held against, at one moment."""

    time_of_day_s: float  # local time since midnight, in s

    def value(self, channel: str) -> float | None:
        """The value of a channel in its unit, None when there is no good one."""

    def states(self, subject: str) -> frozenset[str] | None:
        """The states that a contact, an alarm (``channel.alarm``) or an output is in, None when
        it is not known.
        """


@dataclass(frozen=True, slots=True)
class Compared:
    """A channel's value is above or below a limit."""

    channel: str
    above: bool
    limit: Quantity

    def __str__(self) -> str:
        return f"{self.channel} {'above' if self.above else 'below'} {self.limit}"


@dataclass(frozen=True, slots=True)
class Stated:
    """A contact, an alarm or an output is in a state."""

    subject: str
    state: str

    def __str__(self) -> str:
        return f"{self.subject} is {self.state}"


@dataclass(frozen=True, slots=True)
class TimeOfDay:
    """The local time lies from ``start_s`` (counted in) to ``end_s``; over midnight if it must."""

    start_s: int
    end_s: int

    def __str__(self) -> str:
        return f"time {format_time_of_day(self.start_s)}..{format_time_of_day(self.end_s)}"


@dataclass(frozen=True, slots=True)
class Not:
    """The opposite of a condition."""

    part: Condition

    def __str__(self) -> str:
        if isinstance(self.part, Stated):
            return f"{self.part.subject} is not {self.part.state}"
        return f"not ({self.part})"


@dataclass(frozen=True, slots=True)
class AllOf:
    """Every one of some conditions."""

    parts: tuple[Condition, ...]

    def __str__(self) -> str:
        return " and ".join(f"({p})" if isinstance(p, AnyOf) else str(p) for p in self.parts)


@dataclass(frozen=True, slots=True)
class AnyOf:
    """At least one of some conditions."""

    parts: tuple[Condition, ...]

    def __str__(self) -> str:
        return " or ".join(str(part) for part in self.parts)


Condition: TypeAlias = Compared | Stated | TimeOfDay | Not | AllOf | AnyOf


def parse_condition(value: object, depth: int = 0) -> Condition:
    """The condition that a text, a list (all of them), or a group of a file means.

    Raises
    ------
    QuantityError
        It is not a condition.

    Examples
    --------
    >>> str(parse_condition("door is not ajar"))
    'door is not ajar'

    """
    if depth > _DEEPEST:
        raise QuantityError("conditions are nested too deeply", valid=f"{_DEEPEST} levels")
    if isinstance(value, list) and value:
        return AllOf(tuple(parse_condition(part, depth + 1) for part in value))
    if isinstance(value, Mapping) and len(value) == 1 and (key := next(iter(value))) in _GROUPS:
        inner = value[key]
        if key == "not":
            return Not(parse_condition(inner, depth + 1))
        if isinstance(inner, list) and inner:
            parts = tuple(parse_condition(part, depth + 1) for part in inner)
            return AllOf(parts) if key == "all of" else AnyOf(parts)
    if isinstance(value, str) and len(value) <= 200:
        found = _parse_sentence(value.strip())
        if found is not None:
            return found
    shown = repr(value)[:60] if isinstance(value, str) else "a group of keys"
    raise QuantityError(f"{shown} is not a condition", valid=_VALID)


def _parse_sentence(text: str) -> Condition | None:
    if match := _TIME.fullmatch(text):
        return TimeOfDay(parse_time_of_day(match[1]), parse_time_of_day(match[2]))
    if match := _COMPARED.fullmatch(text):
        return Compared(match[1], match[2] == "above", parse_quantity(match[3]))
    if match := _STATED.fullmatch(text):
        stated = Stated(match[1], match[3])
        return Not(stated) if match[2] else stated
    return None


def holds(condition: Condition, facts: Facts) -> bool | None:
    """Whether a condition holds; None when that cannot be known now.

    ``all of`` with a false part is false, ``any of`` with a true part is true, also if the others are
    unknown (the logic of Kleene).
    """
    match condition:
        case Compared(channel, above, limit):
            value = facts.value(channel)
            if value is None:
                return None
            return value > limit.value if above else value < limit.value
        case Stated(subject, state):
            states = facts.states(subject)
            return None if states is None else state in states
        case TimeOfDay(start, end):
            now = facts.time_of_day_s % DAY_S
            return start <= now < end if start <= end else (now >= start or now < end)
        case Not(part):
            found = holds(part, facts)
            return None if found is None else not found
        case AllOf(parts):
            every = [holds(part, facts) for part in parts]
            return False if False in every else (None if None in every else True)
        case AnyOf(parts):
            every = [holds(part, facts) for part in parts]
            return True if True in every else (None if None in every else False)


def sentences(condition: Condition) -> Iterator[Compared | Stated | TimeOfDay]:
    """The single sentences of a condition, from left to right."""
    match condition:
        case Not(part):
            yield from sentences(part)
        case AllOf(parts) | AnyOf(parts):
            for part in parts:
                yield from sentences(part)
        case _:
            yield condition


def in_units(condition: Condition, units: Mapping[str, object]) -> Condition:
    """The condition with its limits in the units of their channels.

    Raises
    ------
    QuantityError
        A limit is of another kind than its channel.

    """
    match condition:
        case Compared(channel, _, limit):
            unit = units.get(channel)
            if unit is None:
                return condition
            return replace(condition, limit=Quantity(limit.value_in(unit), unit))  # type: ignore[arg-type]
        case Not(part):
            return Not(in_units(part, units))
        case AllOf(parts):
            return AllOf(tuple(in_units(part, units) for part in parts))
        case AnyOf(parts):
            return AnyOf(tuple(in_units(part, units) for part in parts))
        case _:
            return condition
