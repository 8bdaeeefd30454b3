"""After an interrupted upload: what state the device is in, finishing it, undoing it."""

from __future__ import annotations

import enum
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from leitwerk.datasheet.settings import DeviceSettings, SettingChange
from leitwerk.datasheet.vocabulary import BUS_UNIT
from leitwerk.devices.device import Device
from leitwerk.errors import FileProblem
from leitwerk.project.files import content_hash
from leitwerk.project.kept import device_folder
from leitwerk.transfer.give_back import give_back
from leitwerk.transfer.journal import Journal, read_journal
from leitwerk.transfer.receipt import JOURNAL, Receipt
from leitwerk.transfer.task import UploadOptions, UploadTask
from leitwerk.transfer.transaction import carry


class RecoveryState(enum.StrEnum):
    """What the settings of the device are."""

    OLD = "all of the settings are the old ones"
    NEW = "all of the settings are the new ones"
    MIXED = "some of the settings are the old ones, some the new ones"
    OTHER = "some of the settings are neither the old nor the new ones"


@dataclass(frozen=True)
class InterruptedUpload:
    """A device after an interrupted upload."""

    journal: Journal
    found: RecoveryState
    new: tuple[SettingChange, ...]
    old: tuple[SettingChange, ...]
    other: tuple[str, ...]
    foreign: tuple[SettingChange, ...] = ()

    def __repr__(self) -> str:
        return f"<InterruptedUpload of {self.journal.source}: {self.found.value}>"

    def __str__(self) -> str:
        lines = [str(self.journal), f"  device: {self.found.value}"]
        lines += [
            f"    new: {c.setting} is {c.shown_new()}, was {c.shown_old()}" for c in self.new[:9]
        ]
        lines += [f"    other: {name}" for name in self.other[:9]]
        lines += [
            f"    changed by somebody else: {c.setting} is {c.shown_new()}, was {c.shown_old()}"
            for c in self.foreign[:9]
        ]
        if self.journal.secrets:
            names = ", ".join(self.journal.secrets)
            lines.append(
                f"    secrets: {names}: not known whether they were written; --finish writes them"
            )
        if self.journal.stopped:
            lines.append("    its recording was stopped; it is started again in the end")
        return "\n".join(lines)

    def to_dict(self) -> dict[str, Any]:
        """The aftermath as plain data for JSON."""
        return {
            "journal": str(self.journal.path),
            "what": self.journal.source.to_dict(),
            "stage": self.journal.stage,
            "found": self.found.name.lower(),
            "new": [change.to_dict() for change in self.new],
            "old": [change.to_dict() for change in self.old],
            "other": list(self.other),
            "foreign": [change.to_dict() for change in self.foreign],
            "secrets": list(self.journal.secrets),
        }


def unfinished(folder: str | Path, serial: str) -> Journal:
    """The journal of an interrupted upload to a device.

    Raises
    ------
    FileProblem
        There is none, or it cannot be used.

    """
    own = device_folder(Path(folder), serial)
    journal = read_journal(own)
    if journal is None:
        raise FileProblem(
            f"there is no {JOURNAL} in {own}: no upload to this device was interrupted",
            remedy="is this the folder where its backups and receipts are?",
        )
    return journal


def inspect_interrupted(journal: Journal, device: Device) -> InterruptedUpload:
    """Read a device after an interrupted upload; nothing is written.

    Raises
    ------
    WrongDevice
        It is another device.
    LinkError
        It was not reached.

    """
    device.require(journal.identity.model, journal.identity.serial)
    present = device.read_settings().values
    new = tuple(c for c in journal.changes if present.get(c.setting) == c.new)
    old = tuple(c for c in journal.changes if present.get(c.setting) == c.old and c not in new)
    other = tuple(c.setting for c in journal.changes if c not in new and c not in old)
    if other:
        found = RecoveryState.OTHER
    elif not new:
        found = RecoveryState.OLD
    else:
        found = RecoveryState.MIXED if old else RecoveryState.NEW
    return InterruptedUpload(journal, found, new, old, other, journal.foreign(present))


def recover(journal: Journal, device: Device, options: UploadOptions, *, undo: bool) -> Receipt:
    """Finish an interrupted upload, or undo it; either ends verified.

    A recording that it had stopped is started again. Undone is in reverse order, for devices where
    each setting counts as soon as it is written.

    Raises
    ------
    FileProblem
        The journal is for settings that an upload does not write.
    WrongDevice, DeviceInUse, UploadError
        As for an upload.

    """
    settings = journal.old if undo else journal.new
    points = device.datasheet.settings
    odd = [
        name
        for name in settings
        if name not in points or points[name].read_only or name == BUS_UNIT.name
    ]
    if odd:
        raise FileProblem(
            f"{journal.path} is for settings that an upload does not write: {', '.join(odd[:5])}",
            remedy="is it a journal of this device, and does the datasheet fit? Nothing was written",
        )
    source = replace(
        journal.source,
        kind="undo" if undo else "finish",
        sha256=content_hash(repr(sorted(settings.items())).encode()),
    )
    task = UploadTask(
        DeviceSettings(journal.identity.model, settings),
        source,
        journal.identity.serial,
        backwards=undo,
        replaces=True,
        secrets=() if undo else journal.secrets,
    )
    return give_back(device, task, options) if undo else carry(device, task, options)
