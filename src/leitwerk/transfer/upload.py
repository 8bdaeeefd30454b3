"""The upload of a setup, and the plan of one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from leitwerk.check.encode import encode_setup, encode_with_findings
from leitwerk.datasheet.settings import SettingChange, diff_settings, lines_by_block, show_setting
from leitwerk.devices.device import Device
from leitwerk.identity import Identity
from leitwerk.setup.model import Setup
from leitwerk.transfer.receipt import Receipt
from leitwerk.transfer.task import (
    NOTHING_MORE,
    Allowed,
    Progress,
    TaskSource,
    Terms,
    UploadTask,
    content_hash,
)
from leitwerk.transfer.transaction import carry


def upload(
    setup: Setup,
    device: Device,
    *,
    keep: str | Path,
    passwords: Mapping[str, str],
    allowed: Allowed = NOTHING_MORE,
    by: str = "unnamed",
    progress: Progress = lambda step, done, total: None,
    now: Callable[[], datetime] = lambda: datetime.now(UTC),
) -> Receipt:
    """Carry a setup to the device that it names, and prove that it arrived.

    Parameters
    ----------
    setup : Setup
    device : Device
    keep, passwords, allowed, by, progress, now
        As in ``Terms``.

    Raises
    ------
    SetupError
        The setup has errors on this device; nothing was written.
    WrongDevice, DeviceInUse
        Another device answered, or somebody else is writing to it; nothing was written.
    UploadError
        Anything else; it says what state the device is in and what to do.

    """
    settings, findings = encode_with_findings(setup, device.datasheet)
    task = UploadTask(
        settings,
        source_of(setup),
        setup.device.serial,
        rounded=tuple(f"{f.path}: {f.message}" for f in findings if f.rule == "rounded"),
    )
    return carry(device, task, Terms(keep, passwords, allowed, by, progress, now))


def source_of(setup: Setup) -> TaskSource:
    """What is written down about a setup that is uploaded."""
    return TaskSource("upload", setup.source.file, setup.title, content_hash(setup.source.content))


@dataclass(frozen=True)
class Plan:
    """What an upload would do; ``kept`` are settings that can be read and not written."""

    identity: Identity
    changes: tuple[SettingChange, ...]
    same: int
    kept: tuple[tuple[str, str], ...]
    requests: int

    def to_dict(self) -> dict[str, Any]:
        """The plan as plain data for JSON."""
        return {
            "device": self.identity.to_dict(),
            "changes": [change.to_dict() for change in self.changes],
            "unchanged": self.same,
            "read_only": dict(self.kept),
            "write_requests": self.requests,
        }

    def __str__(self) -> str:
        lines = [f"Plan for {self.identity}"]
        shown = [(c.setting, f"{c.shown_old()} -> {c.shown_new()}") for c in self.changes]
        lines += [f"  {line}" for line in lines_by_block(shown)]
        lines += [f"  {name}  {text} (read-only)" for name, text in self.kept]
        count = len(self.changes)
        lines.append(
            f"{count} setting{'s' * (count != 1)} would change in {self.requests} write "
            f"request{'s' * (self.requests != 1)}, {self.same} stay"
            if count
            else "nothing to change: the device holds these settings already"
        )
        return "\n".join(lines)


def plan_upload(setup: Setup, device: Device) -> Plan:
    """What an upload of a setup would change; nothing is written.

    Raises
    ------
    SetupError
        The setup has errors on this device.
    WrongDevice
        Another device answered.
    LinkError
        It was not reached.

    """
    settings = encode_setup(setup, device.datasheet)
    identity = device.require(setup.device.model, setup.device.serial)
    present = device.read_settings()
    changes = diff_settings(present, settings, device.datasheet)
    points = device.datasheet.settings
    kept = tuple(
        (name, show_setting(value, points[name].unit))
        for name, value in present.values.items()
        if points[name].read_only
    )
    return Plan(
        identity,
        tuple(changes),
        len(settings.values) - len(changes),
        kept,
        device.count_writes({c.setting: c.new for c in changes}),
    )
