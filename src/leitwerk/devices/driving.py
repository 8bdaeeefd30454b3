"""Driving outputs of the right device, and releasing them: they must not stay driven."""

from __future__ import annotations

from collections.abc import Mapping

from leitwerk.datasheet.points import Point, Stored
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceSwapped, LeitwerkError, OutputNotSafe
from leitwerk.project.claims import left_claims

_RELEASES = 3  # attempts to give an output back


def drive(device: Device, point: Point, value: Stored, name: str) -> None:
    """Drive an output; the device is identified before it and after it, as nothing else shows a swap.

    Raises
    ------
    WrongDevice
        Another device answers; nothing was written.
    OutputNotSafe
        Another device answers since it was written: it may be driven in place of the right one.
    LinkError, DeviceRefused
        It does not answer, or refuses.

    """
    try:
        with device.staying_the_same():
            device.write_point(point, value)
    except DeviceSwapped as error:
        raise OutputNotSafe([name], device.address, error.message) from error


def release(device: Device, point: Point, value: Stored, name: str) -> None:
    """Give an output back, in more than one attempt.

    Raises
    ------
    OutputNotSafe
        The device does not answer, refuses, or another one answers.

    """
    for attempt in range(_RELEASES):
        try:
            drive(device, point, value, name)
        except OutputNotSafe:
            raise
        except LeitwerkError as error:
            if attempt + 1 == _RELEASES:
                raise OutputNotSafe([name], device.address, error.message) from error
        else:
            return


def release_left(device: Device, passwords: Mapping[str, str]) -> list[str]:
    """Release the outputs that killed programs left driven; their names.

    Raises
    ------
    LinkError, DeviceRefused, OutputNotSafe
        The device does not answer, or refuses.

    """
    notes = [note for note in left_claims(device.identify()) if note.outputs]
    if notes and device.datasheet.role:
        device.log_in_with(device.datasheet.role, passwords)
    released = []
    for note in notes:
        for output in note.outputs:
            point = device.datasheet.groups["access"][output.point].point(output.slot)
            release(device, point, output.release, output.name)
            released.append(output.name)
        note.settle()
    return released
