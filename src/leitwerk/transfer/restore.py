"""Restoring a backup: a device gets the settings back that it had."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from pathlib import Path

from leitwerk.check.wanted import BUS_UNIT
from leitwerk.image import Image
from leitwerk.links import Device
from leitwerk.transfer.receipt import Receipt, read_backup
from leitwerk.transfer.source import Source
from leitwerk.transfer.terms import NOTHING_MORE, Allowed, Progress, Terms
from leitwerk.transfer.transaction import carry


def restore(
    backup: str | Path,
    device: Device,
    *,
    keep: str | Path,
    passwords: Mapping[str, str],
    allowed: Allowed = NOTHING_MORE,
    by: str = "unnamed",
    progress: Progress = lambda step, done, total: None,
    now: Callable[[], datetime] = lambda: datetime.now(UTC),
) -> Receipt:
    """Give a device the settings of a backup back, and prove that it has them.

    Only to the device that the backup is of. What cannot be written is left, and so is the address
    at which it is reached.

    Raises
    ------
    FileProblem
        The file is no backup.
    WrongDevice, DeviceInUse, UploadError
        As for an upload.

    """
    identity, image, digest = read_backup(backup)
    points = device.datasheet.settings
    writable = {
        name: value
        for name, value in image.settings.items()
        if name in points and not points[name].read_only and name != BUS_UNIT
    }
    terms = Terms(
        source=Source("restore", str(backup), f"settings of {identity.model}", digest),
        serial=identity.serial,
        keep=Path(keep),
        passwords=passwords,
        allowed=allowed,
        by=by,
        progress=progress,
        now=now,
    )
    return carry(device, Image(image.model, writable), terms)
