"""Whether anybody is at an address, and who. Reads only."""

from __future__ import annotations

import enum
from collections.abc import Callable, Sequence
from dataclasses import fields as fields_of

from leitwerk.address import LinkAddress
from leitwerk.datasheet import Datasheet
from leitwerk.datasheet.coding import readable
from leitwerk.errors import DeviceRefused, LeitwerkError, LinkError, NotReached
from leitwerk.identity import Identity
from leitwerk.links.device import open_device
from leitwerk.links.modbus import ModbusLink
from leitwerk.links.patience import Patience
from leitwerk.links.sdi12 import Sdi12Link
from leitwerk.links.stream import LineLink
from leitwerk.links.trace import TraceEntry
from leitwerk.wire.lines import split_fields
from leitwerk.wire.modbus import ReadRequest

# MODBUS Application Protocol V1.1b3, clause 7: a gateway says that nobody is behind it.
_NOBODY = {10, 11}


class Presence(enum.Enum):
    """What comes back from an address."""

    SOMEBODY = "somebody answers, be it with a refusal"
    NOBODY = "silence, or a gateway that says that nobody is there"
    GARBAGE = "something that is no answer"


class _Heard:
    """Notes whether anything came back, whatever it was."""

    def __init__(self) -> None:
        self.anything = False

    def __call__(self, entry: TraceEntry) -> None:
        self.anything |= not entry.sent and bool(entry.frame)


def look_at(
    address: LinkAddress, patience: Patience, datasheets: Sequence[Datasheet] = ()
) -> Presence:
    """Whether somebody is at an address.

    Protocols without a question that every device answers are asked by the datasheets.

    Raises
    ------
    NotReached
        The port does not open, or no host is there.

    """
    ask = _QUESTIONS.get(address.protocol)
    if ask is None:
        found = recognise(address, datasheets, patience)
        return Presence.NOBODY if found is None else Presence.SOMEBODY
    heard = _Heard()
    try:
        ask(address, patience, heard)
    except DeviceRefused as refused:
        return Presence.NOBODY if refused.code in _NOBODY else Presence.SOMEBODY
    except NotReached:
        raise
    except LinkError:
        return Presence.GARBAGE if heard.anything else Presence.NOBODY
    return Presence.SOMEBODY


def recognise(
    address: LinkAddress, datasheets: Sequence[Datasheet], patience: Patience
) -> Identity | None:
    """Who it is, by the datasheet whose model it says that it is; None when none of them fits."""
    for datasheet in datasheets:
        if datasheet.link != address.protocol:
            continue
        try:
            with open_device(datasheet, address, patience=patience) as device:
                identity = device.identify()
        except LeitwerkError:
            continue
        if identity.model == datasheet.model:
            return identity
    return None


def introduce(address: LinkAddress, patience: Patience) -> Identity | None:
    """What somebody says of itself in the way of the standard, though no datasheet knows it.

    References
    ----------
    IEEE 488.2, 10.14 (``*IDN?``); SDI-12 version 1.4, "Send identification".

    """
    ask = _INTRODUCTIONS.get(address.protocol)
    if ask is None:
        return None
    try:
        return ask(address, patience)
    except LeitwerkError:
        return None


def _introduce_scpi(address: LinkAddress, patience: Patience) -> Identity | None:
    link = LineLink(address, patience=patience)
    try:
        fields = [readable(f.strip('"')) for f in split_fields(link.ask("*IDN?"))]
    finally:
        link.close()
    return Identity(*fields) if len(fields) == len(fields_of(Identity)) else None


def _introduce_sdi12(address: LinkAddress, patience: Patience) -> Identity | None:
    link = Sdi12Link(address, patience=patience)
    try:
        said = readable(link.command("I"))
    finally:
        link.close()
    # Two digits of version, eight of maker, six of model, three of firmware, the rest is free.
    maker, model, firmware, serial = said[2:10], said[10:16], said[16:19], said[19:]
    if not said[:2].isdecimal():
        return None
    return Identity(maker.strip(), model.strip(), serial.strip(), firmware.strip())


def _ask_scpi(address: LinkAddress, patience: Patience, heard: _Heard) -> None:
    link = LineLink(address, patience=patience, tracer=heard)
    try:
        link.ask("*IDN?")
    finally:
        link.close()


def _ask_modbus(address: LinkAddress, patience: Patience, heard: _Heard) -> None:
    link = ModbusLink(address, patience=patience, tracer=heard)
    try:
        link.read([ReadRequest("holding", 0, 1)])
    finally:
        link.close()


def _ask_sdi12(address: LinkAddress, patience: Patience, heard: _Heard) -> None:
    link = Sdi12Link(address, patience=patience, tracer=heard)
    try:
        link.command("")
    finally:
        link.close()


_QUESTIONS: dict[str, Callable[[LinkAddress, Patience, _Heard], None]] = {
    "modbus": _ask_modbus,
    "scpi": _ask_scpi,
    "sdi12": _ask_sdi12,
}
_INTRODUCTIONS = {"scpi": _introduce_scpi, "sdi12": _introduce_sdi12}
