"""Finding devices: serial ports, and who answers on a bus. Reads only."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import asdict, dataclass, field, replace
from functools import partial
from typing import Any

from serial.tools import list_ports

from leitwerk.address import LinkAddress, SerialLine
from leitwerk.datasheet import Datasheet
from leitwerk.errors import DeviceRefused, LinkError, LinkTimeout, NotReached
from leitwerk.identity import Identity
from leitwerk.links.device import Device
from leitwerk.links.modbus import ModbusLink
from leitwerk.links.patience import Patience
from leitwerk.links.port import why_port_fails
from leitwerk.links.trace import TraceEntry
from leitwerk.wire.modbus import ReadRequest

# MODBUS Application Protocol V1.1b3, clause 7: a gateway says that nobody is behind it.
_NOBODY = {10, 11}
USUAL_LINES = (
    SerialLine(19200, 8, "E", 1),
    SerialLine(9600, 8, "N", 1),
    SerialLine(19200, 8, "N", 1),
    SerialLine(38400, 8, "N", 1),
    SerialLine(115200, 8, "N", 1),
)


@dataclass(frozen=True, slots=True)
class Port:
    """A serial port of this machine; ``trouble`` says why it cannot be used, if so."""

    path: str
    description: str
    trouble: str
    remedy: str

    def to_dict(self) -> dict[str, Any]:
        """The port as plain data for JSON."""
        return asdict(self)


@dataclass(frozen=True, slots=True)
class FoundDevice:
    """Somebody who answered. ``identity`` is None when no datasheet knows it."""

    address: LinkAddress
    identity: Identity | None

    def __str__(self) -> str:
        who = str(self.identity) if self.identity else "a device that no datasheet knows"
        return f"{self.address}  {who}"

    def to_dict(self) -> dict[str, Any]:
        """The device as plain data for JSON."""
        identity = self.identity.to_dict() if self.identity else None
        return {"address": str(self.address), "identity": identity}


@dataclass
class Scan:
    """What a scan has seen: devices, and how many units were silent or answered with garbage."""

    found: list[FoundDevice] = field(default_factory=list)
    silent: int = 0
    garbage: int = 0

    def summary(self) -> str:
        """What was seen, in one line, with what to try when it was nothing."""
        text = f"{len(self.found)} found, {self.silent} silent"
        if self.garbage:
            text += (
                f", {self.garbage} answered with garbage: something is there, and probably runs at "
                "another baud rate or parity"
            )
        return text


def list_serial_ports() -> list[Port]:
    """The serial ports of this machine, each with what keeps it from being used."""
    ports = []
    for port in sorted(list_ports.comports()):
        trouble, remedy = why_port_fails(port.device)
        if trouble.startswith("it cannot be set"):
            trouble, remedy = "", ""  # it opens: nothing is wrong
        ports.append(Port(port.device, port.description or "", trouble, remedy))
    return ports


def scan_units(
    base: LinkAddress,
    units: Iterable[int],
    datasheets: Sequence[Datasheet],
    *,
    timeout_s: float = 0.2,
    progress: Callable[[int, int], None] = lambda done, total: None,
    on_found: Callable[[FoundDevice], None] = lambda device: None,
) -> Scan:
    """Ask every unit identifier behind an address whether somebody is there, and who.

    Parameters
    ----------
    base : LinkAddress
        Its own unit identifier does not count.
    units : iterable of int
    datasheets : sequence of Datasheet
        The models to be recognised, by what they say of themselves.
    timeout_s : float, in s
        How long a unit may take to answer.
    progress : callable
        Called after each unit with the number done and the number in all.
    on_found : callable
        Called as soon as somebody answers.

    Raises
    ------
    LinkError
        The address or the port is not reached at all.

    """
    scan = Scan()
    every = list(units)
    for done, unit in enumerate(every, start=1):
        address = replace(base, unit=unit)
        heard = _Heard()
        link = ModbusLink(address, patience=Patience(timeout_s, retries=0), tracer=heard)
        try:
            there = _is_there(link)
            if there is None:
                scan.silent += 1
            elif there:
                found = FoundDevice(address, _recognise(link, datasheets))
                scan.found.append(found)
                on_found(found)
            elif heard.anything:
                scan.garbage += 1
            else:
                scan.silent += 1
        finally:
            link.close()
        progress(done, len(every))
    return scan


def scan_lines(
    base: LinkAddress,
    lines: Sequence[SerialLine],
    units: Iterable[int],
    datasheets: Sequence[Datasheet],
    *,
    timeout_s: float = 0.2,
    progress: Callable[[SerialLine, int, int], None] = lambda line, done, total: None,
    on_found: Callable[[FoundDevice], None] = lambda device: None,
) -> Scan:
    """As ``scan_units``, at one line setting after the other until somebody is found.

    Settings that the port does not take are passed over.

    Raises
    ------
    LinkError
        The port takes none of them, or the address is not reached.

    """
    every, scan, refused = list(units), None, None
    for line in lines:
        try:
            scan = scan_units(
                replace(base, line=line), every, datasheets, timeout_s=timeout_s,
                progress=partial(progress, line), on_found=on_found,
            )  # fmt: skip
        except NotReached as error:
            refused = error
            continue
        if scan.found:
            break
    if scan is None:
        assert refused is not None
        raise refused
    return scan


class _Heard:
    """Notes whether anything came back, whatever it was."""

    def __init__(self) -> None:
        self.anything = False

    def __call__(self, entry: TraceEntry) -> None:
        self.anything |= not entry.sent and bool(entry.frame)


def _is_there(link: ModbusLink) -> bool | None:
    """Whether somebody answers; None when a gateway says that there is nobody."""
    try:
        link.read([ReadRequest("holding", 0, 1)])
    except LinkTimeout:
        return False
    except DeviceRefused as refused:
        # Whoever refuses is there, unless it is a gateway that speaks for nobody.
        return None if refused.code in _NOBODY else True
    except NotReached:
        raise
    except LinkError:
        return False
    return True


def _recognise(link: ModbusLink, datasheets: Sequence[Datasheet]) -> Identity | None:
    """Who it is, by the datasheet whose model it says that it is."""
    for datasheet in datasheets:
        try:
            identity = Device(datasheet, link).identify()
        except (LinkError, DeviceRefused):
            continue
        if identity.model == datasheet.model:
            return identity
    return None
