"""Units in which people like to see a channel, beside its own."""

from __future__ import annotations

from leitwerk.errors import UnitError
from leitwerk.parsing.units import Unit, convert_difference, parse_unit

_ALIKE = (
    ("°C", "°F", "K"), ("l/s", "m³/h", "l/min", "m³/s"), ("Pa", "hPa", "mbar", "kPa", "bar", "psi"),
    ("m", "cm", "mm", "ft", "in"), ("m/s", "km/h"), ("kg", "t", "g"), ("W", "kW"), ("kWh", "Wh", "MJ"),
    ("V", "mV"), ("A", "mA"), ("Ω", "kΩ"), ("Hz", "kHz"), ("s", "min", "h", "ms"), ("l", "m³"),
    ("1/min", "1/s"), ("N", "kN"), ("m/s²", "gₙ"),
)  # fmt: skip


def alike(unit: Unit) -> tuple[Unit, ...]:
    """The units to choose from for a channel in this unit: its own first.

    Examples
    --------
    >>> [str(unit) for unit in alike(parse_unit("°F"))]
    ['°F', '°C', 'K']

    """
    for symbols in _ALIKE:
        every = [parse_unit(symbol) for symbol in symbols]
        if unit in every:
            return (unit, *(other for other in every if other != unit))
    return (unit,)


def require_alike(name: str, own: Unit, wanted: Unit) -> None:
    """A channel can be shown in this unit.

    Raises
    ------
    UnitError
        It is a unit of something else.

    """
    if own.dimension != wanted.dimension:
        raise UnitError(
            f"{name} is in {own}, and cannot be shown in {wanted.symbol or '1'}",
            valid=f"a unit of {own.dimension}: {', '.join(map(str, alike(own)))}",
        )


def next_unit(own: Unit, shown: Unit) -> Unit:
    """The one behind that which is shown."""
    every = alike(own)
    return every[(every.index(shown) + 1) % len(every)] if shown in every else own


def step_in(step: float, own: Unit, shown: Unit) -> float:
    """A resolution or a tolerance in another unit."""
    return abs(float(convert_difference(step, own, shown)))
