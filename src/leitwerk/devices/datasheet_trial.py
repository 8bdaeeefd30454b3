"""Trying a datasheet on a device: every point read by itself, nothing written."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any

from leitwerk.datasheet.points import Point, Stored
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceRefused, LinkError
from leitwerk.parsing.quantities import format_number

_GROUPS = ("identity", "status", "readings", "settings")


@dataclass(frozen=True, slots=True)
class PointTrial:
    """One point on trial: what it holds, or why there is nothing."""

    group: str
    name: str
    place: str
    value: Stored | None
    unit: str
    trouble: str

    def __str__(self) -> str:
        value = format_number(self.value, 9) if isinstance(self.value, float | int) else self.value
        shown = self.trouble or f"{value}" + (f" {self.unit}" if self.unit else "")
        return f"{self.group:9} {self.name:32} {self.place:18} {shown}"

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
            yield PointTrial(group, point.name, point.place, value, _unit(point), trouble)


def _unit(point: Point) -> str:
    return "" if point.unit in {"signal", "channel"} or point.choice_numbers else point.unit
