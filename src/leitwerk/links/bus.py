"""Buses: what several devices on one serial port share, one request at a time."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any, Generic, Protocol, TypeVar

from leitwerk.errors import NotReached
from leitwerk.parsing.address import LinkAddress


class Connection(Protocol):
    """What a protocol sends and receives with."""

    def close(self) -> None:
        """End it."""


C = TypeVar("C", bound=Connection)


class Bus(Generic[C]):
    """A connection, and the lock that keeps the requests of its users apart."""

    def __init__(self, address: LinkAddress, connection: C) -> None:
        self.lock = threading.RLock()
        self.users = 0
        self.address = address
        self.connection = connection


# Serial ports are held exclusively: within this process, all links to one share what opened it.
_shared: dict[str, Bus[Any]] = {}
_shared_lock = threading.Lock()


def take_bus(address: LinkAddress, connect: Callable[[LinkAddress], C]) -> Bus[C]:
    """The bus of an address. All links to one serial port share one; release it with ``leave_bus``.

    Raises
    ------
    NotReached
        The port is in use here with another protocol or another line setting.

    """
    if not address.is_serial:
        return Bus(address, connect(address))
    with _shared_lock:
        bus = _shared.get(address.serial_port)
        if bus is None:
            bus = _shared[address.serial_port] = Bus(address, connect(address))
        first = bus.address
        if (first.scheme, first.line) != (address.scheme, address.line):
            raise NotReached(
                f"{address}: this port is in use here as {first.scheme} at {first.line}",
                remedy="all devices on one line speak alike: give their addresses the same line",
            )
        bus.users += 1
        return bus


def leave_bus(bus: Bus[Any]) -> None:
    """Give a bus back; the last one who does closes the connection."""
    with _shared_lock:
        bus.users -= 1
        if bus.users <= 0:
            bus.connection.close()
            if _shared.get(bus.address.serial_port) is bus:
                del _shared[bus.address.serial_port]
