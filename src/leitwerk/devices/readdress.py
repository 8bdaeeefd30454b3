"""Giving a device another address on its bus, or another name, so that it is never lost on the way."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import TypeVar

from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.vocabulary import BUS_UNIT, NAME, SET_BUS_UNIT
from leitwerk.devices.device import Device
from leitwerk.devices.presence import Presence, probe
from leitwerk.errors import (
    DeviceRefused,
    LeitwerkError,
    LinkError,
    NotReached,
    QuantityError,
    ReaddressError,
    WrongDevice,
)
from leitwerk.identity import Identity, same_number
from leitwerk.links.options import LinkOptions
from leitwerk.parsing.address import BusAddress, LinkAddress

_T = TypeVar("_T")
_AFTER_RESTART = (
    "some devices take a new address only after a restart: restart it, then look where it answers "
    "with 'leitwerk find'"
)


@dataclass(frozen=True, slots=True)
class AddressChange:
    """A device that has another address now."""

    identity: Identity
    old: LinkAddress
    new: LinkAddress

    def __str__(self) -> str:
        return f"{self.identity}\n  was at:     {self.old}\n  answers at: {self.new}"


def change_unit(
    device: Device,
    unit: BusAddress,
    *,
    serial: str,
    passwords: Mapping[str, str],
    reach: Callable[[LinkAddress], Device],
    on_progress: Callable[[str, int, int], None] = lambda step, done, total: None,
) -> AddressChange:
    """Give a device another unit identifier, and prove that it answers there.

    Parameters
    ----------
    device : Device
        The device at its old address.
    unit : int or str
        Its new unit identifier.
    serial : str
        The serial number that the device must have; any other is left alone.
    passwords : mapping from role to password
        Asked only when the device wants one.
    reach : callable
        Opens the same model at another address.
    on_progress : callable
        Called with the name of a step, how much of it is done, and how much it is in all.

    Raises
    ------
    WrongDevice
        The device at the old address has another serial number; nothing was written.
    ReaddressError
        The new address is taken, or the change stopped; it says where the device answers now.

    """
    old = device.address
    new = replace(old, unit=unit)
    point = _unit_point(device)
    _require_serial(device, serial, on_progress)
    value = point.storable(str(unit) if point.is_text else float(unit))
    if new == old:
        raise ReaddressError(
            "this is its address already", address=old, remedy="give another one with --to"
        )
    _step(on_progress, "see that the new address is free", lambda: _require_free(device, new))
    try:
        with device.logged_in(point.role or device.datasheet.role, passwords):
            _step(on_progress, "write the new address", lambda: _write(device, point, value))
    except DeviceRefused as error:
        raise ReaddressError(
            error.message, address=old, remedy=error.remedy or "see its manual"
        ) from error
    except LinkError:
        # It may or may not have been heard: where the device is now is found out below.
        pass
    try:
        found = _step(on_progress, "identify it at the new address", lambda: _identify(new, reach))
    except LeitwerkError as error:
        raise ReaddressError(
            f"it does not answer at the new address ({error.message})",
            address=old if _is_at(old, serial, reach) else None,
            remedy=_AFTER_RESTART,
        ) from error
    if same_number(found.serial, serial):
        return AddressChange(found, old, new)
    raise ReaddressError(
        f"{found} answers at the new address: it may have been given it in place of the device with "
        f"serial number {serial!r}",
        address=old if _is_at(old, serial, reach) else None,
        remedy="were two devices swapped? Give the other one its old address back",
    )


def change_name(
    device: Device,
    name: str,
    *,
    serial: str,
    passwords: Mapping[str, str],
    on_progress: Callable[[str, int, int], None] = lambda step, done, total: None,
) -> Identity:
    """Give a device another name in its own memory, and read it back.

    Raises
    ------
    WrongDevice
        The device has another serial number; nothing was written.
    QuantityError
        It has no name of its own, or cannot store this one.
    DeviceRefused, LinkError
        It did not take the name.

    """
    family = device.datasheet.family(NAME)
    if family is None:
        raise QuantityError(f"{device.datasheet.model} keeps no name", valid="a model that does")
    point = family.template
    value = point.storable(name)
    identity = _require_serial(device, serial, on_progress)
    with (
        device.staying_the_same(),
        device.logged_in(point.role or device.datasheet.role, passwords),
    ):
        _step(on_progress, "write the new name", lambda: _write(device, point, value))
    found = _step(on_progress, "read it back", lambda: device.read_points([point]))[point.name]
    if found != value:
        raise LinkError(
            f"{device.address}: its name is {found!r} after {value!r} was written",
            remedy="does its datasheet fit?",
        )
    return identity


def _require_serial(
    device: Device, serial: str, on_progress: Callable[[str, int, int], None]
) -> Identity:
    identity = _step(on_progress, "identify the device", device.identify)
    if not same_number(identity.serial, serial):
        raise WrongDevice(
            f"the device at {device.address} has the serial number {identity.serial!r}, not "
            f"{serial!r}",
            remedy="is it the right address? Nothing was written.",
        )
    return identity


def _unit_point(device: Device) -> Point:
    for known in (BUS_UNIT, SET_BUS_UNIT):
        family = device.datasheet.family(known)
        if family is not None:
            return family.template
    raise QuantityError(
        f"the address of {device.datasheet.model} cannot be changed over its link",
        remedy=f"has it switches for that? Its datasheet has no point '{BUS_UNIT}'",
    )


def _require_free(device: Device, new: LinkAddress) -> None:
    # Long enough for a slow device to say that it is there.
    options: LinkOptions = replace(device.link.options, retries=1)
    presence = Presence.ABSENT
    with contextlib.suppress(NotReached):
        presence = probe(new, options, [device.datasheet])
    if presence is not Presence.ABSENT:
        raise ReaddressError(
            f"a device answers at {new} already; two devices would share it",
            address=device.address,
            remedy="choose an address that is free, or move the other device first",
        )


def _write(device: Device, point: Point, value: Stored) -> None:
    device.write_point(point, value)
    if device.commits:
        device.command("commit")


def _identify(address: LinkAddress, reach: Callable[[LinkAddress], Device]) -> Identity:
    with reach(address) as moved:
        return moved.identify()


def _is_at(address: LinkAddress, serial: str, reach: Callable[[LinkAddress], Device]) -> bool:
    try:
        return same_number(_identify(address, reach).serial, serial)
    except LeitwerkError:
        return False


def _step(on_progress: Callable[[str, int, int], None], name: str, act: Callable[[], _T]) -> _T:
    on_progress(name, 0, 1)
    result = act()
    on_progress(name, 1, 1)
    return result
