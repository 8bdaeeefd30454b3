"""Settings of a device by name, and how two sets of them differ."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import OF_CHANNEL, OF_SIGNAL, Point, Stored
from leitwerk.datasheet.vocabulary import ALARM_CHANNEL, CHANNEL_SENSOR, CHANNEL_UNIT, KnownPoint
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import format_number

_WIDTH = 100  # characters of a line


_DIGITS = 12  # of a setting: all that any device keeps


@dataclass(frozen=True)
class DeviceSettings:
    """Settings by name, on one model. Numbers are in the unit of their setting."""

    model: str
    values: Mapping[str, Stored]

    def __repr__(self) -> str:
        return f"<DeviceSettings of {self.model}: {len(self.values)} values>"

    def get(self, known: KnownPoint, index: int | None = None) -> Stored | None:
        """A setting of the vocabulary, None where these settings do not have it."""
        return self.values.get(known.at(index))

    def to_dict(self) -> dict[str, Any]:
        """The settings as plain data for JSON."""
        return {"model": self.model, "settings": dict(self.values)}


@dataclass(frozen=True, slots=True)
class SettingChange:
    """A setting whose value differs between two sets of settings."""

    setting: str
    old: Stored | None
    new: Stored
    unit: str = ""

    def __str__(self) -> str:
        return f"{self.setting}: {self.shown_old()} -> {self.shown_new()}"

    def shown_old(self) -> str:
        """The old value for people."""
        return show_setting(self.old, self.unit)

    def shown_new(self) -> str:
        """The new value for people."""
        return show_setting(self.new, self.unit)

    def to_dict(self) -> dict[str, Any]:
        """The change as plain data for JSON."""
        return {"setting": self.setting, "old": self.old, "new": self.new, "unit": self.unit}


def show_setting(value: Stored | None, unit: str) -> str:
    """A setting's value for people."""
    if value is None:
        return "unknown"
    if isinstance(value, str):
        return value or "(empty)"
    return format_number(value, _DIGITS) + (f" {unit}" if unit else "")


def same_stored(one: Stored | None, other: Stored | None) -> bool:
    """Whether two values are the same in a device; what is not a number is the same as another."""
    return one == other or (one != one and other != other)


def is_documented(point: Point, value: Stored) -> bool:
    """Whether a value is one that the device accepts by its datasheet."""
    try:
        return same_stored(point.storable(value), value)
    except QuantityError:
        return False


def diff_settings(
    present: DeviceSettings, wanted: DeviceSettings, datasheet: Datasheet
) -> list[SettingChange]:
    """What must change in ``present`` to become what ``wanted`` asks for."""
    merged = {**present.values, **wanted.values}
    return [
        SettingChange(name, present.values.get(name), value, setting_unit(name, merged, datasheet))
        for name, value in wanted.values.items()
        if not same_stored(present.values.get(name), value)
    ]


def diff_common(
    one: DeviceSettings, other: DeviceSettings, datasheet: Datasheet
) -> tuple[list[SettingChange], int]:
    """In what two sets differ, of the settings that both determine, and how many those are."""
    names = {name: other.values[name] for name in one.values if name in other.values}
    return diff_settings(one, DeviceSettings(other.model, names), datasheet), len(names)


def setting_unit(name: str, settings: Mapping[str, Stored], datasheet: Datasheet) -> str:
    """The unit of a setting, followed through ``signal`` and ``channel`` to a symbol."""
    unit = datasheet.settings[name].unit
    if unit not in {OF_SIGNAL, OF_CHANNEL}:
        return unit
    family, index = datasheet.setting_places[name]
    if family.startswith(ALARM_CHANNEL.block):
        slot = settings.get(ALARM_CHANNEL.at(index), 0.0)
        index = int(slot) if isinstance(slot, float) else 0
    if unit == OF_CHANNEL:
        return str(settings.get(CHANNEL_UNIT.at(index), ""))
    kind = datasheet.inputs.get(str(settings.get(CHANNEL_SENSOR.at(index))))
    return kind.unit.symbol.removeprefix("1") if kind else ""


def lines_by_block(settings: Iterable[tuple[str, str]]) -> list[str]:
    """Lines for people: one for each channel, alarm or single setting, with all there is in it."""
    blocks: dict[str, list[str]] = {}
    for name, text in settings:
        head, index, rest = (*name.split(".", 2), "", "")[:3]
        repeated = index.isdecimal()
        block = f"{head}.{index}" if repeated else name
        blocks.setdefault(block, []).append(f"{rest} {text}" if repeated else text)
    width = max(map(len, blocks), default=0)
    lines = []
    for block, parts in blocks.items():
        line = f"{block:{width}}  {'; '.join(parts)}"
        lines += textwrap.wrap(line, _WIDTH, subsequent_indent=" " * (width + 2))
    return lines


def show_spans(numbers: Iterable[int]) -> str:
    """Whole numbers as spans: ``1, 2, 5..12``."""
    spans: list[list[int]] = []
    for number in sorted(numbers):
        if spans and number == spans[-1][-1] + 1:
            spans[-1].append(number)
        else:
            spans.append([number])
    return ", ".join(f"{s[0]}..{s[-1]}" if len(s) > 2 else ", ".join(map(str, s)) for s in spans)
