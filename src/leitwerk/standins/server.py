"""A simulated logger behind a real Modbus TCP server."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass

from pymodbus.constants import ExcCodes
from pymodbus.server import ModbusTcpServer
from pymodbus.simulator import DataType, SimData, SimDevice

from leitwerk.standins.logger import Logger, RefusedError

_REGISTERS = 1000
_WRITE_FUNCTIONS = {6, 16}
_TABLES = {3: "holding", 4: "input", 6: "holding", 16: "holding"}


@dataclass
class Faults:
    """How the stand-in misbehaves on its link. None: not at all."""

    silent_after_writes: int | None = None
    silent_after_requests: int | None = None


async def serve(
    logger: Logger,
    *,
    host: str,
    port: int,
    unit: int,
    faults: Faults,
    ready: Callable[[int], None],
) -> None:
    """Serve until cancelled; ``ready`` is called with the port once it is open."""
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
        try:
            if values is None:
                at = address - start
                registers[at : at + count] = logger.read(table, address, count)
            else:
                logger.write(address, [int(word) for word in values])
        except RefusedError as refused:
            return ExcCodes(refused.code)
        return None

    blocks = (
        [SimData(0, values=[False] * 16, datatype=DataType.BITS)],
        [SimData(0, values=[False] * 16, datatype=DataType.BITS)],
        [SimData(0, count=_REGISTERS, values=0, datatype=DataType.REGISTERS)],
        [SimData(0, count=_REGISTERS, values=0, datatype=DataType.REGISTERS)],
    )
    device = SimDevice(unit, simdata=blocks, action=answer)
    server = ModbusTcpServer(device, address=(host, port))
    await server.serve_forever(background=True)
    # The server offers no other way to learn which free port the system gave it.
    ready(server.transport.sockets[0].getsockname()[1])  # type: ignore[attr-defined]
    try:
        await server.serving
    finally:
        await server.shutdown()
