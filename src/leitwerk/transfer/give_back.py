"""Giving settings back that a device had, also those outside of what its datasheet documents."""

from __future__ import annotations

from dataclasses import replace

from leitwerk.datasheet.settings import DeviceSettings, is_documented, same_stored, show_setting
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceRefused, PasswordRefused, UploadError
from leitwerk.transfer.receipt import Receipt
from leitwerk.transfer.task import UploadOptions, UploadTask
from leitwerk.transfer.transaction import carry


def give_back(device: Device, task: UploadTask, options: UploadOptions) -> Receipt:
    """Carry settings that a device had before, as ``carry`` does.

    A device may come from the factory with values outside of what its datasheet documents. They are
    written, too. If the device refuses them, all other settings are given back, and the receipt names
    those that are left.

    Raises
    ------
    WrongDevice, DeviceInUse, UploadError
        As for an upload.

    """
    points = device.datasheet.settings
    wanted = task.wanted.values
    odd = {name: v for name, v in wanted.items() if not is_documented(points[name], v)}
    try:
        return carry(device, task, options)
    except UploadError as error:
        cause = error.__cause__
        if not odd or not isinstance(cause, DeviceRefused) or isinstance(cause, PasswordRefused):
            raise
    # The first attempt has been undone. What the device holds already can stay in what is verified.
    present = device.read_settings().values
    odd = {name: v for name, v in odd.items() if not same_stored(present.get(name), v)}
    rest = {name: value for name, value in wanted.items() if name not in odd}
    left = tuple(
        f"{name}: it had {show_setting(value, points[name].fixed_unit)}, which the device does not accept"
        for name, value in odd.items()
    )
    again = replace(task, wanted=DeviceSettings(task.wanted.model, rest), left=left)
    return carry(device, again, options)
