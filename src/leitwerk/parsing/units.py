"""Units: a closed list of symbols, looked up once and turned into plain numbers.

The arithmetic of dimensions is pint's, on a definition file of ours (``units.txt``). Free text
never reaches pint: a text is split by a small grammar (symbols with exponents, joined by ``/`` and
``·``), and every symbol must be in the list.
"""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from importlib import resources
from typing import TYPE_CHECKING, TypeVar

from leitwerk.errors import UnitError

if TYPE_CHECKING:
    import numpy as np
    import pint
    from numpy.typing import NDArray

    Number = TypeVar("Number", float, NDArray[np.float64])

# What people write -> what the definition file calls it. The first spelling of each unit is the one
# that Leitwerk writes itself.
_SPELLINGS: dict[str, tuple[str, ...]] = {
    "celsius": ("°C", "degC", "℃"),
    "fahrenheit": ("°F", "degF"),
    "kelvin": ("K",),
    "volt": ("V",),
    "millivolt": ("mV",),
    "microvolt": ("µV", "μV", "uV"),
    "kilovolt": ("kV",),
    "ampere": ("A",),
    "milliampere": ("mA",),
    "microampere": ("µA", "μA", "uA"),
    "ohm": ("Ω", "Ω", "ohm", "Ohm"),
    "kiloohm": ("kΩ", "kΩ", "kohm", "kOhm"),
    "joule": ("J",),
    "millijoule": ("mJ",),
    "kilojoule": ("kJ",),
    "milliwatt": ("mW",),
    "watt": ("W",),
    "kilowatt": ("kW",),
    "hertz": ("Hz",),
    "kilohertz": ("kHz",),
    "pascal": ("Pa",),
    "hectopascal": ("hPa",),
    "kilopascal": ("kPa",),
    "bar": ("bar",),
    "millibar": ("mbar",),
    "meter": ("m",),
    "millimeter": ("mm",),
    "centimeter": ("cm",),
    "kilometer": ("km",),
    "liter": ("l", "L"),
    "gram": ("g",),
    "kilogram": ("kg",),
    "tonne": ("t",),
    "newton": ("N",),
    "kilonewton": ("kN",),
    "millisecond": ("ms",),
    "second": ("s",),
    "minute": ("min",),
    "hour": ("h",),
    "day": ("d",),
    "percent": ("%",),
    "decibel": ("dB",),
    "one": ("1", ""),
}
_SYMBOL = {spelling: name for name, all_of in _SPELLINGS.items() for spelling in all_of}
_WRITTEN = {name: all_of[0] for name, all_of in _SPELLINGS.items()}

# How people call a dimension; one that is not named here is shown as pint writes it.
_DIMENSIONS = {
    "celsius": "temperature",
    "volt": "voltage",
    "ampere": "current",
    "ohm": "resistance",
    "watt": "power",
    "joule": "energy",
    "hertz": "frequency",
    "pascal": "pressure",
    "meter": "length",
    "liter": "volume",
    "kilogram": "mass",
    "newton": "force",
    "second": "time",
    "percent": "ratio",
    "decibel": "level",
}

_FACTOR = re.compile(r"(?P<symbol>[^\d\s/·*^⁻²³-]+|1)(?:\^?(?P<power>-?[123]|²|³|⁻¹|⁻²))?")
_POWERS = {"²": 2, "³": 3, "⁻¹": -1, "⁻²": -2}
_FAR = 1e6  # the slope is taken over a long way, or the offset of 273.15 would eat its last digits
_MAX_LENGTH = 24  # longer texts are no unit, and are not worth the search


@dataclass(frozen=True, slots=True)
class Unit:
    """A unit, ready for arithmetic: value in base units = ``factor`` * x + ``offset``.

    ``powers`` are its base dimensions with their exponents, sorted, without zeros.
    """

    symbol: str
    dimension: str
    factor: float
    offset: float = 0.0
    powers: tuple[tuple[str, float], ...] = ()

    def __str__(self) -> str:
        return self.symbol


@cache
def _registry() -> pint.UnitRegistry[float]:
    import pint  # noqa: PLC0415 - a third of a second, spent only when units are used

    # pint's own definition file is not loaded: it knows units that look like ours and mean others.
    registry: pint.UnitRegistry[float] = pint.UnitRegistry(
        None, autoconvert_offset_to_baseunit=True
    )
    text = resources.files("leitwerk").joinpath("units.txt").read_text(encoding="utf-8")
    registry.load_definitions(text.splitlines())
    return registry


@cache
def _dimension_names() -> dict[str, str]:
    registry = _registry()
    return {str(registry.Unit(u).dimensionality): name for u, name in _DIMENSIONS.items()}


@lru_cache(maxsize=4096)
def parse_unit(text: str) -> Unit:
    """The unit that a text names.

    Raises
    ------
    UnitError
        The text is no unit of the closed list; similar ones are named.

    Examples
    --------
    >>> parse_unit("degC")
    Unit(symbol='°C', dimension='temperature', factor=1.0, offset=273.15, powers=...)
    >>> parse_unit("l/s").dimension
    '[length] ** 3 / [time]'

    """
    registry = _registry()
    product = registry.Unit("")
    written = []
    for position, part in enumerate(re.split(r"(?=/)|[·*]", text.strip())):
        divided, part_ = (-1, part[1:]) if part.startswith("/") else (1, part)
        match = _FACTOR.fullmatch(part_.strip()) if part_.strip() else None
        name = _SYMBOL.get(match["symbol"] if match else part_.strip())
        if name is None or len(text) > _MAX_LENGTH or (position and not match):
            raise _unknown_unit(text)
        power_text = (match["power"] if match else None) or "1"
        power = _POWERS.get(power_text) or int(power_text)
        product = product * registry.Unit(name) ** (divided * power)
        sign = ("/" if divided < 0 else "·") if position else ""
        written.append(sign + _WRITTEN[name] + ("" if power == 1 else f"^{power}"))
    try:
        zero, far = (registry.Quantity(x, product).to_base_units().magnitude for x in (0.0, _FAR))
    except TypeError:  # what pint's errors about units are
        raise UnitError(
            f"{text!r}: a unit with an offset stands alone", valid="K in place of °C and °F"
        ) from None
    dimension = str(product.dimensionality)
    powers = sorted(
        (str(name), float(str(power))) for name, power in product.dimensionality.items()
    )
    return Unit(
        symbol="".join(written),
        dimension=_dimension_names().get(dimension, dimension),
        factor=float(f"{(far - zero) / _FAR:.15g}"),
        offset=zero,
        powers=tuple(powers),
    )


def _unknown_unit(text: str) -> UnitError:
    other_case = [symbol for symbol in _SYMBOL if symbol.lower() == text.lower()]
    similar = difflib.get_close_matches(text[:_MAX_LENGTH], _SYMBOL, n=3, cutoff=0.5)
    near = other_case or similar
    near = list(dict.fromkeys(_WRITTEN[_SYMBOL[symbol]] for symbol in near))
    return UnitError(
        f"{_shorten(text)!r} is no unit that Leitwerk knows",
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
            f"{source.symbol} is a unit of {source.dimension}, {target.symbol} one of "
            f"{target.dimension}",
            valid=f"a unit of {target.dimension}, such as {target.symbol}",
        )
    return (value * source.factor + (source.offset - target.offset)) / target.factor


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
