"""Units: a closed list of symbols, looked up once and turned into plain numbers.

The list is ``unit_table.py``; its numbers were worked out with pint when it was written, and the
tests hold them against it. Free text meets a small grammar (symbols with powers, joined by ``/``
and ``·``), and every symbol must be in the list.
"""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from typing import TYPE_CHECKING, TypeVar

from leitwerk.errors import UnitError
from leitwerk.parsing.unit_table import DIMENSIONS, SPELLINGS, UNITS

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Number = TypeVar("Number", float, NDArray[np.float64])

# One part of a product: a symbol or 1, and its power.
_PART = re.compile(r"(?P<symbol>[^\d\s/·*^()⁻²³⁴-]+|1)(?:\^?(?P<power>-?[1-4]|⁻?[¹²³⁴]))?")
_SUPERSCRIPTS = str.maketrans("⁻¹²³⁴", "-1234")
_MAX_LENGTH = 24  # longer texts are not valid units, and are not worth the search
Powers = tuple[tuple[str, float], ...]


@dataclass(frozen=True, slots=True)
class Unit:
    """A unit, ready for arithmetic: value in SI base units = ``factor`` * x + ``offset``.

    ``powers`` are its base dimensions with their exponents, sorted, without zeros.
    """

    symbol: str
    dimension: str
    factor: float
    offset: float = 0.0
    powers: Powers = ()

    def __str__(self) -> str:
        return self.symbol

    @property
    def difference(self) -> str:
        """The symbol for a difference of two values: K for those in °C."""
        return "K" if self.symbol == "°C" else self.symbol


@lru_cache(maxsize=4096)
def parse_unit(text: str) -> Unit:
    """The unit that a text names.

    The text is a symbol of the closed list, or symbols joined by ``·`` and ``/``, each with a power
    (``m^3/h``, ``µS/cm``, ``W/(m²·K)``). Behind a ``/`` one part is meant, or all in parentheses.

    Raises
    ------
    UnitError
        The text is not a unit of the closed list; similar ones are named.

    Examples
    --------
    >>> parse_unit("degC")
    Unit(symbol='°C', dimension='temperature', factor=1.0, offset=273.15, powers=...)
    >>> parse_unit("l/s").dimension
    'volume flow'
    >>> parse_unit("kWh").symbol, parse_unit("W/(m²·K)").symbol
    ('kW·h', 'W/m^2/K')

    """
    text = text.strip()
    if text in {"", "1"}:
        return Unit("", "ratio", 1.0)
    symbol = SPELLINGS.get(text, text)
    if symbol in UNITS:
        factor, offset, powers = UNITS[symbol]
        return Unit(symbol, dimension_name(powers), factor, offset, powers)
    return _compound(text)


def _compound(text: str) -> Unit:
    factor, sums, written = 1.0, dict[str, float](), ""
    for divided, symbol, power in _parts(text):
        own, offset, powers = UNITS[symbol]
        if offset:
            raise UnitError(
                f"{text!r}: a unit with an offset stands alone", valid="K in place of °C and °F"
            )
        signed = -power if divided else power
        factor *= own**signed
        for name, exponent in powers:
            sums[name] = sums.get(name, 0.0) + signed * exponent
        sign = "/" if divided else "·" if written else ""
        written += sign + symbol + ("" if power == 1 else f"^{power}")
    powers = tuple(sorted((name, power) for name, power in sums.items() if power))
    # Products of rounded factors: the last digit is noise.
    return Unit(written, dimension_name(powers), float(f"{factor:.15g}"), 0.0, powers)


def _parts(text: str) -> list[tuple[bool, str, int]]:
    """The parts of a product: whether it is divided by, the symbol, the power."""
    if len(text) > _MAX_LENGTH:
        raise _unknown_unit(text)
    parts = []
    for position, section in enumerate(text.split("/")):
        inner = section.strip()
        if position and inner.startswith("(") and inner.endswith(")"):
            factors, divided = re.split(r"[·*]", inner[1:-1]), True
        else:
            factors, divided = re.split(r"[·*]", inner), False
        for number, factor in enumerate(factors):
            match = _PART.fullmatch(factor.strip())
            symbol = SPELLINGS.get(match["symbol"], match["symbol"]) if match else ""
            if match is None or symbol not in UNITS:
                raise _unknown_unit(text)
            power = int((match["power"] or "1").translate(_SUPERSCRIPTS))
            parts.append((divided or (position > 0 and number == 0), symbol, power))
    return parts


@cache
def _dimension_names() -> dict[Powers, str]:
    return {parse_powers(unit): name for unit, name in DIMENSIONS.items()}


def parse_powers(text: str) -> Powers:
    """The base dimensions of a unit, without its name: names are found by them."""
    sums: dict[str, float] = {}
    for divided, symbol, power in [(False, text, 1)] if text in UNITS else _parts(text):
        for name, exponent in UNITS[symbol][2]:
            sums[name] = sums.get(name, 0.0) + (-power if divided else power) * exponent
    return tuple(sorted((name, power) for name, power in sums.items() if power))


@lru_cache(maxsize=4096)
def dimension_name(powers: Powers) -> str:
    """A dimension in words: its name, or its base dimensions with their powers."""
    if len(powers) == 1 and powers[0][1] == 1.0:
        return powers[0][0]
    if powers in (names := _dimension_names()):
        return names[powers]
    over = [_power(name, p) for name, p in powers if p > 0]
    under = [_power(name, -p) for name, p in powers if p < 0]
    return "/".join(["·".join(over) or "1", *under])


def _power(name: str, exponent: float) -> str:
    return name if exponent == 1.0 else f"{name}^{exponent:g}"


def _unknown_unit(text: str) -> UnitError:
    known = [*UNITS, *SPELLINGS]
    other_case = [symbol for symbol in known if symbol.lower() == text.lower()]
    similar = difflib.get_close_matches(text[:_MAX_LENGTH], known, n=3, cutoff=0.5)
    near = list(dict.fromkeys(SPELLINGS.get(s, s) for s in other_case or similar))
    return UnitError(
        f"{_shorten(text)!r} is not a unit that Leitwerk knows",
        valid=", ".join(near) if near else "for instance °C, V, mA, Ω, %, bar, m, l/s, s",
        remedy="write the unit's symbol" + (f"; did you mean {near[0]}?" if near else ""),
    )


def _shorten(text: str) -> str:
    return text if len(text) <= _MAX_LENGTH else text[:_MAX_LENGTH] + "…"


def convert(value: Number, source: Unit, target: Unit) -> Number:
    """``value`` in another unit of the same dimension.

    Raises
    ------
    UnitError
        The two units measure different things.

    Examples
    --------
    >>> convert(0.25, parse_unit("V"), parse_unit("mV"))
    250.0

    """
    if source is target or source == target:  # the first is quick: parsed units are kept
        return value
    if source.dimension != target.dimension:
        raise UnitError(
            _misfit(source, target),
            valid=f"a unit of {target.dimension}, such as {target.symbol}"
            if target.symbol
            else "a plain number",
        )
    return (value * source.factor + (source.offset - target.offset)) / target.factor


def _misfit(source: Unit, target: Unit) -> str:
    """Why two units do not fit, in words; one without a symbol is a plain number."""
    is_of = (
        f"{source.symbol} is a unit of {source.dimension}" if source.symbol else "a plain number"
    )
    if not target.symbol:
        return f"{is_of}, and a plain number is wanted"
    if not source.symbol:
        return f"{is_of}, and {target.symbol} is a unit of {target.dimension}"
    return f"{is_of}, {target.symbol} one of {target.dimension}"


def convert_difference(value: Number, source: Unit, target: Unit) -> Number:
    """A difference (a tolerance, a step) in another unit: offsets such as 0 °C play no part."""
    if source == target:
        return value
    return convert(value, replace(source, offset=0.0), replace(target, offset=0.0))


def gain_between(factor: float, per: Unit, signal: Unit, value: Unit) -> float:
    """A gain such as 0.5 kN/mV as a plain number from one unit to another.

    Raises
    ------
    UnitError
        A signal in ``signal`` times a factor in ``per`` is not what ``value`` measures; the message
        names both.

    Examples
    --------
    >>> kn_per_mv, volt, newton = (parse_unit(u) for u in ("kN/mV", "V", "N"))
    >>> gain_between(0.5, kn_per_mv, volt, newton)
    500000.0

    """
    found: dict[str, float] = dict(per.powers)
    for name, power in signal.powers:
        found[name] = found.get(name, 0.0) + power
    if {k: v for k, v in found.items() if v} != dict(value.powers):
        raise UnitError(
            f"a factor in {per.symbol} on a signal in {signal.symbol} does not lead to "
            f"{value.symbol or '1'}",
            valid=f"a factor in {value.symbol or '1'}/({signal.symbol})",
        )
    return float(f"{factor * per.factor * signal.factor / value.factor:.15g}")
