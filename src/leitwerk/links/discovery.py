"""Requests that every device of a protocol answers, from any maker. They read only."""

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


def detect_modbus(link: ModbusLink) -> None:
    """Any register will do: a device that does not have it refuses, and so is there."""
    link.read([ReadRequest("holding", 0, 1)])


def detect_scpi(link: LineLink) -> None:
    """IEEE 488.2, 10.14: every instrument answers this."""
    link.query("*IDN?")


def detect_sdi12(link: Sdi12Link) -> None:
    """SDI-12 version 1.4, "Acknowledge active"."""
    link.command("")


def identify_scpi(link: LineLink) -> Identity | None:
    """IEEE 488.2, 10.14: maker, model, serial number and firmware, in one line."""
    answer = [readable(part.strip('"')) for part in split_fields(link.query("*IDN?"))]
    return Identity(*answer) if len(answer) == len(fields(Identity)) else None


def identify_sdi12(link: Sdi12Link) -> Identity | None:
    """SDI-12 version 1.4, "Send identification": fields of fixed width."""
    answer = readable(link.command("I"))
    # Two digits of version, eight of maker, six of model, three of firmware, the rest is free.
    maker, model, firmware, serial = answer[2:10], answer[10:16], answer[16:19], answer[19:]
    if not answer[:2].isdecimal():
        return None
    return Identity(maker.strip(), model.strip(), serial.strip(), firmware.strip())
