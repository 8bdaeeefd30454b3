"""The page of one device: all that is worth knowing about it now, on one screen."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from leitwerk.datasheet.points import OF_CHANNEL, Stored
from leitwerk.datasheet.settings import (
    DeviceSettings,
    lines_by_block,
    setting_unit,
    show_setting,
    show_spans,
)
from leitwerk.datasheet.vocabulary import (
    CHANNEL_UNIT,
    CLOCK_DATE,
    CLOCK_TIME,
    DEVICE_CLOCK,
    RECORDINGS,
    RESTART_PENDING,
    UNFETCHED,
)
from leitwerk.devices.clock import ClockReading
from leitwerk.devices.device import Device
from leitwerk.devices.recordings import RecordingInfo, list_recordings
from leitwerk.errors import LinkError
from leitwerk.identity import Identity
from leitwerk.parsing.address import LinkAddress
from leitwerk.parsing.quantities import format_number
from leitwerk.transfer.pending import PendingRestart, pending_restart
from leitwerk.transfer.receipt import last_receipts

_RECEIPTS = 3
_DIGITS = 5  # of a reading
# Points of the status that have a row of their own, or say nothing by themselves.
_ELSEWHERE = {k.name for k in (DEVICE_CLOCK, CLOCK_DATE, CLOCK_TIME, RECORDINGS, UNFETCHED)}
_SWITCHES = {"sensor", "condition"}  # with these, a channel or an alarm is switched off
_YES = {"yes", "on", "enabled"}


@dataclass(frozen=True)
class DevicePage:
    """What a device is, does and holds. ``units`` are those of its status points, readings and settings."""

    address: LinkAddress
    identity: Identity
    clock: ClockReading | None
    clock_trouble: str
    status: Mapping[str, Stored]
    recordings: tuple[RecordingInfo, ...]
    settings: DeviceSettings
    units: Mapping[str, str]
    receipts: tuple[Mapping[str, Any], ...]
    pending: PendingRestart | None = None
    secrets: Mapping[str, str] = field(default_factory=dict)
    readings: Mapping[str, Stored] = field(default_factory=dict)

    @property
    def enabled(self) -> list[str]:
        """The features that are switched on: settings ``option.…`` that say yes."""
        return [
            name.removeprefix("option.").replace("_", " ")
            for name, value in self.settings.values.items()
            if name.startswith("option.") and value in _YES
        ]

    def to_dict(self) -> dict[str, Any]:
        """The page as plain data for JSON."""
        return {
            "address": str(self.address),
            "identity": self.identity.to_dict(),
            "clock": self.clock.to_dict() if self.clock else None,
            "status": dict(self.status),
            "readings": dict(self.readings),
            "recordings": [str(recording) for recording in self.recordings],
            "enabled": self.enabled,
            "settings": dict(self.settings.values),
            "secrets": dict(self.secrets),
            "restart_pending": list(self.pending.settings) if self.pending else None,
            "receipts": [dict(receipt) for receipt in self.receipts],
        }

    def rows(self) -> Iterator[tuple[str, str]]:
        """Heading and text of each row; settings have rows of their own below."""
        yield "device", str(self.identity)
        yield "address", str(self.address)
        if self.clock or self.clock_trouble:
            yield "clock", str(self.clock) if self.clock else self.clock_trouble
        if self.pending:
            yield "restart", str(self.pending)
        yield from self.live_rows()
        if self.secrets:
            yield "secrets", "; ".join(f"{name} {state}" for name, state in self.secrets.items())
        yield from (("recording", str(recording)) for recording in self.recordings)
        if self.enabled:
            yield "enabled", ", ".join(self.enabled)
        for receipt in self.receipts:
            count = len(receipt.get("changes", ()))
            who = f"{receipt.get('finished', '?')} by {receipt.get('by', '?')}"
            verified = receipt.get("settings_verified", 0)
            yield "receipt", f"{who}: {count} settings changed, {verified} verified"
        if not self.receipts:
            yield "receipt", "no receipt in this folder"

    def live_rows(self) -> Iterator[tuple[str, str]]:
        """What changes by itself: status and readings, in the groups that the names of the datasheet make."""
        yield from self._status_rows()
        yield from self._reading_rows()

    def _reading_rows(self) -> Iterator[tuple[str, str]]:
        """One row for each first word; members that show the same, or are numbered, share a place in it."""
        groups: dict[str, dict[str, list[str]]] = {}
        series: dict[tuple[str, str, str], list[tuple[int, str]]] = {}
        for name, value in self.readings.items():
            head, *words = name.split(".")
            number = next((word for word in words if word.isdecimal()), "")
            shown = format_number(value, _DIGITS) if isinstance(value, float) else str(value)
            unit = self._reading_unit(name, number)
            members = groups.setdefault(head.replace("_", " "), {})
            if words and words[-1] == number:
                # Phases and the like: all of one unit in one place.
                what = " ".join(words[:-1])
                members.setdefault(f"{what}\0{unit}", [])
                series.setdefault((head, what, unit), []).append((int(number), shown))
            else:
                member = number or " ".join(words)
                members.setdefault(member, []).append(f"{shown} {unit}".rstrip())
        for head, members in groups.items():
            parts = dict[str, list[str]]()
            for member, texts in members.items():
                what, is_series, unit = member.partition("\0")
                if is_series:
                    own = series[head.replace(" ", "_"), what, unit]
                    parts[_series_text(what, unit, own)] = []
                else:
                    parts.setdefault(", ".join(texts), []).append(member)
            shown_parts = (
                f"{_members(names)}: {text}".removeprefix(": ") if names else text
                for text, names in parts.items()
            )
            yield head, "; ".join(shown_parts)

    def _reading_unit(self, name: str, number: str) -> str:
        """The unit of a reading; that of a channel stands in its settings."""
        unit = self.units.get(name, "")
        if unit != OF_CHANNEL:
            return unit
        return str(self.settings.values.get(CHANNEL_UNIT.at(int(number)), ""))

    def refreshed(self, device: Device) -> DevicePage:
        """The page with what changes by itself read anew.

        Raises
        ------
        LinkError
            The device was not reached, or answered nonsense.

        """
        status, readings = device.status_points(), self.readings
        if readings:
            readings = device.read_points(device.datasheet.points("readings"))
        return replace(self, status=status, readings=readings)

    def setting_lines(self) -> list[str]:
        """The settings, a line for each block; blocks that are switched off share one."""
        off = dict.fromkeys(
            name.rpartition(".")[0]
            for name, value in self.settings.values.items()
            if value == "off" and name.rpartition(".")[2] in _SWITCHES
        )
        numbers: dict[str, list[int]] = {}
        for block in off:
            head, _, number = block.rpartition(".")
            numbers.setdefault(head, []).append(int(number))
        unused = "; ".join(f"{head} {show_spans(every)}" for head, every in numbers.items())
        shown = [
            (name, show_setting(value, self.units.get(name, "")))
            for name, value in self.settings.values.items()
            if ".".join(name.split(".")[:2]) not in off
        ]
        return lines_by_block([*shown, *([("off", unused)] if unused else [])])

    def _status_rows(self) -> Iterator[tuple[str, str]]:
        """One row for each first word: battery, memory, supply; single points together."""
        groups: dict[str, list[str]] = {}
        alike: dict[tuple[str, str], list[int]] = {}  # relays by state, alarms by state
        for name, value in self.status.items():
            if name in _ELSEWHERE:
                continue
            head, _, rest = name.partition(".")
            shown = show_setting(value, self.units.get(name, ""))
            number, _, what = rest.partition(".")
            if number.isdecimal() and what == "state":
                alike.setdefault((head, shown), []).append(int(number))
            elif rest:
                groups.setdefault(head, []).append(f"{rest} {shown}")
            else:
                groups.setdefault("status", []).append(f"{name.replace('_', ' ')}: {shown}")
        for (head, shown), numbers in alike.items():
            groups.setdefault(head, []).append(f"{show_spans(numbers)}: {shown}")
        if RECORDINGS.name in self.status:
            unfetched = self.status.get(UNFETCHED.name, 0.0)
            text = f"{self.status[RECORDINGS.name]:g} recordings, {unfetched:g} not fetched"
            groups.setdefault("memory", []).append(text)
        yield from ((head, "; ".join(parts)) for head, parts in groups.items())


def _series_text(what: str, unit: str, members: Sequence[tuple[int, str]]) -> str:
    """Members of a group by their numbers: ``between 1..3: 397.4, 396.9, 397.1 V``."""
    texts = [text for _, text in members]
    values = texts[0] if len(set(texts)) == 1 else ", ".join(texts)
    return f"{what} {show_spans(n for n, _ in members)}: {values} {unit}".strip()


def _members(names: Sequence[str]) -> str:
    """The members of a group: ``1..6, 8``, or their names."""
    if all(name.isdecimal() for name in names):
        return show_spans(map(int, names))
    return ", ".join(names)


def read_page(
    device: Device, *, folder: str | Path, recordings: bool = False, readings: bool = False
) -> DevicePage:
    """Read everything that the page of a device shows; nothing is written.

    Parameters
    ----------
    device : Device
    folder : path
        The folder with receipts.
    recordings : bool
        Whether to list the recordings, too: each is selected in the device for that.
    readings : bool
        Whether to read what it measures, too.

    Raises
    ------
    LinkError
        The device was not reached, or answered nonsense.

    """
    identity = device.identify()
    clock, trouble = None, ""
    try:
        clock = device.clock()
    except LinkError as error:
        trouble = error.message  # the rest is shown also if the clock was never set
    sheet = device.datasheet
    settings = device.read_settings()
    units = {name: setting_unit(name, settings.values, sheet) for name in settings.values}
    units |= {p.name: p.unit for group in ("status", "readings") for p in sheet.points(group)}
    status = device.status_points()
    device.identify()  # all of it is of the same device
    now = datetime.now(UTC)
    return DevicePage(
        address=device.address,
        identity=identity,
        clock=clock,
        clock_trouble=trouble,
        status=status,
        recordings=tuple(list_recordings(device)) if recordings else (),
        settings=settings,
        units=units,
        receipts=tuple(last_receipts(Path(folder), identity.serial, _RECEIPTS)),
        pending=pending_restart(
            folder, identity.serial, status.get(RESTART_PENDING.name), device.uptime_s(status), now
        ),
        secrets=device.secret_states(),
        readings=device.read_points(sheet.points("readings")) if readings else {},
    )
