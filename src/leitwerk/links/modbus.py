"""Modbus TCP by pymodbus, with every reply checked for being the answer to this question."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from typing import TYPE_CHECKING

from pymodbus.client import ModbusTcpClient
from pymodbus.exceptions import ConnectionException, ModbusException

from leitwerk.address import LinkAddress
from leitwerk.errors import DeviceRefused, LinkError, LinkTimeout
from leitwerk.wire.modbus import ReadRequest, WriteRequest

if TYPE_CHECKING:
    from pymodbus.pdu import ModbusPDU

# What goes wrong is raised; the client library would tell it a second time on standard error.
logging.getLogger("pymodbus.logging").addHandler(logging.NullHandler())

TIMEOUT_S = 2.0
# A read may be asked again without harm; a write is not: nobody knows whether it was carried out.
READ_RETRIES = 1
_WRITE_MULTIPLE = 16
_READ = {"holding": 3, "input": 4}


class ModbusLink:
    """One device behind one Modbus TCP address.

    Not safe to share between threads. Connects when first used.
    """

    def __init__(self, address: LinkAddress, *, timeout_s: float = TIMEOUT_S) -> None:
        self.address = address
        self.timeout_s = timeout_s
        self.requests = 0
        self._client = ModbusTcpClient(
            address.host, port=address.port, timeout=timeout_s, retries=0, reconnect_delay=0
        )
        self._read = {
            "holding": self._client.read_holding_registers,
            "input": self._client.read_input_registers,
        }

    def read(self, requests: Sequence[ReadRequest]) -> list[int]:
        """The registers of all requests, one after the other.

        Raises
        ------
        LinkError
            The device was not reached, or answered something else.
        DeviceRefused
            It answered with an exception code.

        """
        if len(requests) == 1:
            return self._read_one(requests[0])
        return [word for request in requests for word in self._read_one(request)]

    def write(self, request: WriteRequest) -> None:
        """Write registers; when this returns, the device has confirmed it.

        Raises
        ------
        LinkError, DeviceRefused
            As for ``read``. After a LinkError nobody knows whether it was carried out.

        """
        self._connect(request)
        self.requests += 1
        try:
            reply = self._client.write_registers(
                request.start, list(request.words), device_id=self.address.unit
            )
        except ModbusException as error:
            raise self._lost(request, error) from error
        self._check(reply, request, _WRITE_MULTIPLE)
        if (reply.address, reply.count) != (request.start, len(request.words)):
            what = f"it confirmed {reply.count} registers from {reply.address}"
            raise self._wrong_answer(request, what)

    def close(self) -> None:
        """End the connection."""
        self._client.close()

    def _read_one(self, request: ReadRequest) -> list[int]:
        for attempt in range(READ_RETRIES + 1):
            try:
                self._connect(request)
                self.requests += 1
                reply = self._read[request.table](
                    request.start, count=request.count, device_id=self.address.unit
                )
                break
            except ModbusException as error:
                lost = self._lost(request, error)
                if attempt == READ_RETRIES or isinstance(lost, LinkTimeout):
                    raise lost from error
        self._check(reply, request, _READ[request.table])
        if len(reply.registers) != request.count:
            raise self._wrong_answer(request, f"it sent {len(reply.registers)} registers")
        return list(reply.registers)

    def _connect(self, request: ReadRequest | WriteRequest) -> None:
        if not self._client.connect():
            raise LinkError(
                f"{self.address}: nobody answers there ({request})",
                remedy="is the device on, is the address right, does the network reach it?",
            )

    def _lost(self, request: ReadRequest | WriteRequest, error: ModbusException) -> LinkError:
        # A reply that comes later must never be taken for the next one: the connection goes.
        self._client.close()
        if isinstance(error, ConnectionException):
            return LinkError(
                f"{self.address}: the connection broke during '{request}'",
                remedy="look at cable, switch and supply, then try again",
            )
        return LinkTimeout(
            f"{self.address}: no answer to '{request}' within {self.timeout_s:g} s",
            remedy="is this the right unit identifier, and is the device still on?",
        )

    def _check(self, reply: ModbusPDU, request: ReadRequest | WriteRequest, function: int) -> None:
        if reply.isError():
            code = int(getattr(reply, "exception_code", 0))
            message = f"{self.address}: the device refused '{request}' with code {code}"
            raise DeviceRefused(message, code=code)
        if reply.function_code != function:
            raise self._wrong_answer(request, f"it answered with function {reply.function_code}")

    def _wrong_answer(self, request: ReadRequest | WriteRequest, what: str) -> LinkError:
        self._client.close()
        return LinkError(
            f"{self.address}: the answer does not belong to '{request}': {what}",
            remedy="do two devices share this address?",
        )
