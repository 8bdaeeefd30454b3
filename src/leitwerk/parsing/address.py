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
sdi12+serial:///dev/ttyUSB0?unit=U      SDI-12 on a serial port; U is the sensor's unit 0, line
                                        address, one of 0-9, a-z, A-Z              1200,7E1
text+tcp://HOST:PORT                    lines of text over TCP
text+serial:///dev/ttyUSB0              lines of text on a serial port             line 9600,8N1
mqtt+tcp://USER@HOST:PORT               a station that sleeps, by the broker that  port 1883
                                        keeps its messages; USER may be missing
mqtt+tls://USER@HOST:PORT               the same over TLS                          port 8883
drive:///media/KIEFER                   a device that appears as a drive
mqtt+tcp://USER@HOST:PORT?in_clear=yes  its password may go unencrypted over the   no
                                        network, also to another machine
======================================  =========================================  ================

``line=9600,8N1`` gives baud rate, data bits, parity (N, E, O) and stop bits of a serial port.
Packages may add protocols; theirs are written ``PROTOCOL+tcp://HOST:PORT`` and
``PROTOCOL+serial:///dev/ttyUSB0``. A device that was seen before may go by its name instead.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import TypeAlias
from urllib.parse import SplitResult, parse_qsl, quote, unquote, urlsplit

from leitwerk.errors import QuantityError

_VALID = (
    "modbus+tcp://host:port?unit=1, modbus+rtu:///dev/ttyUSB0?unit=1&line=19200,8E1, "
    "or the name of a device that was seen before"
)
_UNKNOWN = re.compile(r"[a-z][a-z0-9]{0,19}\+(tcp|serial)")
_MAX_UNIT = 247  # MODBUS over Serial Line V1.02, 2.2; 255 for "no unit behind this address"
_SDI12_UNIT = re.compile(r"[0-9A-Za-z]")  # SDI-12 v1.4: addresses of sensors
_LINE = re.compile(r"(\d{3,7}),([78])([NEO])([12])")
_COM = re.compile(r"COM\d{1,3}", re.IGNORECASE)
_NAME = re.compile(r"[A-Za-z][\w.-]{0,39}", re.ASCII)
_USER = re.compile(r"[\w.-]{0,64}", re.ASCII)
_BAUD_MOST = 4_000_000

_DRIVE = "drive"
_HERE = {"localhost", "127.0.0.1", "::1"}

BusAddress: TypeAlias = int | str


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
class _Scheme:
    """What may follow a scheme: a host with its usual port, a serial port with its usual line."""

    port: int | None = None
    needs_port: bool = False
    line: SerialLine | None = None
    unit: BusAddress = ""
    takes_user: bool = False


_USUAL = SerialLine(9600, 8, "N", 1)
_SCHEMES = {
    "modbus+tcp": _Scheme(port=502, unit=1),
    # RTU through the network has no port of its own that could be taken for granted.
    "modbus+rtu": _Scheme(needs_port=True, line=SerialLine(), unit=1),
    "scpi+tcp": _Scheme(port=5025),  # IANA: scpi-raw
    "scpi+serial": _Scheme(line=_USUAL),
    "sdi12+serial": _Scheme(line=SerialLine(1200, 7, "E", 1), unit="0"),  # SDI-12 v1.4
    "text+tcp": _Scheme(needs_port=True),
    "text+serial": _Scheme(line=_USUAL),
    "talk+tcp": _Scheme(needs_port=True),
    "talk+serial": _Scheme(line=_USUAL),
    "mqtt+tcp": _Scheme(port=1883, takes_user=True),  # IANA: mqtt
    "mqtt+tls": _Scheme(port=8883, takes_user=True),  # IANA: secure-mqtt
}


@dataclass(frozen=True, slots=True)
class LinkAddress:
    """Where a device is reached: protocol, host and port or serial port, and unit behind it.

    ``folder`` is that of a drive.
    ``unit`` is a number of Modbus, a character of SDI-12, empty where a protocol has none.
    """

    scheme: str
    host: str
    port: int
    unit: BusAddress = ""
    serial_port: str = ""
    line: SerialLine = SerialLine()
    user: str = ""
    in_clear: bool = False
    folder: str = ""

    @property
    def protocol(self) -> str:
        """What is spoken there, such as ``modbus`` or ``scpi``."""
        return self.scheme.partition("+")[0]

    def with_line(self, line: SerialLine) -> LinkAddress:
        """The same with another serial line."""
        return replace(self, line=line)

    @property
    def is_serial(self) -> bool:
        """Whether it leads to a serial port of this machine."""
        return bool(self.serial_port)

    @property
    def hides_swaps(self) -> bool:
        """Whether units behind it can be swapped while nothing reconnects: a line that several share."""
        return self.is_serial or bool(self.folder) or self.scheme == "modbus+rtu"

    def __str__(self) -> str:
        if self.folder:
            return f"{self.scheme}://{quote(self.folder)}"
        options = [f"unit={self.unit}"] if self.unit != "" else []
        if self.is_serial:
            path = self.serial_port if self.serial_port.startswith("/") else f"/{self.serial_port}"
            return f"{self.scheme}://{path}?{'&'.join([*options, f'line={self.line}'])}"
        host = f"[{self.host}]" if ":" in self.host else self.host
        if self.user:
            host = f"{self.user}@{host}"
        if self.in_clear:
            options.append("in_clear=yes")
        return f"{self.scheme}://{host}:{self.port}" + "".join(f"?{option}" for option in options)


@dataclass(frozen=True, slots=True)
class DeviceName:
    """The name under which the inventory knows a device; it stands for its address."""

    name: str

    def __str__(self) -> str:
        return self.name


Where: TypeAlias = LinkAddress | DeviceName


def is_this_machine(host: str) -> bool:
    """Whether what is sent to a host stays on this machine."""
    return host in _HERE


def parse_where(text: str) -> Where:
    """An address, or the name of a device.

    Raises
    ------
    QuantityError
        The text is neither.

    Examples
    --------
    >>> parse_where("kiln")
    DeviceName(name='kiln')

    """
    if _NAME.fullmatch(text.strip()):
        return DeviceName(text.strip())
    return parse_address(text)


def parse_address(text: str) -> LinkAddress:
    """The address that a text gives.

    Raises
    ------
    QuantityError
        The text is not an address, or one of a kind that is not known.

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
        raise QuantityError(f"{text!r} is not an address: {error}", valid=_VALID) from None
    if parts.scheme == _DRIVE:
        return _drive(text, parts)
    scheme = _scheme(parts.scheme, text)
    user = parts.username or ""
    if parts.password is not None or (user and not scheme.takes_user) or not _USER.fullmatch(user):
        remedy = "take it out; Leitwerk asks for passwords or takes them from the environment"
        raise QuantityError("an address holds no password", valid=_VALID, remedy=remedy)
    unit = _parse_unit(parts.scheme, scheme, options)
    if scheme.line is not None and not parts.hostname:
        return _serial(text, parts, scheme.line, unit, options)
    in_clear = parts.scheme == "mqtt+tcp" and options.pop("in_clear", "") == "yes"
    takes_host = scheme.port is not None or scheme.needs_port
    bare = not parts.hostname or not takes_host or (scheme.needs_port and port is None)
    if bare or parts.path not in {"", "/"} or parts.fragment or options:
        raise QuantityError(f"{text!r} is not an address that Leitwerk knows", valid=_VALID)
    where = port if port is not None else scheme.port
    return LinkAddress(
        parts.scheme, str(parts.hostname), where or 0, unit, user=user, in_clear=in_clear
    )


def _drive(text: str, parts: SplitResult) -> LinkAddress:
    if parts.netloc or parts.query or parts.fragment or len(parts.path) < 2:
        raise QuantityError(
            f"{text!r} is not the address of a drive", valid="drive:///media/KIEFER"
        )
    return LinkAddress(_DRIVE, "", 0, folder=unquote(parts.path))


def _scheme(name: str, text: str) -> _Scheme:
    if name in _SCHEMES:
        return _SCHEMES[name]
    match = _UNKNOWN.fullmatch(name)
    if match is None:
        raise QuantityError(f"{text!r} is not an address that Leitwerk knows", valid=_VALID)
    # A package may bring the protocol; whether one does is asked when the device is looked for.
    return _Scheme(line=_USUAL) if match[1] == "serial" else _Scheme(needs_port=True)


def _parse_unit(name: str, scheme: _Scheme, options: dict[str, str]) -> BusAddress:
    text = options.pop("unit", None)
    if text is None:
        return scheme.unit
    if name in _SCHEMES and scheme.unit == "":
        raise QuantityError(f"{name} knows no units", valid=f"{name}://… without unit={text[:20]}")
    if isinstance(scheme.unit, int):
        if not re.fullmatch("[0-9]{1,3}", text) or not (
            1 <= int(text) <= _MAX_UNIT or int(text) == 255
        ):
            raise QuantityError(
                f"unit={text[:20]} is not a unit identifier", valid="1..247, or 255"
            )
        return int(text)
    if name in _SCHEMES and not _SDI12_UNIT.fullmatch(text):
        raise QuantityError(
            f"unit={text[:20]} is not an address of SDI-12", valid="0..9, a..z, A..Z"
        )
    return text


def _serial(
    text: str, parts: SplitResult, usual: SerialLine, unit: BusAddress, options: dict[str, str]
) -> LinkAddress:
    path = parts.path.removeprefix("/") if _COM.fullmatch(parts.path[1:]) else parts.path
    line = parse_line(options.pop("line", ""), usual)
    if path in {"", "/"} or parts.fragment or options:
        raise QuantityError(f"{text!r} is not an address of a serial port", valid=_VALID)
    return LinkAddress(parts.scheme, "", 0, unit, path, line)


def parse_line(text: str, usual: SerialLine = _USUAL) -> SerialLine:
    """A serial line such as ``9600,8N1``; ``usual`` for an empty text.

    Raises
    ------
    QuantityError
        The text is not a serial line.

    """
    if not text:
        return usual
    match = _LINE.fullmatch(text.upper())
    if match is None or not 300 <= int(match[1]) <= _BAUD_MOST:
        raise QuantityError(f"line={text[:40]} is not a serial line", valid="19200,8E1 or 9600,8N1")
    return SerialLine(int(match[1]), int(match[2]), match[3], int(match[4]))
