"""Restoring a backup: a device gets the settings back that it had."""

from __future__ import annotations

from pathlib import Path

from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import BUS_UNIT
from leitwerk.devices.device import Device
from leitwerk.transfer.give_back import give_back
from leitwerk.transfer.receipt import Receipt, read_backup
from leitwerk.transfer.task import TaskSource, UploadOptions, UploadTask


def restore(backup: str | Path, device: Device, options: UploadOptions) -> Receipt:
    """Give a device the settings of a backup back, and prove that it has them.

    Only to the device that the backup is of. The address at which it is reached stays.

    Raises
    ------
    FileProblem
        The file is not a backup.
    WrongDevice, DeviceInUse, UploadError
        As for an upload.

    """
    identity, settings, digest = read_backup(backup)
    points = device.datasheet.settings
    writable = {
        name: value
        for name, value in settings.values.items()
        if name in points and not points[name].read_only and name != BUS_UNIT.name
    }
    source = TaskSource("restore", str(backup), f"settings of {identity.model}", digest)
    task = UploadTask(DeviceSettings(settings.model, writable), source, identity.serial)
    return give_back(device, task, options)
