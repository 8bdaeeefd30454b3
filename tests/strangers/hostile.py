"""A proxy that does harm at one message, with plain sockets: it stands between a client and a device."""

from __future__ import annotations

import socket
import struct
import threading
import time
from typing import Self

ACTS = (
    "reset", "close", "swallow", "garbage", "flood", "repeat", "drip", "cut short",
    "swap and reset", "swap in silence", "answer reset",
)  # fmt: skip
_LINGER = struct.pack("ii", 1, 0)  # close sends a reset


class HostileProxy:
    """Passes requests on to ``first``, and does ``act`` at the request number ``at``, counted from 1.

    After a swap, ``second`` is what answers.
    """

    def __init__(self, first: int, second: int, act: str, at: int) -> None:
        self.upstream, self.second, self.act, self.at = first, second, act, at
        self.requests = 0
        self._lock = threading.Lock()
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        self._open: list[socket.socket] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._server.close()
        for one in self._open:
            one.close()

    def _accept(self) -> None:
        while True:
            try:
                client, _ = self._server.accept()
            except OSError:
                return
            self._open.append(client)
            threading.Thread(target=self._serve, args=(client,), daemon=True).start()

    def _serve(self, client: socket.socket) -> None:
        up = socket.create_connection(("127.0.0.1", self.upstream))
        self._open.append(up)
        try:
            while request := client.recv(4096):
                with self._lock:
                    self.requests += 1
                    is_now = self.requests == self.at
                act = self.act if is_now else ""
                if act.startswith("swap"):
                    self.upstream = self.second
                    if act == "swap and reset":
                        self._reset(client)
                        return
                    up.close()
                    up = socket.create_connection(("127.0.0.1", self.upstream))
                    self._open.append(up)
                if act in {"reset", "close", "swallow"}:
                    if act == "swallow":
                        continue
                    self._reset(client) if act == "reset" else client.close()
                    return
                up.sendall(request)
                answer = up.recv(4096)
                if act == "answer reset":  # it arrived, and its answer is lost
                    self._reset(client)
                    return
                self._answer(client, answer, act)
        except OSError:
            return
        finally:
            up.close()

    def _answer(self, client: socket.socket, answer: bytes, act: str) -> None:
        if act == "garbage":
            client.sendall(bytes((7 * k + 3) % 256 for k in range(len(answer))))
        elif act == "flood":
            client.sendall(answer + bytes(range(256)) * 400)
        elif act == "repeat":
            client.sendall(answer * 3)
        elif act == "cut short":
            client.sendall(answer[: len(answer) // 2])
            self._reset(client)
        elif act == "drip":
            for k in range(len(answer)):
                client.sendall(answer[k : k + 1])
                time.sleep(0.002)
        else:
            client.sendall(answer)

    @staticmethod
    def _reset(client: socket.socket) -> None:
        client.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _LINGER)
        client.close()
