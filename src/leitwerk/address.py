"""Link addresses: one text that says how a device is reached.

======================================  =========================================  ================
written                                 means                                      if not given
======================================  =========================================  ================
modbus+tcp://HOST:PORT?unit=U           Modbus TCP                                 port 502, unit 1
modbus+rtu:///dev/ttyUSB0?unit=U        Modbus RTU on a serial port of this        unit 1, line
                                        machine; on Windows modbus+rtu:///COM3     19200,8E1
modbus+rtu://HOST:PORT?unit=U           Modbus RTU through a serial server in the  unit 1
                                        network
scpi+tcp://HOST:PORT                    SCPI over TCP                              port 5025
scpi+serial:///dev/ttyUSB0              SCPI on a serial port                      line 9600,8N1
======================================  =========================================  ================

``line=9600,8N1`` gives baud rate, data bits, parity (N, E, O) and stop bits of a serial port.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from leitwerk.errors import QuantityError

_VALID = "modbus+tcp://host:port?unit=1, or modbus+rtu:///dev/ttyUSB0?unit=1&line=19200,8E1"
_SCHEMES = ("modbus+tcp", "modbus+rtu", "scpi+tcp", "scpi+serial")
_SCPI_PORT = 5025  # IANA: scpi-raw
_MAX_UNIT = 247  # MODBUS over Serial Line V1.02, 2.2; 255 for "no unit behind this address"
_LINE = re.compile(r"(\d{3,7}),([78])([NEO])([12])")
_COM = re.compile(r"COM\d{1,3}", re.IGNORECASE)
_BAUD_MOST = 4_000_000


@dataclass(frozen=True, slots=True)
class SerialLine:
    """How a serial port is set. The default is that of MODBUS over Serial Line V1.02, 2.5.1."""

    baud: int = 19200
    data_bits: int = 8
    parity: str = "E"
    stop_bits: int = 1

    def __str__(self) -> str:
        return f"{self.baud},{self.data_bits}{self.parity}{self.stop_bits}"


@dataclass(frozen=True, slots=True)
class LinkAddress:
    """Where a device is reached: protocol, host and port or serial port, and unit identifier."""

    scheme: str
    host: str
    port: int
    unit: int
    serial_port: str = ""
    line: SerialLine = SerialLine()

    @property
    def protocol(self) -> str:
        """What is spoken there: ``modbus`` or ``scpi``."""
        return self.scheme.partition("+")[0]

    @property
    def is_serial(self) -> bool:
        """Whether it leads to a serial port of this machine."""
        return bool(self.serial_port)

    def __str__(self) -> str:
        options = [f"unit={self.unit}"] if self.protocol == "modbus" else []
        if self.is_serial:
            path = self.serial_port if self.serial_port.startswith("/") else f"/{self.serial_port}"
            return f"{self.scheme}://{path}?{'&'.join([*options, f'line={self.line}'])}"
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{self.scheme}://{host}:{self.port}" + "".join(f"?{option}" for option in options)


def parse_address(text: str) -> LinkAddress:
    """The address that a text gives.

    Raises
    ------
    QuantityError
        The text is no address, or one of a kind that is not known.

    Examples
    --------
    >>> str(parse_address("modbus+tcp://127.0.0.1"))
    'modbus+tcp://127.0.0.1:502?unit=1'
    >>> str(parse_address("modbus+rtu:///dev/ttyUSB0?unit=7&line=9600,8N1"))
    'modbus+rtu:///dev/ttyUSB0?unit=7&line=9600,8N1'

    """
    try:
        parts = urlsplit(text.strip())
        port = parts.port
        options = dict(parse_qsl(parts.query, keep_blank_values=True))
    except ValueError as error:
        raise QuantityError(f"{text!r} is no address: {error}", valid=_VALID) from None
    if parts.scheme not in _SCHEMES:
        raise QuantityError(f"{text!r} is no address that Leitwerk knows", valid=_VALID)
    if parts.username or parts.password:
        remedy = "take it out; Leitwerk asks for passwords or takes them from the environment"
        raise QuantityError("an address holds no password", valid=_VALID, remedy=remedy)
    if parts.scheme.startswith("scpi") and "unit" in options:
        raise QuantityError(f"{text!r}: SCPI knows no units", valid="scpi+tcp://host:5025")
    unit = options.pop("unit", "1")
    if not unit.isdecimal() or not (1 <= int(unit) <= _MAX_UNIT or int(unit) == 255):
        raise QuantityError(f"unit={unit} is no unit identifier", valid="1..247, or 255")
    serial_only = parts.scheme == "scpi+serial"
    if (parts.scheme == "modbus+rtu" or serial_only) and not parts.hostname:
        return _serial(text, parts, int(unit), options)
    # RTU through the network has no port of its own that could be taken for granted.
    bare = not parts.hostname or serial_only or (parts.scheme == "modbus+rtu" and port is None)
    if bare or parts.path not in {"", "/"} or parts.fragment or options:
        raise QuantityError(f"{text!r} is no address that Leitwerk knows", valid=_VALID)
    usual = _SCPI_PORT if parts.scheme == "scpi+tcp" else 502
    return LinkAddress(
        parts.scheme, str(parts.hostname), usual if port is None else port, int(unit)
    )


def _serial(text: str, parts: Any, unit: int, options: dict[str, str]) -> LinkAddress:
    path = parts.path.removeprefix("/") if _COM.fullmatch(parts.path[1:]) else parts.path
    usual = SerialLine(9600, 8, "N", 1) if parts.scheme == "scpi+serial" else SerialLine()
    line = _parse_line(options.pop("line", ""), usual)
    if path in {"", "/"} or parts.fragment or options:
        raise QuantityError(f"{text!r} is no address of a serial port", valid=_VALID)
    return LinkAddress(parts.scheme, "", 0, unit, path, line)


def _parse_line(text: str, usual: SerialLine) -> SerialLine:
    if not text:
        return usual
    match = _LINE.fullmatch(text.upper())
    if match is None or not 300 <= int(match[1]) <= _BAUD_MOST:
        raise QuantityError(f"line={text[:40]} is no serial line", valid="19200,8E1 or 9600,8N1")
    return SerialLine(int(match[1]), int(match[2]), match[3], int(match[4]))
