"""Finding devices: serial ports, and who answers on a bus or in a network. Reads only."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import asdict, dataclass, field, replace
from functools import partial
from ipaddress import IPv4Address
from typing import Any

from serial.tools import list_ports

from leitwerk.datasheet.model import Datasheet
from leitwerk.devices.presence import Presence, identify_by_datasheets, identify_natively, probe
from leitwerk.errors import NotReached, QuantityError
from leitwerk.identity import Identity, folded_number
from leitwerk.links.options import LinkOptions
from leitwerk.links.serial_port import framing_errors, why_port_fails
from leitwerk.parsing.address import BusAddress, LinkAddress, SerialLine

USUAL_LINES = (
    SerialLine(19200, 8, "E", 1),
    SerialLine(9600, 8, "N", 1),
    SerialLine(19200, 8, "N", 1),
    SerialLine(38400, 8, "N", 1),
    SerialLine(115200, 8, "N", 1),
)
_AT_ONCE = 32  # hosts of a network that are asked together
_NAMING_S = 1.0  # who is there may take longer to say so than to answer at all


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
    """A device that answered. ``identity`` is read by a datasheet, or else by the protocol."""

    address: LinkAddress
    identity: Identity | None
    has_datasheet: bool = False

    def __str__(self) -> str:
        if self.identity is None:
            return f"{self.address}  a device that no datasheet knows"
        return f"{self.address}  {self.identity}" + ("" if self.has_datasheet else ", no datasheet")

    def to_dict(self) -> dict[str, Any]:
        """The device as plain data for JSON."""
        identity = self.identity.to_dict() if self.identity else None
        found = {"address": str(self.address), "identity": identity}
        return {**found, "has_datasheet": self.has_datasheet}


@dataclass
class Scan:
    """What a scan has seen: devices, and how many addresses were silent or gave garbage.

    ``garbage_at`` are the line settings at which it came.
    """

    found: list[FoundDevice] = field(default_factory=list)
    silent: int = 0
    garbage: int = 0
    garbage_at: list[SerialLine] = field(default_factory=list)
    framing_errors: int = 0

    def duplicates(self) -> list[tuple[FoundDevice, FoundDevice]]:
        """Pairs that say they are the same device, at different addresses."""
        first: dict[tuple[str, str], FoundDevice] = {}
        pairs = []
        for device in self.found:
            who = device.identity
            if who is None or not who.serial:
                continue
            key = (who.model, folded_number(who.serial))
            if key in first:
                pairs.append((first[key], device))
            first.setdefault(key, device)
        return pairs

    def summary(self) -> str:
        """What was seen, in words, with what to try when it was nothing."""
        parts = [self._counts()]
        for one, other in self.duplicates():
            parts.append(
                f"{one.address} and {other.address} say that they are the same device; neither is "
                "remembered before that is cleared up"
            )
        return "\n".join(parts)

    def _counts(self) -> str:
        text = f"{len(self.found)} found, {self.silent} silent"
        if not self.garbage:
            return text
        text += f", {self.garbage} answered with garbage"
        if self.framing_errors:
            text += f" ({self.framing_errors} framing errors: the baud rate is another)"
        if not self.garbage_at:
            return text
        lines = " and ".join(str(line) for line in self.garbage_at)
        runs_at = sorted({str(d.address.line) for d in self.found if d.address.is_serial})
        if runs_at:
            return f"{text}: at {lines}, while the line runs at {' and '.join(runs_at)}"
        return (
            f"{text}: something is there that does not run at {lines}; try other line settings "
            "(--lines)"
        )

    def add(self, other: Scan) -> None:
        """Take in what was seen at another line setting."""
        self.found += other.found
        self.silent += other.silent
        self.garbage += other.garbage
        self.garbage_at += other.garbage_at
        self.framing_errors += other.framing_errors


def list_serial_ports() -> list[Port]:
    """The serial ports of this machine, each with what keeps it from being used."""
    ports = []
    for port in sorted(list_ports.comports()):
        trouble, remedy = why_port_fails(port.device)
        if trouble.startswith("it cannot be set"):
            trouble, remedy = "", ""  # it opens: nothing is wrong
        ports.append(Port(port.device, port.description or "", trouble, remedy))
    return ports


def expand_addresses(
    base: LinkAddress, units: Sequence[BusAddress] = (), hosts: Sequence[int] = ()
) -> list[LinkAddress]:
    """The addresses to ask: every unit behind every host.

    Parameters
    ----------
    base : LinkAddress
    units : sequence of int or str
        BusAddress identifiers; that of ``base`` where none are given.
    hosts : sequence of int
        Last numbers of IPv4 addresses; the host of ``base`` where none are given.

    Raises
    ------
    QuantityError
        The host of ``base`` is no IPv4 address, or its protocol has no units.

    """
    if units and base.unit == "":
        raise QuantityError(f"{base} has no units to ask", valid="an address without --units")
    addresses = [base]
    if hosts:
        try:
            network = str(IPv4Address(base.host)).rpartition(".")[0]
        except ValueError:
            valid = "an address with four numbers, such as modbus+tcp://192.168.1.0"
            raise QuantityError(f"{base} is not an address of a network", valid=valid) from None
        addresses = [replace(base, host=f"{network}.{last}") for last in hosts]
    return [replace(a, unit=unit) for a in addresses for unit in units or [base.unit]]


def scan(
    addresses: Iterable[LinkAddress],
    datasheets: Sequence[Datasheet],
    *,
    timeout_s: float = 0.2,
    progress: Callable[[int, int], None] = lambda done, total: None,
    on_found: Callable[[FoundDevice], None] = lambda device: None,
) -> Scan:
    """Find the devices at some addresses, and identify them.

    One serial port, or one host, is asked for one address after the other; different hosts at once.

    Parameters
    ----------
    addresses : iterable of LinkAddress
    datasheets : sequence of Datasheet
        The models to be recognised, by what they say of themselves.
    timeout_s : float, in s
        How long an address may take to answer.
    progress : callable
        Called after each address with the number done and the number in all.
    on_found : callable
        Called as soon as a device answers.

    Raises
    ------
    NotReached
        The port does not open, or the only host does not answer.

    """
    every = list(addresses)
    result = Scan()
    port = every[0].serial_port if every else ""
    before = framing_errors(port)
    hosts = {(address.host, address.port) for address in every if not address.is_serial}
    ask = partial(_ask, datasheets=datasheets, options=LinkOptions(timeout_s, retries=0))
    for done, seen in enumerate(_asked(every, ask, alone=len(hosts) <= 1), start=1):
        result.add(seen)
        for device in seen.found:
            on_found(device)
        progress(done, len(every))
    result.framing_errors = framing_errors(port) - before
    result.garbage_at = list(dict.fromkeys(result.garbage_at))
    return result


def scan_lines(
    addresses: Iterable[LinkAddress],
    lines: Sequence[SerialLine],
    datasheets: Sequence[Datasheet],
    *,
    timeout_s: float = 0.2,
    progress: Callable[[SerialLine, int, int], None] = lambda line, done, total: None,
    on_found: Callable[[FoundDevice], None] = lambda device: None,
) -> Scan:
    """As ``scan``, at one line setting after the other until a device is found.

    Settings that the port does not take are passed over.

    Raises
    ------
    NotReached
        The port takes none of them, or the address is not reached.

    """
    every, result, refused = list(addresses), None, None
    for line in lines:
        try:
            seen = scan(
                [replace(address, line=line) for address in every], datasheets,
                timeout_s=timeout_s, progress=partial(progress, line), on_found=on_found,
            )  # fmt: skip
        except NotReached as error:
            refused = error
            continue
        if result is None:
            result = Scan()
        result.add(seen)
        if seen.found:
            break
    if result is None:
        assert refused is not None
        raise refused
    return result


def _asked(
    every: Sequence[LinkAddress], ask: Callable[[LinkAddress], Scan], *, alone: bool
) -> Iterator[Scan]:
    """What was seen at each address, as soon as it is known."""
    if alone:
        yield from map(ask, every)
        return
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        futures = [pool.submit(ask, address) for address in every]
        try:
            for future in as_completed(futures):
                try:
                    yield future.result()
                except NotReached:
                    yield Scan(silent=1)  # one host of many that is not there
        finally:
            # If the caller stops, the rest is stopped, too.
            pool.shutdown(cancel_futures=True)


def _ask(address: LinkAddress, datasheets: Sequence[Datasheet], options: LinkOptions) -> Scan:
    presence = probe(address, options, datasheets)
    if presence is Presence.PRESENT:
        naming = replace(options, timeout_s=max(options.timeout_s, _NAMING_S), retries=1)
        known = identify_by_datasheets(address, datasheets, naming)
        who = known or identify_natively(address, naming)
        return Scan(found=[FoundDevice(address, who, has_datasheet=known is not None)])
    if presence is Presence.GARBAGE:
        return Scan(garbage=1, garbage_at=[address.line] if address.is_serial else [])
    return Scan(silent=1)
