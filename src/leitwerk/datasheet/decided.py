"""Readings whose unit or decimals a setting of the device decides."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import format_number
from leitwerk.parsing.units import convert, parse_unit

_DIGITS = 9  # that a conversion keeps


def deciding_settings(points: Sequence[Point], datasheet: Datasheet) -> list[Point]:
    """The settings that decide how some points are to be read, each once."""
    names = [name for point in points for name in (point.unit_by, point.decimals_by) if name]
    return [datasheet.settings[name] for name in dict.fromkeys(names)]


def conversion(point: Point, settings: Mapping[str, Stored]) -> tuple[float, float]:
    """Gain and offset from a number as it is read to the point's own unit.

    Raises
    ------
    QuantityError
        The device holds a unit or a number of decimals that means nothing.

    """
    gain, offset = 1.0, 0.0
    if point.decimals_by:
        decimals = settings[point.decimals_by]
        if isinstance(decimals, str) or not 0 <= decimals <= 9:
            message = f"{point.decimals_by} is {decimals!r}: {point.name} cannot be read"
            raise QuantityError(message, valid="0 to 9 decimals")
        gain = 10.0 ** -int(decimals)
    if point.unit_by:
        own, found = parse_unit(point.unit), parse_unit(str(settings[point.unit_by]))
        offset = convert(0.0, found, own)
        gain *= convert(1.0, found, own) - offset
    return gain, offset


def in_own_unit(value: Stored, point: Point, settings: Mapping[str, Stored]) -> Stored:
    """A value as it is read, in the point's own unit; words stay."""
    if isinstance(value, str) or not (point.unit_by or point.decimals_by):
        return value
    gain, offset = conversion(point, settings)
    return float(format_number(value * gain + offset, _DIGITS))
