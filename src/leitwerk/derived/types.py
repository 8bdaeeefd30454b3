"""What a value in a formula is: a number with dimensions, a point on a scale, yes or no, a state."""

from __future__ import annotations

import enum
from dataclasses import dataclass

from leitwerk.parsing.units import Powers, Unit, dimension_name
from leitwerk.signals.states import StateNames


class Form(enum.Enum):
    """How a value behaves in arithmetic."""

    NUMBER = "number"
    POINT = "point"
    LOGICAL = "yes or no"
    STATE = "state"


@dataclass(frozen=True, slots=True)
class Type:
    """What a value is. Numbers are held in SI base units, temperatures in K.

    A *point* is a temperature on a scale with a zero of its own (°C, °F): points are compared and
    subtracted, and never added or multiplied. A *state* is the number of a named state.
    """

    powers: Powers = ()
    form: Form = Form.NUMBER
    states: StateNames | None = None

    @property
    def is_plain(self) -> bool:
        """Whether it is a number without a dimension."""
        return self.form is Form.NUMBER and not self.powers

    def __str__(self) -> str:
        if self.form is Form.POINT:
            return "a temperature in °C"
        if self.form is Form.NUMBER:
            name = dimension_name(self.powers)
            return (
                f"{'an' if name[0] in 'aeiou' else 'a'} {name}" if self.powers else "a plain number"
            )
        return "a condition" if self.form is Form.LOGICAL else "a state"


PLAIN = Type()
LOGICAL = Type(form=Form.LOGICAL)
SECONDS = Type((("time", 1.0),))
KELVIN = Type((("temperature", 1.0),))
POINT = Type((("temperature", 1.0),), Form.POINT)
ANGLE = Type((("angle", 1.0),))


def type_of(unit: Unit) -> Type:
    """What a value in a unit is.

    Examples
    --------
    >>> from leitwerk.parsing.units import parse_unit
    >>> str(type_of(parse_unit("°C"))), str(type_of(parse_unit("K")))
    ('a temperature in °C', 'a temperature')

    """
    return Type(unit.powers, Form.POINT if unit.offset else Form.NUMBER)


def times(left: Powers, right: Powers, sign: float = 1.0) -> Powers:
    """The dimensions of a product, of a quotient with ``sign`` -1."""
    found = dict(left)
    for name, power in right:
        found[name] = found.get(name, 0.0) + sign * power
    return tuple(sorted((name, power) for name, power in found.items() if power))


def to_the(powers: Powers, exponent: float) -> Powers:
    """The dimensions of a power."""
    return tuple((name, power * exponent) for name, power in powers if power * exponent)
