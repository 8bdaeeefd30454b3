"""Questions that every device of a protocol answers, whoever made it. They read only."""

from __future__ import annotations

from dataclasses import fields
from typing import TYPE_CHECKING

from leitwerk.datasheet.registers import readable
from leitwerk.identity import Identity
from leitwerk.protocols.lines import split_fields
from leitwerk.protocols.modbus import ReadRequest

if TYPE_CHECKING:
    from leitwerk.links.lines import LineLink
    from leitwerk.links.modbus import ModbusLink
    from leitwerk.links.sdi12 import Sdi12Link


def greet_modbus(link: ModbusLink) -> None:
    """Any register will do: whoever has it not refuses, and is there."""
    link.read([ReadRequest("holding", 0, 1)])


def greet_scpi(link: LineLink) -> None:
    """IEEE 488.2, 10.14: every instrument says who it is."""
    link.ask("*IDN?")


def greet_sdi12(link: Sdi12Link) -> None:
    """SDI-12 version 1.4, "Acknowledge active"."""
    link.command("")


def introduce_scpi(link: LineLink) -> Identity | None:
    """IEEE 488.2, 10.14: maker, model, serial number and firmware, in one line."""
    said = [readable(part.strip('"')) for part in split_fields(link.ask("*IDN?"))]
    return Identity(*said) if len(said) == len(fields(Identity)) else None


def introduce_sdi12(link: Sdi12Link) -> Identity | None:
    """SDI-12 version 1.4, "Send identification": fields of fixed width."""
    said = readable(link.command("I"))
    # Two digits of version, eight of maker, six of model, three of firmware, the rest is free.
    maker, model, firmware, serial = said[2:10], said[10:16], said[16:19], said[19:]
    if not said[:2].isdecimal():
        return None
    return Identity(maker.strip(), model.strip(), serial.strip(), firmware.strip())
