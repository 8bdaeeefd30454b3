"""A simulated device behind a real Modbus server, TCP or RTU."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

from pymodbus.constants import ExcCodes
from pymodbus.server import ModbusSerialServer, ModbusTcpServer
from pymodbus.simulator import DataType, SimData, SimDevice

from leitwerk.address import SerialLine
from leitwerk.standins.firmware import Firmware, RefusedError
from leitwerk.standins.ports import SerialCable

# What goes wrong is answered; the package would tell it a second time on standard error.
logging.getLogger("pymodbus.logging").addHandler(logging.NullHandler())

_REGISTERS = 1000
_WRITE_FUNCTIONS = {6, 16}
_TABLES = {3: "holding", 4: "input", 6: "holding", 16: "holding"}


@dataclass
class Faults:
    """How the stand-in misbehaves on its link. None and 0: not at all."""

    silent_after_writes: int | None = None
    silent_after_requests: int | None = None
    slow_s: float = 0.0
    corrupt_every: int = 0


class Serial(NamedTuple):
    """What is told about a stand-in on a serial line once it can be reached."""

    path: str
    line: SerialLine


async def serve_tcp(
    firmware: Firmware,
    *,
    host: str,
    port: int,
    unit: int,
    faults: Faults,
    ready: Callable[[int], None],
) -> None:
    """Serve Modbus TCP until cancelled; ``ready`` is called with the port once it is open."""
    devices = _devices(firmware, unit, faults)
    server = ModbusTcpServer(devices, address=(host, port))
    await server.serve_forever(background=True)
    # The server offers no other way to learn which free port the system gave it.
    ready(server.transport.sockets[0].getsockname()[1])  # type: ignore[attr-defined]
    try:
        await server.serving
    finally:
        await server.shutdown()


async def serve_rtu(
    firmware: Firmware, *, unit: int, faults: Faults, ready: Callable[[Serial], None]
) -> None:
    """Serve Modbus RTU on a pseudo-terminal until cancelled; ``ready`` gets its path."""
    # Pseudo-terminals know no parity: 8N1, whatever the standard's default is.
    line = SerialLine(19200, 8, "N", 1)
    with SerialCable(_spoiler(faults.corrupt_every)) as cable:
        server = ModbusSerialServer(
            _devices(firmware, unit, faults),
            port=cable.device_path,
            baudrate=line.baud,
            parity=line.parity,
        )
        await server.serve_forever(background=True)
        ready(Serial(cable.client_path, line))
        try:
            await server.serving
        finally:
            await server.shutdown()


def _spoiler(every: int) -> Callable[[bytes], bytes]:
    """Turns one bit round in every so many pieces that the device sends."""
    count = 0

    def spoil(data: bytes) -> bytes:
        nonlocal count
        count += 1
        if every and count % every == 0:
            return bytes([data[0], data[1] ^ 0x10, *data[2:]]) if len(data) > 1 else data
        return data

    return spoil


def _devices(firmware: Firmware, unit: int, faults: Faults) -> list[SimDevice]:
    counts = {"requests": 0, "writes": 0}

    async def answer(
        function: int,
        start: int,
        address: int,
        count: int,
        registers: list[int],
        values: list[int] | list[bool] | None,
    ) -> ExcCodes | None:
        # The server keeps a copy of the registers for itself; it is filled before each answer, and
        # what it writes there afterwards is overwritten by the next.
        table = _TABLES.get(function)
        if table is None:
            return ExcCodes.ILLEGAL_FUNCTION
        counts["requests"] += 1
        counts["writes"] += function in _WRITE_FUNCTIONS
        for limit, done in (
            (faults.silent_after_requests, counts["requests"]),
            (faults.silent_after_writes, counts["writes"]),
        ):
            if limit is not None and done > limit:
                await asyncio.Event().wait()
        if faults.slow_s:
            await asyncio.sleep(faults.slow_s)
        try:
            if values is None:
                at = address - start
                registers[at : at + count] = firmware.read(table, address, count)
            else:
                firmware.write(address, [int(word) for word in values])
        except RefusedError as refused:
            return ExcCodes(refused.code)
        return None

    blocks = (
        [SimData(0, values=[False] * 16, datatype=DataType.BITS)],
        [SimData(0, values=[False] * 16, datatype=DataType.BITS)],
        [SimData(0, count=_REGISTERS, values=0, datatype=DataType.REGISTERS)],
        [SimData(0, count=_REGISTERS, values=0, datatype=DataType.REGISTERS)],
    )
    return [SimDevice(unit, simdata=blocks, action=answer), SimDevice(0, blocks, action=_nobody)]


async def _nobody(*request: object) -> ExcCodes:
    """For every other unit: the package knows no silence, so nobody is there as behind a gateway."""
    del request
    return ExcCodes.GATEWAY_NO_RESPONSE
