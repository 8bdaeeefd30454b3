"""Stand-ins made from any datasheet: a device in factory condition that does what its datasheet says.

It identifies itself, keeps settings, wants its passwords, stages and commits, and shows the same value at
each reading. It does not know what it measures.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from typing import Any

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.register_points import BCD_VERSION, RegisterPoint
from leitwerk.datasheet.registers import FLOATS
from leitwerk.datasheet.settings import is_documented
from leitwerk.datasheet.text_points import TextPoint, texts
from leitwerk.datasheet.times import time_form
from leitwerk.datasheet.vocabulary import (
    BUS_UNIT,
    CLOCK_DATE,
    CLOCK_TIME,
    DEVICE_CLOCK,
    LOGGED_IN,
    LOGIN,
    SAMPLE_INTEGRATION,
    SAMPLE_INTERVAL,
    TITLE,
)
from leitwerk.errors import QuantityError
from leitwerk.parsing.units import convert, parse_unit
from leitwerk.protocols.scpi import ASK_ERROR
from leitwerk.standins.error_queue import ErrorQueue
from leitwerk.standins.firmware import Firmware, Profile
from leitwerk.standins.lines import LineDevice, head_of

PASSWORD = "1834"  # noqa: S105 - of simulated devices; nothing real is guarded by it
SET, NOT_SET = "set", "not set"
_FIRMWARE = "1.00"
_SERIAL = "1001"
_FIRST_YEAR = 2000


def profile_of(sheet: Datasheet, values: Mapping[str, str]) -> Profile:
    """A unit of a model in factory condition. ``values`` are what its readings show, by name.

    Raises
    ------
    QuantityError
        The model has no such reading, or it cannot show that.

    """
    points = {p.name: p for group in ("readings", "status") for p in sheet.points(group)}
    for name, text in values.items():
        if name not in points:
            shown = ", ".join(list(points)[:12])
            raise QuantityError(f"{sheet.model} has no reading {name[:40]!r}", valid=shown)
        points[name].value_of(text)
    return Profile(
        model=sheet.model,
        serial=_SERIAL,
        firmware=_FIRMWARE,
        passwords=dict.fromkeys(sheet.writing.roles, PASSWORD) if sheet.has(LOGIN) else {},
        factory={},
        wiring=dict(values),
        kind="datasheet",
    )


def make(
    sheet: Datasheet, profile: Profile, clock: Callable[[], float], **more: Any
) -> Firmware | LineDevice:
    """The device, for its protocol.

    Raises
    ------
    QuantityError
        There is no stand-in for the protocol.

    """
    if sheet.link == "modbus":
        return RegisterDevice(sheet, profile, clock, **more)
    if sheet.link in {"scpi", "text"}:
        return TextDevice(sheet, profile, clock=more["device_clock"], troubles=more["troubles"])
    raise QuantityError(
        f"a stand-in from a datasheet speaks no {sheet.link}", valid="modbus, scpi, text"
    )


def usual_value(point: Point) -> Stored:
    """What a point holds that nothing is known of: its first choice, no text, 0 or near it, a first day."""
    if point.choice_names:
        return point.choice_names[0]
    if isinstance(point, TextPoint) and point.is_time:
        return datetime(_FIRST_YEAR, 1, 1).strftime(time_form(point.layout))  # noqa: DTZ001
    if point.is_time or point.is_text:
        return ""
    low, high = point.limits or (0.0, 0.0)
    return min(max(0.0, low), high)


def _shown(sheet: Datasheet, profile: Profile, group: str) -> dict[str, Stored]:
    """What its readings or its status show: what was asked for, else the usual value."""
    return {
        point.name: point.value_of(profile.wiring[point.name])
        if point.name in profile.wiring
        else sheet.writing.minimum.get(point.name, (usual_value(point),))[0]
        for point in sheet.points(group)
        if not point.is_time
    }


class RegisterDevice(Firmware):
    """A device with registers."""

    def measured(self) -> dict[str, Stored]:
        """What each reading is to show."""
        sheet = self.datasheet
        found = {**_shown(sheet, self.profile, "status"), **_shown(sheet, self.profile, "readings")}
        for point in self._secrets:
            if point.set_shown_by:
                is_set = any(self.holding[point.start : point.end])
                found[point.set_shown_by] = SET if is_set else NOT_SET
        if sheet.has(LOGGED_IN):
            names = sheet.point(LOGGED_IN).choice_names
            found[LOGGED_IN.name] = (
                self.roles[self.role] if self.roles[self.role] in names else names[0]
            )
        return found

    def _load_factory_settings(self) -> None:
        """Every setting is one that the datasheet documents."""
        super()._load_factory_settings()
        interval = self.datasheet.limits.interval_s
        usual: dict[str, Stored | None] = {
            BUS_UNIT.name: float(self.profile.unit),
            TITLE.name: "factory",
            SAMPLE_INTERVAL.name: interval[0] if interval else None,
            SAMPLE_INTEGRATION.name: self._usual_integration(),
        }
        for name, value in usual.items():
            if name in self._settings and value is not None:
                self._set(self._settings[name], value)
        for point in self._settings.values():
            words = tuple(self.holding[point.start : point.end])
            if not point.is_time and not is_documented(point, point.decode(words)):
                self._set(point, usual_value(point))

    def _usual_integration(self) -> Stored | None:
        times = self.datasheet.timing.integration_s
        if not times or not self.datasheet.has(SAMPLE_INTEGRATION):
            return None
        unit = parse_unit(self.datasheet.point(SAMPLE_INTEGRATION).unit or "s")
        return convert(times[0], parse_unit("s"), unit)

    def _identity(self) -> dict[str, Stored]:
        said = {
            "maker": self.datasheet.maker,
            "model": self.profile.model,
            "serial": self.profile.serial,
            "firmware": self.profile.firmware,
        }
        points = {p.name: p for p in self.datasheet.points("identity")}
        return {
            name: _as_identity(points[name], text) for name, text in said.items() if name in points
        }


def _as_identity(point: Point, text: str) -> Stored:
    assert isinstance(point, RegisterPoint)
    if point.kind == BCD_VERSION or not point.is_text:
        number = text if point.is_text else "".join(filter(str.isdecimal, text)) or "0"
        return number if point.is_text else (float(number) if point.kind in FLOATS else int(number))
    return text


class TextDevice(LineDevice):
    """A device that speaks in lines: SCPI with its error queue, or with confirmations of its own."""

    def __init__(self, sheet: Datasheet, profile: Profile, **more: Any) -> None:
        super().__init__(sheet, profile, **more)
        self.settings = {p.name: usual_value(p) for p in sheet.points("settings")}
        for point in texts(sheet.points("secrets")):
            self._writes[head_of(point.write)] = point
        self._errors = ErrorQueue()
        self._values = {
            name: value
            for group in ("readings", "status")
            for name, value in _shown(sheet, profile, group).items()
        }
        groups = ("identity", "status", "readings", "settings")
        self._set_shown = {p.set_shown_by: p.name for p in sheet.points("secrets")}
        self._asked: dict[str, list[TextPoint]] = {}
        for point in texts(p for group in groups for p in sheet.points(group)):
            self._asked.setdefault(point.query, []).append(point)

    def readings(self, question: str) -> str | None:
        """All that is asked with one query, in the order of its fields."""
        if self.datasheet.link == "scpi" and question == ASK_ERROR:
            return self._errors.next()
        points = self._asked.get(question, [])
        texts = [self._text(point) for point in points]
        return _joined(points, texts, self.datasheet.replies.separator) if points else None

    def refuse(self, why: str) -> str | None:
        """In the error queue, or in the words of the datasheet."""
        if self.datasheet.link == "scpi":
            self._errors.refuse(why)
            return None
        return self.datasheet.replies.refuses.replace("{}", "1") or None

    def accept(self) -> str | None:
        """As the datasheet says."""
        return self.datasheet.replies.confirms or None

    def command(self, word: str) -> bool:
        """It takes every command, and does nothing."""
        del word
        return True

    def _text(self, point: TextPoint) -> str:
        name = point.name
        said = {
            "maker": self.datasheet.maker,
            "model": self.profile.model,
            "serial": self.profile.serial,
            "firmware": self.profile.firmware,
        }
        if name in said and point in self.datasheet.points("identity"):
            return said[name]
        if name == LOGGED_IN.name:
            names = point.choice_names
            role = self.datasheet.role if self.logged_in else "none"
            return point.encode(role if role in names else names[0])
        clock = self.clock.text()
        times = {DEVICE_CLOCK.name: clock, CLOCK_DATE.name: clock[:10], CLOCK_TIME.name: clock[11:]}
        if name in times:
            return point.encode(times[name]) if point.is_time else times[name]
        if name in self._set_shown:
            return point.encode(SET if self.settings.get(self._set_shown[name]) else NOT_SET)
        return point.encode(self.settings.get(name, self._values.get(name, 0.0)))


def _joined(points: Sequence[TextPoint], parts: Sequence[str], separator: str) -> str:
    if points[0].columns is not None:
        line = [" "] * max(p.columns[1] for p in points if p.columns)
        for point, part in zip(points, parts, strict=True):
            if point.columns:
                low, high = point.columns
                line[low - 1 : high] = part[: high - low + 1].ljust(high - low + 1)
        return "".join(line)
    if not points[0].field:
        return parts[0]
    fields = ["0"] * max(point.field for point in points)
    for point, part in zip(points, parts, strict=True):
        fields[point.field - 1] = part
    return separator.join(fields)
