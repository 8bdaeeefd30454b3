"""Visits: what a device was, held and showed at a moment, kept as a file; and what has changed since."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from leitwerk.datasheet.points import OF_CHANNEL, Point, Stored
from leitwerk.datasheet.settings import show_setting
from leitwerk.datasheet.vocabulary import (
    CLOCK_DATE,
    CLOCK_TIME,
    DEVICE_CLOCK,
    LOGGED_IN,
    UNCOMMITTED,
    UPTIME,
)
from leitwerk.devices.device import Device
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.project.files import free_path, write_atomic
from leitwerk.project.kept import device_folder
from leitwerk.project.kept_json import KeptFile, KeptIdentity, StoredJson, read_kept
from leitwerk.reports.device_page import DevicePage

_FOLDER, _SUFFIX = "visits", ".json"
_STAMP = "%Y%m%dT%H%M%S%f"  # so that they are in order by name
_MOST = 200  # visits of a device that are kept; the oldest goes
_SHOWN = 4  # changes that are named in one line
# Points of the status that change by themselves from moment to moment.
_PASSING = {
    known.name for known in (DEVICE_CLOCK, CLOCK_DATE, CLOCK_TIME, UPTIME, LOGGED_IN, UNCOMMITTED)
}


class Visit(KeptFile):
    """A device at a moment. ``readings`` are as the device shows them, ``units`` those of all its points."""

    visit: int
    at: str
    why: str
    by: str
    device: KeptIdentity
    address: str
    clock_ahead_s: float | None
    status: dict[str, StoredJson]
    settings: dict[str, StoredJson]
    readings: dict[str, StoredJson]
    units: dict[str, str]

    @property
    def moment(self) -> str:
        """When it was, to the second."""
        return f"{self.at[:19]}Z"

    def __str__(self) -> str:
        return f"{self.moment}  {self.why} by {self.by}, firmware {self.device.firmware}"


def read_visit(device: Device, page: DevicePage, *, why: str, by: str) -> Visit:
    """A visit to a device whose page was read just now.

    Parameters
    ----------
    device : Device
    page : DevicePage
    why, by : str
        What the visit was for, and who made it.

    Raises
    ------
    LinkError
        The device was not reached.

    """
    points = device.datasheet.points("readings")
    readings = device.read_points(points) if points else {}
    units = {point.name: _unit(point, page.settings.values) for point in points} | dict(page.units)
    return Visit(
        visit=1,
        at=datetime.now(UTC).isoformat().replace("+00:00", "Z"),
        why=why,
        by=by,
        device=KeptIdentity(**page.identity.to_dict()),
        address=str(page.address),
        clock_ahead_s=None if page.clock is None else page.clock.deviation_s,
        status=dict(page.status),
        settings=dict(page.settings.values),
        readings=dict(readings),
        units=units,
    )


def _unit(point: Point, settings: Mapping[str, Stored]) -> str:
    """The unit of a reading; that of a channel is a setting of the device."""
    if point.unit != OF_CHANNEL:
        return point.unit
    return str(settings.get(f"{'.'.join(point.name.split('.')[:2])}.unit", ""))


def keep_visit(visit: Visit, folder: Path) -> Path:
    """Write a visit into the folder of its device; of very many, the oldest is removed.

    Raises
    ------
    FileProblem
        It cannot be written.

    """
    own = device_folder(folder, visit.device.serial) / _FOLDER
    stamp = datetime.fromisoformat(visit.at).strftime(_STAMP)
    path = free_path(own, f"{stamp}-{visit.why.replace(' ', '-')}", (_SUFFIX,))
    path = path.with_name(path.name + _SUFFIX)
    write_atomic(path, json.dumps(visit.model_dump(), ensure_ascii=False, indent=1) + "\n")
    for oldest in visit_files(folder, visit.device.serial)[:-_MOST]:
        oldest.unlink(missing_ok=True)
    return path


def visit_files(folder: Path, serial: str) -> list[Path]:
    """The files of all visits to a device, the oldest first."""
    own = device_folder(folder, serial) / _FOLDER
    return sorted(own.glob(f"*{_SUFFIX}")) if own.is_dir() else []


def load_visit(path: Path) -> Visit:
    """A visit that was kept.

    Raises
    ------
    FileProblem
        The file cannot be read, or is damaged.

    """
    return read_kept(
        path, Visit, "a visit", "it can be removed; other visits are not touched by that"
    )


def nth_visit(folder: Path, serial: str, number: int) -> Visit:
    """A visit by its number: 1 is the newest.

    Raises
    ------
    QuantityError
        There is no such visit.
    FileProblem
        It cannot be read.

    """
    files = visit_files(folder, serial)
    if not 1 <= number <= len(files):
        valid = f"1 (the newest) to {len(files)}" if files else "no visit is kept in this folder"
        raise QuantityError(f"there is no visit {number}", valid=valid)
    return load_visit(files[-number])


class VisitChanges:
    """What differs between two visits to a device.

    Attributes
    ----------
    device : list of str
        What became of firmware, address, and the device itself.
    settings, status, readings : dict from name to (before, after), in words

    """

    def __init__(self, before: Visit, after: Visit) -> None:
        self.before, self.after = before, after
        pairs = (
            ("maker", before.device.maker, after.device.maker),
            ("model", before.device.model, after.device.model),
            ("serial number", before.device.serial, after.device.serial),
            ("firmware", before.device.firmware, after.device.firmware),
            ("address", before.address, after.address),
        )
        self.device = [f"{what} {old} -> {new}" for what, old, new in pairs if old != new]
        self.settings = self._changed(before.settings, after.settings)
        status = self._changed(before.status, after.status)
        self.status = {name: pair for name, pair in status.items() if name not in _PASSING}
        self.readings = self._changed(before.readings, after.readings)

    def _changed(
        self, before: Mapping[str, StoredJson], after: Mapping[str, StoredJson]
    ) -> dict[str, tuple[str, str]]:
        found = {}
        for name in dict.fromkeys([*before, *after]):
            old, new = before.get(name), after.get(name)
            if old != new and not (old != old and new != new):
                found[name] = (
                    _shown(old, self.before.units.get(name, "")),
                    _shown(new, self.after.units.get(name, "")),
                )
        return found

    def to_dict(self) -> dict[str, Any]:
        """The changes as plain data for JSON."""
        return {
            "before": self.before.at,
            "after": self.after.at,
            "device": self.device,
            **{
                group: {name: {"before": a, "after": b} for name, (a, b) in changed.items()}
                for group, changed in self._groups()
            },
        }

    def _groups(self) -> Iterator[tuple[str, dict[str, tuple[str, str]]]]:
        yield "settings", self.settings
        yield "status", self.status
        yield "readings", self.readings

    def summary(self) -> str:
        """In one line: what matters since the visit before; readings change all the time."""
        parts = list(self.device)
        # Numbers of the status, such as a voltage, differ a little each time.
        states = {
            name: pair
            for name, pair in self.status.items()
            if isinstance(self.before.status.get(name, ""), str)
        }
        for group, changed in (("setting", self.settings), ("status", states)):
            if changed:
                shown = [f"{name} {old} -> {new}" for name, (old, new) in changed.items()]
                more = "; …" if len(shown) > _SHOWN else ""
                plural = "s" if group == "setting" and len(shown) != 1 else ""
                count = f"{len(shown)} {group}{plural}: "
                parts.append(count + "; ".join(shown[:_SHOWN]) + more)
        since = f"since the visit of {self.before.moment} ({self.before.why} by {self.before.by})"
        return f"{since}: {', '.join(parts) if parts else 'nothing has changed'}"

    def __str__(self) -> str:
        lines = [
            f"from {self.before}",
            f"to   {self.after}",
            *(f"  {text}" for text in self.device),
        ]
        for group, changed in self._groups():
            lines.append(f"{group}: {len(changed)} changed")
            width = max((len(name) for name in changed), default=0)
            lines += [f"  {name:{width}}  {old} -> {new}" for name, (old, new) in changed.items()]
        return "\n".join(lines)


def _shown(value: StoredJson | None, unit: str) -> str:
    if isinstance(value, float) and math.isfinite(value):
        value = float(f"{value:.6g}")
    return "not there" if value is None else show_setting(value, unit)


def changes_since(visit: Visit, folder: Path) -> VisitChanges | None:
    """What has changed since the visit before; None where there was none, or it cannot be read."""
    files = visit_files(folder, visit.device.serial)
    try:
        return VisitChanges(load_visit(files[-1]), visit) if files else None
    except FileProblem:
        return None
