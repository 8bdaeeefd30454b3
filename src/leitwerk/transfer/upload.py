"""The upload of a setup, and the plan of one."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from leitwerk.check.account import Account
from leitwerk.check.checked import CheckedSetup
from leitwerk.datasheet.settings import SettingChange, diff_settings, lines_by_block, show_setting
from leitwerk.devices.device import Device
from leitwerk.identity import Identity
from leitwerk.project.files import content_hash
from leitwerk.setup.model import Setup
from leitwerk.transfer.receipt import Receipt
from leitwerk.transfer.task import TaskSource, UploadOptions, UploadTask
from leitwerk.transfer.transaction import carry


def upload(setup: CheckedSetup, device: Device, options: UploadOptions) -> Receipt:
    """Carry a setup to the device that it names, and prove that it arrived.

    Parameters
    ----------
    setup : CheckedSetup
    device : Device
    options : UploadOptions

    Raises
    ------
    SetupError
        The setup has errors; nothing was written.
    WrongDevice, DeviceInUse
        Another device answered, or another program is writing to it; nothing was written.
    UploadError
        Anything else; it says what state the device is in and what to do.

    """
    setup.require()
    task = UploadTask(
        setup.settings,
        source_of(setup.setup),
        setup.setup.device.serial,
        rounded=tuple(f"{f.path}: {f.message}" for f in setup.findings if f.rule == "rounded"),
        account=setup.account,
        secrets=tuple(setup.setup.secrets),
    )
    return carry(device, task, options)


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
    account: Account
    secrets: tuple[tuple[str, str], ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """The plan as plain data for JSON."""
        return {
            "device": self.identity.to_dict(),
            "changes": [change.to_dict() for change in self.changes],
            "unchanged": self.same,
            "read_only": dict(self.kept),
            "write_requests": self.requests,
            "secrets": dict(self.secrets),
            "account": self.account.to_dict(),
        }

    def __repr__(self) -> str:
        return f"<Plan for {self.identity}: {len(self.changes)} changes>"

    def __str__(self) -> str:
        lines = [f"Plan for {self.identity}"]
        shown = [(c.setting, f"{c.shown_old()} -> {c.shown_new()}") for c in self.changes]
        lines += [f"  {line}" for line in lines_by_block(shown)]
        lines += [f"  {name}  {text} (read-only)" for name, text in self.kept]
        lines += [
            f"  {name}  secret; the device says '{state}'; written if its value is another than last time"
            for name, state in self.secrets
        ]
        count = len(self.changes)
        lines.append(
            f"{count} setting{'s' * (count != 1)} would change in {self.requests} write "
            f"request{'s' * (self.requests != 1)}, {self.same} stay"
            if count
            else "nothing to change: the device holds these settings already"
        )
        lines += ["", *self.account.lines(), *self.account.unused_lines()]
        return "\n".join(lines)


def plan_upload(setup: CheckedSetup, device: Device) -> Plan:
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
    settings = setup.require().settings
    identity = device.require(setup.setup.device.model, setup.setup.device.serial)
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
        setup.account,
        tuple(
            (name, state)
            for name, state in device.secret_states().items()
            if name in setup.setup.secrets
        ),
    )
