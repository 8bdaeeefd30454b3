"""A Modbus TCP server with plain sockets and frames made by hand, for devices of the tests."""

from __future__ import annotations

import socket
import struct
import threading
from collections.abc import Mapping
from typing import Self


class ModbusServer:
    """Registers by number from 1, as manuals count. A device says what they hold, and takes writes."""

    def __init__(self) -> None:
        self.requests, self.cut_at = 0, 0
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        self._open: list[socket.socket] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._server.close()
        for connection in self._open:
            connection.close()

    def shown(self, function: int) -> Mapping[int, int]:
        """The registers that function 3 or 4 reads."""
        raise NotImplementedError

    def written(self, start: int, words: list[int]) -> int:
        """Take a write; the exception code, or 0."""
        raise NotImplementedError

    def _accept(self) -> None:
        while True:
            try:
                connection, _ = self._server.accept()
            except OSError:
                return
            self._open.append(connection)
            threading.Thread(target=self._serve, args=(connection,), daemon=True).start()

    def _serve(self, connection: socket.socket) -> None:
        try:
            while head := connection.recv(7, socket.MSG_WAITALL):
                number, _, length, unit = struct.unpack(">HHHB", head)
                body = connection.recv(length - 1, socket.MSG_WAITALL)
                self.requests += 1
                if self.cut_at and self.requests >= self.cut_at:
                    connection.close()
                    return
                answer = self._answer(body) if unit == 1 else bytes([body[0] | 0x80, 0x0B])
                connection.sendall(struct.pack(">HHHB", number, 0, len(answer) + 1, unit) + answer)
        except (OSError, struct.error):
            return

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
