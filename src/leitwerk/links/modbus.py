"""Modbus TCP and RTU by pymodbus, with every reply checked for being the answer to this question."""

from __future__ import annotations

import contextlib
import logging
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from pymodbus.client import ModbusSerialClient, ModbusTcpClient
from pymodbus.exceptions import ConnectionException, ModbusException
from pymodbus.framer import FramerRTU, FramerType

from leitwerk.errors import DeviceRefused, LinkError, LinkTimeout, NoDeviceBehind, NotReached
from leitwerk.links.bus import leave_bus, take_bus
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.links.reconnects import Reconnects
from leitwerk.links.serial_port import why_port_fails
from leitwerk.links.trace import note
from leitwerk.parsing.address import LinkAddress
from leitwerk.protocols.modbus import ReadRequest, WriteRequest

if TYPE_CHECKING:
    from pymodbus.client.base import ModbusBaseSyncClient
    from pymodbus.pdu import ModbusPDU

# What goes wrong is raised; the client library would report it a second time on standard error.
logging.getLogger("pymodbus.logging").addHandler(logging.NullHandler())

# Function codes, MODBUS Application Protocol V1.1b3, clause 6.
_WRITE = {"holding": 16, "coil": 15}
_READ = {"coil": 1, "discrete": 2, "holding": 3, "input": 4}
# Where the data of a write begins in a frame: MBAP header or unit, function, address, counts.
_DATA_AT = {"modbus+tcp": 13, "modbus+rtu": 7}
_RTU_LEAST, _MBAP = 4, 7  # bytes: unit, function and check; the header before the function
# MODBUS Application Protocol V1.1b3, clause 7: a gateway says that no device answers behind it.
_OF_GATEWAYS = {10, 11}


class _Client:
    """A client of the protocol package. ``packet`` is called with each frame, for a trace."""

    def __init__(self, address: LinkAddress, timeout_s: float) -> None:
        self.packet: Callable[[bool, bytes], None] | None = None
        self.heard = b""  # what came back on the last request
        self.opened = 0  # how often a connection was opened
        self.client = self._make(address, timeout_s)
        self.close = self.client.close

    def open(self) -> bool:
        """Open the connection unless it is open; whether it is now."""
        is_new = getattr(self.client, "socket", None) is None
        if not self.client.connect():
            return False
        self.opened += is_new
        return True

    def _make(self, address: LinkAddress, timeout_s: float) -> ModbusBaseSyncClient:
        # The package's own repetitions are switched off: what is asked again is decided here.
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
        self.heard = b"" if sending else data
        if self.packet is not None:
            self.packet(sending, data)
        return data


class ModbusLink:
    """One device behind one Modbus address. Connects when first used.

    Devices on one serial port share it: requests of all links to it, from any thread, go out one
    after the other.
    """

    def __init__(
        self,
        address: LinkAddress,
        *,
        options: LinkOptions = USUAL,
    ) -> None:
        self.address = address
        self.options = options
        self.requests = 0
        self.reconnects = Reconnects()
        self._bus = take_bus(address, lambda at: _Client(at, options.timeout_s))
        self._client: ModbusBaseSyncClient = self._bus.connection.client
        client = self._client
        self._read: dict[str, Callable[..., Any]] = {
            "coil": client.read_coils,
            "discrete": client.read_discrete_inputs,
            "holding": client.read_holding_registers,
            "input": client.read_input_registers,
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
        """Write registers or coils; when this returns, the device has confirmed it.

        Raises
        ------
        LinkError, DeviceRefused
            As for ``read``. After a LinkError it is not known whether it was carried out.

        """
        client = self._client
        with self._bus.lock:
            if request.table == "coil":
                bits = [bool(word) for word in request.words]
                reply = self._ask(request, client.write_coils, request.start, bits)
            else:
                words = list(request.words)
                reply = self._ask(request, client.write_registers, request.start, words)
            self._check(reply, request, _WRITE[request.table])
            if (reply.address, reply.count) != (request.start, len(request.words)):
                what = f"it confirmed {reply.count} registers from {reply.address}"
                raise self._wrong_answer(request, what)

    def close(self) -> None:
        """End the connection, when no other device uses the same port."""
        leave_bus(self._bus)

    def _read_one(self, request: ReadRequest) -> list[int]:
        with self._bus.lock:
            reply = self._retried(request)
            self._check(reply, request, _READ[request.table])
            if request.table in {"coil", "discrete"}:
                # Bits come in whole bytes; what fills up the last one means nothing.
                if len(reply.bits) != (request.count + 7) // 8 * 8:
                    raise self._wrong_answer(request, f"it sent {len(reply.bits)} bits")
                return [int(bit) for bit in reply.bits[: request.count]]
            if len(reply.registers) != request.count:
                raise self._wrong_answer(request, f"it sent {len(reply.registers)} registers")
            return list(reply.registers)

    def _retried(self, request: ReadRequest) -> Any:
        """The reply to a read, asked again where that can help.

        A broken connection is made anew. A time-out is asked again on a serial line only, where
        noise swallows frames; TCP loses none, and a silent device stays silent.
        """

        def ask() -> Any:
            return self._ask(request, self._read[request.table], request.start, count=request.count)

        over_tcp = self.address.scheme == "modbus+tcp"
        return self.options.call(ask, lambda e: over_tcp and isinstance(e, LinkTimeout))

    def _ask(
        self, request: ReadRequest | WriteRequest, call: Callable[..., Any], *args: Any, **more: Any
    ) -> Any:
        self._connect(request)
        self._bus.connection.packet = None
        if self.options.tracer is not None:
            self._bus.connection.packet = lambda sent, frame: self._trace(request, frame, sent=sent)
        self.requests += 1
        # The one seam: whatever the package, a socket or a port raises is an error of this link, and an
        # interrupted request leaves no answer behind that could be taken for the next one.
        try:
            return call(*args, **more, device_id=self.address.unit)
        except Exception as error:
            raise self._lost(request, error) from error
        except BaseException:
            self._close()
            raise

    def _trace(self, request: ReadRequest | WriteRequest, frame: bytes, *, sent: bool) -> None:
        # The answer to a write repeats what was written.
        is_secret = isinstance(request, WriteRequest) and request.secret
        meaning = str(request) if sent else f"answer to '{request}'"
        secret = _DATA_AT[self.address.scheme] if is_secret else None
        note(self.options.tracer, self.address, frame, meaning, sent=sent, secret=secret)

    def _connect(self, request: ReadRequest | WriteRequest) -> None:
        try:
            is_open = self._bus.connection.open()
        except (ModbusException, OSError):
            is_open = False
        if is_open:
            self.reconnects.notice(self._bus.connection.opened)
            return
        if self.address.is_serial:
            why, remedy = why_port_fails(self.address.serial_port)
            raise NotReached(f"{self.address}: {why} ({request})", remedy=remedy)
        raise NotReached(
            f"{self.address}: no device answers there ({request})",
            remedy="is the device on, is the address right, does the network reach it?",
        )

    def _lost(self, request: ReadRequest | WriteRequest, error: Exception) -> LinkError:
        # A reply that comes later must never be taken for the next one: the connection goes, and
        # with a serial port all that has arrived meanwhile.
        self._close()
        if not isinstance(error, ModbusException | OSError):
            return LinkError(
                f"{self.address}: the answer to '{request}' cannot be read ({type(error).__name__})",
                remedy="does the device speak this protocol, and is the line set as in the device?",
            )
        # The package lets some errors of sockets and ports through as they are.
        if isinstance(error, ConnectionException | OSError):
            return LinkError(
                f"{self.address}: the connection broke during '{request}'",
                remedy="look at cable, switch and supply, then try again",
            )
        unit = _unit_of(self._bus.connection.heard, self.address.scheme)
        if unit not in {None, self.address.unit}:
            # The package passes over such a frame in silence, and waits on.
            return self._wrong_answer(request, f"unit {unit} answered")
        return LinkTimeout(
            f"{self.address}: no answer to '{request}' within {self.options.timeout_s:g} s",
            remedy="is this the right unit identifier, and is the device still on?"
            + (" Is the line set as in the device?" if self.address.is_serial else ""),
        )

    def _close(self) -> None:
        """Close the connection, whatever state it is in."""
        with contextlib.suppress(OSError):
            self._client.close()

    def _check(self, reply: ModbusPDU, request: ReadRequest | WriteRequest, function: int) -> None:
        if reply.isError():
            code = int(getattr(reply, "exception_code", 0))
            message = f"{self.address}: the device refused '{request}' with code {code}"
            raise (NoDeviceBehind if code in _OF_GATEWAYS else DeviceRefused)(message, code=code)
        if reply.function_code != function:
            raise self._wrong_answer(request, f"it answered with function {reply.function_code}")
        if reply.dev_id != self.address.unit:
            raise self._wrong_answer(request, f"unit {reply.dev_id} answered")

    def _wrong_answer(self, request: ReadRequest | WriteRequest, what: str) -> LinkError:
        self._close()
        return LinkError(
            f"{self.address}: the answer does not belong to '{request}': {what}",
            remedy="do two devices share this address?",
        )


def _unit_of(frame: bytes, scheme: str) -> int | None:
    """The unit that sent a whole and undisturbed answer; None when it is not such an answer."""
    if scheme == "modbus+rtu":
        whole = len(frame) > _RTU_LEAST
        whole = whole and FramerRTU.compute_CRC(frame[:-2]) == int.from_bytes(frame[-2:], "big")
        return frame[0] if whole else None
    # MODBUS Messaging on TCP/IP V1.0b, 3.1.3: protocol 0, and the length of all that follows it.
    whole = len(frame) > _MBAP and frame[2:4] == b"\0\0"
    whole = whole and int.from_bytes(frame[4:6], "big") == len(frame) - 6
    return frame[6] if whole else None
