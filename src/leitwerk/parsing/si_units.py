r"""Units as D-SI writes them, the form of units in digital calibration certificates: ``\metre\per\second``.

Source: the published description of D-SI (Digital System of Units), chapter on units: prefix and unit as
words behind a backslash, powers as ``\tothe{2}``, what stands behind ``\per`` divides.
"""

from __future__ import annotations

import re
from functools import lru_cache

from leitwerk.errors import UnitError
from leitwerk.parsing.units import Unit, parse_unit

_NAMES = {
    "m": "metre", "g": "gram", "s": "second", "A": "ampere", "K": "kelvin", "mol": "mole", "cd": "candela",
    "Hz": "hertz", "N": "newton", "Pa": "pascal", "J": "joule", "W": "watt", "C": "coulomb", "V": "volt",
    "F": "farad", "Ω": "ohm", "S": "siemens", "Wb": "weber", "T": "tesla", "H": "henry", "lm": "lumen",
    "lx": "lux", "l": "litre", "t": "tonne", "min": "minute", "h": "hour", "d": "day", "bar": "bar",
    "°C": "degreecelsius", "°": "degree", "rad": "radian", "sr": "steradian", "%": "percent",
    "dB": "decibel", "1": "one", "kg": "kilogram",
}  # fmt: skip
_PREFIXES = {
    "p": "pico", "n": "nano", "µ": "micro", "m": "milli", "c": "centi", "d": "deci", "h": "hecto",
    "k": "kilo", "M": "mega", "G": "giga", "T": "tera",
}  # fmt: skip
_SYMBOLS = {name: symbol for symbol, name in _NAMES.items()}
_PREFIX_SYMBOLS = {name: symbol for symbol, name in _PREFIXES.items()}
_WORD = re.compile(r"\\([a-z]+)(?:\{(-?[0-9]+)\})?")
_FACTOR = re.compile(r"([·/]?)([^·/^]+)(?:\^(-?\d+))?")
_MAX_LENGTH = 200


def si_text(unit: Unit) -> str:
    r"""A unit as D-SI writes it.

    Raises
    ------
    UnitError
        D-SI has no name for it.

    Examples
    --------
    >>> print(si_text(parse_unit("°C")), si_text(parse_unit("mV/V")), si_text(parse_unit("m/s²")))
    \degreecelsius \milli\volt\per\volt \metre\per\second\tothe{2}

    """
    if not unit.symbol:
        return r"\one"
    parts = []
    for sign, symbol, power in _FACTOR.findall(unit.symbol):
        if symbol == "1":
            continue
        parts.append(
            (r"\per" if sign == "/" else "")
            + _named(symbol)
            + (rf"\tothe{{{power}}}" if power else "")
        )
    return "".join(parts)


def _named(symbol: str) -> str:
    if symbol in _NAMES:
        return f"\\{_NAMES[symbol]}"
    prefix, rest = symbol[:1], symbol[1:]
    if prefix in _PREFIXES and rest in _NAMES:
        return f"\\{_PREFIXES[prefix]}\\{_NAMES[rest]}"
    raise UnitError(f"D-SI has no name for {symbol!r}", valid=", ".join(_NAMES))


@lru_cache(maxsize=1024)
def parse_si_unit(text: str) -> Unit:
    r"""The unit that D-SI writes so.

    Raises
    ------
    UnitError
        It is not written as D-SI has it, or Leitwerk does not know it.

    Examples
    --------
    >>> parse_si_unit(r"\kilo\pascal").symbol, parse_si_unit(r"\one").symbol
    ('kPa', '')
    >>> parse_si_unit(r"\metre\per\second\tothe{2}").symbol
    'm/s^2'

    """
    stripped = text.strip()
    words = _WORD.findall(stripped) if len(stripped) <= _MAX_LENGTH else []
    if not words or _WORD.sub("", stripped).strip():
        raise UnitError(
            f"{stripped[:40]!r} is not a unit of D-SI", valid=r"\degreecelsius, \kilo\pascal"
        )
    symbols: list[str] = []
    divides, prefix = False, ""
    for word, number in words:
        if word == "per":
            divides = True
        elif word == "tothe" and symbols:
            symbols[-1] += f"^{number}"
        elif word in _PREFIX_SYMBOLS:
            prefix = _PREFIX_SYMBOLS[word]
        elif word in _SYMBOLS:
            symbols.append(("/" if divides else "·") + prefix + _SYMBOLS[word])
            divides, prefix = False, ""
        else:
            raise UnitError(
                f"the unit \\{word} of D-SI is not known here", valid=", ".join(_SYMBOLS)
            )
    joined = "".join(symbols).removeprefix("·")
    return parse_unit(f"1{joined}" if joined.startswith("/") else joined)
