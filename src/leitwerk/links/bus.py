"""Buses: what several devices on one serial port share, one request at a time."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from leitwerk.errors import NotReached
from leitwerk.parsing.address import LinkAddress


class Bus:
    """The open end of a connection, and the lock that keeps the requests of its users apart.

    ``end`` is whatever the protocol needs; all that is asked of it is a ``close``.
    """

    def __init__(self, address: LinkAddress, end: Any) -> None:
        self.lock = threading.RLock()
        self.users = 0
        self.address = address
        self.end = end


_shared: dict[str, Bus] = {}
_shared_lock = threading.Lock()


def take_bus(address: LinkAddress, make: Callable[[LinkAddress], Any]) -> Bus:
    """The bus of an address. A serial port has one, whoever asks; give it back with ``leave_bus``.

    Raises
    ------
    NotReached
        The port is in use here with another protocol or another line setting.

    """
    if not address.is_serial:
        return Bus(address, make(address))
    with _shared_lock:
        bus = _shared.get(address.serial_port)
        if bus is None:
            bus = _shared[address.serial_port] = Bus(address, make(address))
        first = bus.address
        if (first.scheme, first.line) != (address.scheme, address.line):
            raise NotReached(
                f"{address}: this port is in use here as {first.scheme} at {first.line}",
                remedy="all devices on one line speak alike: give their addresses the same line",
            )
        bus.users += 1
        return bus


def leave_bus(bus: Bus) -> None:
    """Give a bus back; the last one who does closes the connection."""
    with _shared_lock:
        bus.users -= 1
        if bus.users <= 0:
            bus.end.close()
            if _shared.get(bus.address.serial_port) is bus:
                del _shared[bus.address.serial_port]
