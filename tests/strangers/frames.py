"""A Modbus server with frames made by hand, TCP or RTU, for devices of the tests."""

from __future__ import annotations

import socket
import struct
from collections.abc import Mapping

from plain import PlainServer


class ModbusServer(PlainServer):
    """Registers by number from 1, as manuals count. A device says what they hold, and takes writes.

    With ``rtu``, the frames are those of a serial line: what stands before it makes bytes of them.
    """

    def __init__(self, *, rtu: bool = False) -> None:
        self.requests, self.cut_at = 0, 0
        self.rtu = rtu
        self.unit = 1
        super().__init__()

    def shown(self, function: int) -> Mapping[int, int]:
        """The registers that function 3 or 4 reads."""
        raise NotImplementedError

    def written(self, start: int, words: list[int]) -> int:
        """Take a write; the exception code, or 0."""
        raise NotImplementedError

    def serve(self, connection: socket.socket) -> None:
        one = self._serial_line if self.rtu else self._network
        while one(connection):
            if self.cut_at and self.requests >= self.cut_at:
                return

    def _network(self, connection: socket.socket) -> bool:
        head = connection.recv(7, socket.MSG_WAITALL)
        if len(head) < 7:
            return False
        number, _, length, unit = struct.unpack(">HHHB", head)
        body = connection.recv(length - 1, socket.MSG_WAITALL)
        self.requests += 1
        if self.cut_at and self.requests >= self.cut_at:
            return True
        answer = self._answer(body) if unit == self.unit else bytes([body[0] | 0x80, 0x0B])
        connection.sendall(struct.pack(">HHHB", number, 0, len(answer) + 1, unit) + answer)
        return True

    def _serial_line(self, connection: socket.socket) -> bool:
        """A line has no frames but silence; a request that is not whole is forgotten after it."""
        connection.settimeout(None)
        frame = connection.recv(1)
        connection.settimeout(0.02)
        try:
            while frame and not (len(frame) > 3 and crc(frame[:-2]) == frame[-2:]):
                more = connection.recv(256)
                if not more:
                    return False
                frame += more
        except TimeoutError:
            return True
        if not frame:
            return False
        self.requests += 1
        unit = self.unit  # an answer comes from the unit that was asked, also if that changed it
        if frame[0] == unit:
            answer = bytes([unit]) + self._answer(frame[1:-2])
            connection.sendall(answer + crc(answer))
        return True

    def _answer(self, body: bytes) -> bytes:
        function = body[0]
        if function in {3, 4}:
            start, count = struct.unpack(">HH", body[1:5])
            table = self.shown(function)
            try:
                words = [table[start + 1 + k] for k in range(count)]
            except KeyError:
                return bytes([function | 0x80, 2])
            return bytes([function, 2 * count]) + struct.pack(f">{count}H", *words)
        if function == 6:
            start, *words = struct.unpack(">HH", body[1:5])
        elif function == 16:
            start, count = struct.unpack(">HH", body[1:5])
            words = list(struct.unpack(f">{count}H", body[6:]))
        else:
            return bytes([function | 0x80, 1])
        code = self.written(start + 1, words)
        return bytes([function | 0x80, code]) if code else body[:5]


def crc(frame: bytes) -> bytes:
    """The check of a serial frame, bit by bit as the standard draws it (Modbus over serial line, 6.2.2)."""
    value = 0xFFFF
    for byte in frame:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ 0xA001 if value & 1 else value >> 1
    return struct.pack("<H", value)
