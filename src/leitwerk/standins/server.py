"""Simulated devices behind a real Modbus server, TCP or RTU."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Coroutine, Sequence
from typing import TYPE_CHECKING

from pymodbus.constants import ExcCodes
from pymodbus.server import ModbusSerialServer, ModbusTcpServer
from pymodbus.simulator import DataType, SimData, SimDevice

from leitwerk.parsing.address import SerialLine
from leitwerk.standins.faults import Faults, spoiler
from leitwerk.standins.firmware import Firmware, RefusedError
from leitwerk.standins.ports import SerialCable

if TYPE_CHECKING:
    from pymodbus.pdu import ModbusPDU

# What goes wrong is answered; the package would report it a second time on standard error.
logging.getLogger("pymodbus.logging").addHandler(logging.NullHandler())

_REGISTERS = 1000
_WRITE_FUNCTIONS = {6, 16}
_TABLES = {3: "holding", 4: "input", 6: "holding", 16: "holding"}
# Pseudo-terminals know no parity: 8N1, although the standard's default is another.
RTU_LINE = SerialLine(19200, 8, "N", 1)


async def serve_tcp(
    firmware: Firmware, *, host: str, port: int, faults: Faults, ready: Callable[[int], None]
) -> None:
    """Serve Modbus TCP until cancelled; ``ready`` is called with the port once it is open."""
    line = _Line([firmware], faults, silent_for_others=False)
    server = ModbusTcpServer(
        line.devices(), address=(host, port), trace_pdu=line.pdu, trace_packet=line.packet
    )
    await server.serve_forever(background=True)

    def hang_up() -> None:
        for one in list(server.active_connections.values()):
            one.close()

    line.hang_up = hang_up
    # The server offers no other way to learn which free port the system gave it.
    ready(server.transport.sockets[0].getsockname()[1])  # type: ignore[attr-defined]
    try:
        await server.serving
    finally:
        await server.shutdown()


async def serve_rtu(
    every: Sequence[Firmware], *, faults: Faults, ready: Callable[[str], None]
) -> None:
    """Serve Modbus RTU on one pseudo-terminal for all; ``ready`` gets its path."""
    line = _Line(every, faults, silent_for_others=True)
    with SerialCable(spoiler(faults.corrupt_every)) as cable:
        server = ModbusSerialServer(
            line.devices(),
            port=cable.device_path,
            baudrate=RTU_LINE.baud,
            parity=RTU_LINE.parity,
            trace_pdu=line.pdu,
            trace_packet=line.packet,
        )
        await server.serve_forever(background=True)
        ready(cable.client_path)
        try:
            await server.serving
        finally:
            await server.shutdown()


class _Line:
    """What stands between the server package and the devices of one line.

    The package knows its devices by fixed numbers, ours may be given another unit while they run:
    each is device 1, 2, … for the package, and goes by its own unit on the line. Device
    0 stands for all other units.
    """

    def __init__(
        self, every: Sequence[Firmware], faults: Faults, *, silent_for_others: bool
    ) -> None:
        self.every = tuple(every)
        self.faults = faults
        self.hang_up: Callable[[], None] = lambda: None
        self._silent_for_others = silent_for_others
        self._asked = dict.fromkeys(range(len(self.every) + 1), 0)
        self._says_nothing = False
        self._requests = self._writes = self._answers = 0

    def devices(self) -> list[SimDevice]:
        """The devices as the package wants them."""
        blocks = (
            [SimData(0, values=[False] * 16, datatype=DataType.BITS)],
            [SimData(0, values=[False] * 16, datatype=DataType.BITS)],
            [SimData(0, count=_REGISTERS, values=0, datatype=DataType.REGISTERS)],
            [SimData(0, count=_REGISTERS, values=0, datatype=DataType.REGISTERS)],
        )
        mine = [
            SimDevice(number, simdata=blocks, action=self._action(firmware))
            for number, firmware in enumerate(self.every, start=1)
        ]
        return [*mine, SimDevice(0, blocks, action=_absent)]

    def pdu(self, sending: bool, pdu: ModbusPDU) -> ModbusPDU:  # noqa: FBT001 - the package calls it so
        """Every request on its way in, every answer on its way out."""
        if not sending:
            units = {firmware.unit: k for k, firmware in enumerate(self.every, start=1)}
            number = units.get(pdu.dev_id, 0)
            # An answer comes from the unit that was asked, also when the request has changed it.
            self._asked[number] = pdu.dev_id
            pdu.dev_id = number
            return pdu
        self._says_nothing = self._silent_for_others and pdu.dev_id == 0
        self._answers += 1
        pdu.dev_id = self._asked[pdu.dev_id]
        if self.faults.wrong_unit_every and self._answers % self.faults.wrong_unit_every == 0:
            pdu.dev_id = pdu.dev_id % 247 + 1
        return pdu

    def packet(self, sending: bool, data: bytes) -> bytes:  # noqa: FBT001 - the package calls it so
        """On a serial line, other units are silent."""
        return b"" if sending and self._says_nothing else data

    def _action(self, firmware: Firmware) -> Callable[..., Coroutine[None, None, ExcCodes | None]]:
        async def answer(
            function: int,
            start: int,
            address: int,
            count: int,
            registers: list[int],
            values: list[int] | list[bool] | None,
        ) -> ExcCodes | None:
            # The server keeps a copy of the registers for itself; it is filled before each answer,
            # and what it writes there afterwards is overwritten by the next.
            table = _TABLES.get(function)
            if table is None:
                return ExcCodes.ILLEGAL_FUNCTION
            words = None if values is None else [int(word) for word in values]
            await self._misbehave(firmware, function, address, words)
            try:
                if words is None:
                    at = address - start
                    registers[at : at + count] = firmware.read(table, address, count)
                else:
                    firmware.write(address, words)
            except RefusedError as refused:
                return ExcCodes(refused.code)
            return None

        return answer

    async def _misbehave(
        self, firmware: Firmware, function: int, address: int, words: list[int] | None
    ) -> None:
        faults = self.faults
        self._requests += 1
        self._writes += function in _WRITE_FUNCTIONS
        if faults.power_loss_at_write and self._writes == faults.power_loss_at_write and words:
            self._writes += 1  # once is enough
            firmware.lose_power(address, words)
            self.hang_up()
            await asyncio.Event().wait()
        if firmware.clock() < firmware.starting_until_s:
            await asyncio.Event().wait()
        for limit, done in (
            (faults.silent_after_requests, self._requests),
            (faults.silent_after_writes, self._writes),
        ):
            if limit is not None and done > limit:
                await asyncio.Event().wait()
        if faults.drop_every and self._requests % faults.drop_every == 0:
            self.hang_up()
            await asyncio.Event().wait()
        if faults.slow_s:
            await asyncio.sleep(faults.slow_s)


async def _absent(*request: object) -> ExcCodes:
    """For every other unit on TCP: no device answers, as a gateway reports it."""
    del request
    return ExcCodes.GATEWAY_NO_RESPONSE
