"""A transmitter from its manual page, ``erle.md``: plain sockets and frames made by hand."""

from __future__ import annotations

import socket
import struct
import threading
from typing import Self

FACTORY = [0, 0, 1000, 0x8000, 0x8000, 0xFFFF, *[0x2020] * 4]
SERIAL = 9_007_199_254_740_993  # one more than floating point can tell apart


class Erle:
    """The device: ``staged`` is what was written, ``holding`` what is in force."""

    def __init__(self, cut_at: int = 0) -> None:
        self.staged = dict.fromkeys([*range(101, 141), 201, 301, *range(302, 307)], 0)
        for block in (101, 111, 121, 131):
            self.staged.update(zip(range(block, block + 10), FACTORY, strict=True))
        self.staged[201] = 1
        self.holding = dict(self.staged)
        self.signals: dict[int, int] = {}  # input -> what it shows, in tenths
        self.unlocked, self.wrong = 0, 0
        self.requests, self.cut_at = 0, cut_at
        self.writes: list[tuple[int, ...]] = []
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        self._open: list[socket.socket] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        self._server.close()
        for connection in self._open:
            connection.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # ------------------------------------------------------------------ frames

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
            table = self.staged if function == 3 else self._inputs()
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
        code = self._write(start + 1, words)
        return bytes([function | 0x80, code]) if code else body[:5]

    # ------------------------------------------------------------------ registers

    def _inputs(self) -> dict[int, int]:
        code = "TX-4/E 2010".ljust(16).encode()
        found = dict(zip(range(1, 9), struct.unpack(">8H", code), strict=True))
        found[9] = 0x0213
        found.update(
            zip(range(10, 14), struct.unpack(">4H", struct.pack(">Q", SERIAL)), strict=True)
        )
        found[14] = int(self.unlocked > 0)
        found.update(zip(range(15, 19), (0x2026, 0x1126, 0x2103, 0x0000), strict=True))
        for n in range(1, 5):
            off = self.holding[91 + 10 * n] == 0
            found[20 + n] = 0x7FFF if off else self.signals.get(n, 0x8000)
        return found

    def _write(self, start: int, words: list[int]) -> int:
        if start == 301:
            right = words == [4711] and self.wrong < 3
            self.unlocked = 10 if right else 0
            self.wrong += not right
            return 0 if right else 3
        if self.unlocked <= 0:
            return 1
        if any(start + k not in self.staged for k in range(len(words))):
            return 2
        self.unlocked -= 1
        self.writes.append((start, *words))
        for register, word in enumerate(words, start):
            if 101 <= register <= 140:
                offset = (register - 101) % 10
                if (offset == 0 and word not in {0, 1, 2, 0xA3}) or (offset == 5 and word > 600):
                    return 3
            if register == 201 and not 1 <= word <= 64:
                return 3
        if start == 302:
            self.holding = dict(self.staged)
            return 0 if words == [1] else 3
        self.staged.update(enumerate(words, start))
        return 0
