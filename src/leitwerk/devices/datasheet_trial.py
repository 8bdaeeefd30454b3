"""Trying a datasheet on a device: every point read by itself, nothing written, and what looks wrong."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from typing import Any

from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.register_points import RegisterPoint
from leitwerk.datasheet.registers import FLOATS
from leitwerk.datasheet.vocabulary import DEVICE_CLOCK
from leitwerk.devices.clock import read_clock
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceRefused, LinkError, QuantityError
from leitwerk.parsing.quantities import format_number

_GROUPS = ("identity", "status", "readings", "settings")
_CLOCK_OFF_S = 86400.0 * 365 * 5  # a clock that was never set is no slip of the datasheet
_SMALL, _LARGE = 1e-9, 1e12  # numbers that are measured are between these
_WORD = 65536.0
_MANY = _WORD * 256.0  # numbers of two words that are right are rarely larger


@dataclass(frozen=True, slots=True)
class PointTrial:
    """One point on trial: what it holds, or why there is nothing; ``doubt`` is why it looks wrong."""

    group: str
    name: str
    place: str
    value: Stored | None
    unit: str
    trouble: str
    doubt: str = ""

    def __str__(self) -> str:
        value = format_number(self.value, 9) if isinstance(self.value, float | int) else self.value
        shown = self.trouble or f"{value}" + (f" {self.unit}" if self.unit else "")
        doubt = f"    ? {self.doubt}" if self.doubt else ""
        return f"{self.group:9} {self.name:32} {self.place:18} {shown}{doubt}"

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        return asdict(self)


def try_datasheet(device: Device) -> Iterator[PointTrial]:
    """Read every point of a datasheet from a device, one request each, and report the answers.

    Raises
    ------
    LinkError
        The device is not reached at all: the first request already fails.

    """
    first = True
    for group in _GROUPS:
        for point in device.datasheet.points(group):
            try:
                value, trouble = device.read_points([point])[point.name], ""
            except DeviceRefused as error:
                value, trouble = None, f"refused: {error.message.rpartition(': ')[2]}"
            except LinkError as error:
                if first:
                    raise
                value, trouble = None, error.message.partition(": ")[2]
            first = False
            if isinstance(value, str) and value.startswith("code "):
                trouble = f"{value} stands for nothing that the datasheet knows"
            doubt = "" if trouble or value is None else _doubt(group, point, value, device)
            yield PointTrial(group, point.name, point.place, value, _unit(point), trouble, doubt)


def _doubt(group: str, point: Point, value: Stored, device: Device) -> str:
    """Why a value does not look like what the point is said to be; empty when it does."""
    if isinstance(value, str):
        return _text_doubt(group, point, value, device)
    if point.choice_names or point.special_name(float(value)):
        return ""
    if math.isnan(value):
        return "no number: is the type right? A code for 'no value' is a line in 'special'"
    low, high = point.limits or (-math.inf, math.inf)
    if not low - point.resolution <= value <= high + point.resolution:
        return f"outside the span {format_number(low)}..{format_number(high)}" + _turned(
            point, value
        )
    if isinstance(point, RegisterPoint) and _is_odd(point, value):
        return "an odd number" + _turned(point, value)
    if abs(value) >= _MANY and (
        turned := _turned(point, value, at_most=abs(value) / _MANY * _WORD)
    ):
        return "a large number" + turned
    return ""


def _text_doubt(group: str, point: Point, value: str, device: Device) -> str:
    if point.is_time and point.name == DEVICE_CLOCK.name:
        try:
            off = abs(read_clock(value, device.clock_zone, device.clock_zone.now()).deviation_s)
        except LinkError:
            return "not a time: is the layout right?"
        return f"{off / 86400:.0f} days off: is the layout right?" if off > _CLOCK_OFF_S else ""
    if group == "identity" and not value.strip():
        return "empty: is the place right?"
    strange = [c for c in value if not c.isprintable()]
    return f"holds characters that are not printed: {strange[0]!r}" if strange else ""


def _is_odd(point: RegisterPoint, value: float) -> bool:
    """Whether a number of several registers looks like one whose words are in another order."""
    if point.words < 2 or point.choice_names or value == 0.0:
        return False
    if point.kind in FLOATS:
        return not _SMALL < abs(value) < _LARGE
    return abs(value) >= _WORD and (abs(value) / (point.step or 1.0)) % _WORD == 0


def _turned(point: Point, value: float, at_most: float = math.inf) -> str:
    """What it would be with its words in the other order, if that looks better."""
    if not isinstance(point, RegisterPoint) or point.words < 2:
        return ""
    other = replace(point, low_word_first=not point.low_word_first)
    try:
        turned = other.decode(point.encode(value))
    except QuantityError:
        return ""
    if isinstance(turned, str) or _is_odd(other, turned) or not abs(turned) <= at_most:
        return ""
    low, high = point.limits or (-math.inf, math.inf)
    order = "low first" if other.low_word_first else "high first"
    fits = low <= turned <= high
    return f"; with 'words: {order}' it is {format_number(turned, 6)}" if fits else ""


def _unit(point: Point) -> str:
    return "" if point.unit in {"signal", "channel"} or point.choice_numbers else point.unit
