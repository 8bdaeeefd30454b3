"""Buses: connections that several devices may share, one request at a time."""

from __future__ import annotations

import errno
import threading
from pathlib import Path
from typing import TYPE_CHECKING

from pymodbus.client import ModbusSerialClient, ModbusTcpClient
from pymodbus.framer import FramerType

from leitwerk.address import LinkAddress

if TYPE_CHECKING:
    from collections.abc import Callable

    from pymodbus.client.base import ModbusBaseSyncClient


class Bus:
    """A client of the protocol package, and the lock that keeps its requests apart.

    ``packet`` is what is called with each frame, for whoever holds the lock and wants a trace.
    """

    def __init__(self, address: LinkAddress, timeout_s: float) -> None:
        self.lock = threading.RLock()
        self.users = 0
        self.packet: Callable[[bool, bytes], None] | None = None
        self.client = self._client(address, timeout_s)

    def _client(self, address: LinkAddress, timeout_s: float) -> ModbusBaseSyncClient:
        if address.is_serial:
            return ModbusSerialClient(
                address.serial_port,
                baudrate=address.line.baud,
                bytesize=address.line.data_bits,
                parity=address.line.parity,
                stopbits=address.line.stop_bits,
                timeout=timeout_s,
                retries=0,
                reconnect_delay=0,
                trace_packet=self._trace,
            )
        framer = FramerType.RTU if address.scheme == "modbus+rtu" else FramerType.SOCKET
        return ModbusTcpClient(
            address.host,
            port=address.port,
            framer=framer,
            timeout=timeout_s,
            retries=0,
            reconnect_delay=0,
            trace_packet=self._trace,
        )

    def _trace(self, sending: bool, data: bytes) -> bytes:  # noqa: FBT001 - the package calls it so
        if self.packet is not None:
            self.packet(sending, data)
        return data


_shared: dict[str, Bus] = {}
_shared_lock = threading.Lock()


def take_bus(address: LinkAddress, timeout_s: float) -> Bus:
    """The bus of an address. A serial port has one, whoever asks; give it back with ``leave_bus``."""
    if not address.is_serial:
        return Bus(address, timeout_s)
    with _shared_lock:
        bus = _shared.get(address.serial_port)
        if bus is None:
            bus = _shared[address.serial_port] = Bus(address, timeout_s)
        bus.users += 1
        return bus


def leave_bus(address: LinkAddress, bus: Bus) -> None:
    """Give a bus back; the last one who does closes the connection."""
    with _shared_lock:
        bus.users -= 1
        if bus.users <= 0:
            bus.client.close()
            if _shared.get(address.serial_port) is bus:
                del _shared[address.serial_port]


def why_port_fails(path: str) -> tuple[str, str]:
    """What is wrong with a serial port, and what to do: missing, forbidden, busy."""
    import serial  # noqa: PLC0415 - only when something is wrong

    try:
        serial.Serial(path, exclusive=True).close()
    except (serial.SerialException, OSError, ValueError) as error:
        code = getattr(error, "errno", None) or getattr(error.__cause__, "errno", None)
    else:
        return "it cannot be set to this line", "look at the line settings in the address"
    if code in {errno.ENOENT, errno.ENXIO, errno.ENODEV} or not Path(path).exists():
        return "there is no such port", "is the converter plugged in, is this its name?"
    if code in {errno.EACCES, errno.EPERM}:
        return "this user may not open it", "join the group that owns the port, often dialout"
    if code in {errno.EBUSY, errno.EAGAIN}:
        return "another program holds it", "end the other program, then try again"
    return "it is no serial port, or broken", "is this the right name?"
