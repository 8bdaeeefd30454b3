"""Quantities as people write them: ``10 s``, ``4..20 mA``, ``21.5 ± 0.5 °C``, ``±1 V``.

ASCII spellings mean the same: ``+/-`` or ``+-`` for ±, ``degC`` for °C, ``ohm`` for Ω.
A number without a unit keeps ``unit=None``; the caller knows which unit is meant.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import lru_cache

from leitwerk.errors import QuantityError, UnitError
from leitwerk.parsing.units import Unit, convert, convert_difference, parse_unit

_NUMBER = r"[-+−]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d+)?"
_UNIT = r"[^\s\d.±+,;:-][^±,;:]*?|1/\S+"
_QUANTITY = re.compile(rf"\s*({_NUMBER})\s*({_UNIT})?\s*")
_SPAN = re.compile(rf"\s*({_NUMBER})\s*({_UNIT})?\s*(?:\.\.|…)\s*({_NUMBER})\s*({_UNIT})?\s*")
_SYMMETRIC = re.compile(rf"\s*(?:±|\+/-|\+-)\s*({_NUMBER})\s*({_UNIT})?\s*")
_EXPECTED = re.compile(
    rf"\s*({_NUMBER})\s*({_UNIT})?\s*(?:±|\+/-|\+-)\s*({_NUMBER})\s*({_UNIT})?\s*"
)
_COMMA = re.compile(r"\d,\d")
_MAX_LENGTH = 80  # no quantity is longer


@dataclass(frozen=True, slots=True)
class Quantity:
    """A number with its unit, or without one where the place says which is meant."""

    value: float
    unit: Unit | None = None

    def __str__(self) -> str:
        return format_value(self.value, self.unit)

    def value_in(self, unit: Unit) -> float:
        """The number in ``unit``; a bare number is taken to be in it already."""
        return self.value if self.unit is None else convert(self.value, self.unit, unit)

    @property
    def seconds(self) -> float:
        """A duration in s."""
        return self.value_in(parse_unit("s"))


@dataclass(frozen=True, slots=True)
class Span:
    """From ``low`` to ``high``, both in ``unit``; ``low`` may stand above ``high``."""

    low: float
    high: float
    unit: Unit | None = None

    def __str__(self) -> str:
        return format_span(self.low, self.high, self.unit)

    def ends_in(self, unit: Unit) -> tuple[float, float]:
        """Both ends in ``unit``."""
        if self.unit is None:
            return self.low, self.high
        return convert(self.low, self.unit, unit), convert(self.high, self.unit, unit)


@dataclass(frozen=True, slots=True)
class Expected:
    """The value that should show, and how far it may be off to either side."""

    value: float
    tolerance: float
    unit: Unit | None = None

    def __str__(self) -> str:
        return f"{format_number(self.value)} ± {format_value(self.tolerance, self.unit)}"

    def value_in(self, unit: Unit) -> tuple[float, float]:
        """Value and tolerance in ``unit``; the tolerance is a difference and knows no offset."""
        if self.unit is None:
            return self.value, self.tolerance
        return (
            convert(self.value, self.unit, unit),
            convert_difference(self.tolerance, self.unit, unit),
        )


def format_number(value: float, digits: int = 6) -> str:
    """A number for people: at most ``digits`` significant digits, no needless zeros or exponent.

    Examples
    --------
    >>> format_number(75.0), format_number(0.1 + 0.2), format_number(-0.0)
    ('75', '0.3', '0')

    """
    if isinstance(value, int):  # it has more digits than a float holds: all of them count
        return str(value)
    if not math.isfinite(value):
        return "–"
    text = f"{value:.{digits}g}"
    if "e" in text and 1e-6 <= abs(value) < 1e12:
        text = f"{value:.{max(0, digits - 1 - math.floor(math.log10(abs(value))))}f}"
    return "0" if text in {"-0", "0"} else text


def format_value(value: float, unit: Unit | None) -> str:
    """A number with its unit, for people."""
    symbol = "" if unit is None or unit.symbol == "1" else f" {unit.symbol}"
    return format_number(value) + symbol


def format_span(low: float, high: float, unit: Unit | None) -> str:
    """A span for people: ``0..1 V``, or ``±1 V`` when it lies evenly around zero."""
    if low == -high and high > 0:
        return f"±{format_value(high, unit)}"
    return f"{format_number(low)}..{format_value(high, unit)}"


@lru_cache(maxsize=16384)
def parse_quantity(text: str) -> Quantity:
    """A number with an optional unit.

    Raises
    ------
    QuantityError
        The text is not a quantity, or its unit is unknown.

    Examples
    --------
    >>> str(parse_quantity("0.2 degC"))
    '0.2 °C'

    """
    match = _match(_QUANTITY, text, "a quantity", "a number and a unit, such as 10 s or 78 °C")
    return Quantity(_number(match[1], text), _unit(match[2]))


@lru_cache(maxsize=16384)
def parse_span(text: str) -> Span:
    """From..to with a unit, or ±limit.

    Examples
    --------
    >>> parse_span("±1 V").low, str(parse_span("500 mV .. 1 V"))
    (-1.0, '0.5..1 V')

    """
    if len(text) <= _MAX_LENGTH and (match := _SYMMETRIC.fullmatch(text)):
        limit = abs(_number(match[1], text))
        return Span(-limit, limit, _unit(match[2]))
    match = _match(_SPAN, text, "a span", "low..high and a unit, such as 4..20 mA or ±1 V")
    low, high = _number(match[1], text), _number(match[3], text)
    low_unit, unit = _unit(match[2]), _unit(match[4])
    if low_unit is not None and unit is None:
        raise QuantityError(f"{text!r} names a unit for its lower end only", valid="0..1 V")
    if low_unit is not None and unit is not None:
        low = convert(low, low_unit, unit)
    return Span(low, high, unit)


@lru_cache(maxsize=16384)
def parse_expected(text: str) -> Expected:
    """Value ± tolerance with an optional unit.

    Examples
    --------
    >>> parse_expected("21.5 +/- 0.5 degC") == parse_expected("21.5 ± 0.5 °C")
    True

    """
    valid = "value ± tolerance, such as 21.5 ± 0.5 °C (ASCII: 21.5 +/- 0.5 degC)"
    match = _match(_EXPECTED, text, "an expectation", valid)
    value, tolerance = _number(match[1], text), abs(_number(match[3], text))
    value_unit, unit = _unit(match[2]), _unit(match[4])
    if value_unit is not None and unit is None:
        raise QuantityError(f"{text!r} names a unit for the value only", valid=valid)
    if value_unit is not None and unit is not None and value_unit != unit:
        # 70 °F ± 0.5 K is readable, but which of the two the channel shows would be a guess.
        raise UnitError(
            f"{text!r} mixes {value_unit} and {unit}", valid=f"both in {value_unit.symbol}"
        )
    return Expected(value, tolerance, unit)


def _match(pattern: re.Pattern[str], text: str, what: str, valid: str) -> re.Match[str]:
    match = pattern.fullmatch(text) if len(text) <= _MAX_LENGTH else None
    if match is None:
        shown = text if len(text) <= _MAX_LENGTH else text[:_MAX_LENGTH] + "…"
        remedy = "write the decimal point as a point" if _COMMA.search(shown) else ""
        raise QuantityError(f"{shown!r} is not {what}", valid=valid, remedy=remedy)
    return match


def _number(digits: str, text: str) -> float:
    value = float(digits.replace("−", "-"))
    if not math.isfinite(value):
        raise QuantityError(f"{text!r} holds a number too large to use", valid="a finite number")
    return value


def _unit(text: str | None) -> Unit | None:
    return None if text is None else parse_unit(text.strip())


def bytes_text(count: float) -> str:
    """A number of bytes for people, by thousands."""
    for unit, size in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if count >= size:
            return f"{format_number(count / size, 3)} {unit}"
    return f"{format_number(count, 3)} B"
