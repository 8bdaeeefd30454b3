"""A proxy that does harm at one message. It stands between a client and a device that has a plain socket.

The client's end is a TCP port, or a pseudo-terminal in place of a serial port.
"""

from __future__ import annotations

import os
import select
import socket
import struct
import threading
import time
import tty
from collections.abc import Callable
from pathlib import Path
from typing import Self

ACTS = (
    "reset", "close", "swallow", "garbage", "flood", "repeat", "drip", "cut short",
    "swap and reset", "swap in silence", "answer reset", "lie", "restart",
)  # fmt: skip
_LINGER = struct.pack("ii", 1, 0)  # close sends a reset
_PIECE = 65536


class HostileProxy:
    """Passes requests on to ``first``, and does ``act`` at the request number ``at``, counted from 1.

    After a swap, ``second`` is what answers. Behind ``cut_after`` requests, each connection is closed.
    With ``wire``, the path of a link to be made, the client opens that path as a serial port; a reset
    is then an adapter that is pulled out and put in again.
    """

    def __init__(
        self, first: int, second: int, act: str, at: int, *, wire: Path | None = None
    ) -> None:
        self.upstream, self.second, self.act, self.at = first, second, act, at
        self.requests, self.cut_after = 0, 0
        self.restart: Callable[[], None] = lambda: None  # what a device forgets when it starts anew
        self.wire = wire
        self._ended = False
        if wire is None:
            self._server = socket.create_server(("127.0.0.1", 0))
            self.port = self._server.getsockname()[1]
        else:
            self._plug_in()
        self._threads: list[threading.Thread] = []
        self._start(self._accept if wire is None else self._lay)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._ended = True
        if self.wire is None:
            self._server.shutdown(socket.SHUT_RDWR)  # wakes the thread that accepts
            self._server.close()
        for thread in list(self._threads):
            thread.join(2)

    def _start(self, act: Callable[..., None], *args: object) -> None:
        thread = threading.Thread(target=act, args=args, daemon=True)
        thread.start()
        self._threads.append(thread)

    # ------------------------------------------------------------------ the client's end

    def _accept(self) -> None:
        while True:
            try:
                client, _ = self._server.accept()
            except OSError:
                return
            self._start(self._pass, _Socket(client))

    def _plug_in(self) -> None:
        assert self.wire is not None
        self._terminal = _Terminal()
        beside = self.wire.with_suffix(".new")
        beside.symlink_to(self._terminal.path)
        beside.replace(self.wire)

    def _lay(self) -> None:
        while not self._ended:
            terminal = self._terminal
            self._pass(terminal)
            if not self._ended:
                self._plug_in()

    # ------------------------------------------------------------------ between the ends

    def _pass(self, client: _Socket | _Terminal) -> None:
        up = socket.create_connection(("127.0.0.1", self.upstream))
        harm = ""
        try:
            while not self._ended:
                ready, _, _ = select.select([client.fd, up], [], [], 0.2)
                if client.fd in ready:
                    request = client.read()
                    act = self._act_now() if request else "close"
                    if act == "restart":
                        self.restart()
                    if act in {"reset", "swap and reset", "close", "restart"}:
                        client.close(reset="reset" in act)
                        return
                    if act == "swap in silence":
                        up.close()
                        up = socket.create_connection(("127.0.0.1", self.upstream))
                    if act != "swallow":
                        harm = act or harm
                        up.sendall(request)
                if up in ready:
                    answer = up.recv(_PIECE)
                    self._answer(client, answer, harm)
                    if not answer or harm in {"answer reset", "cut short"}:
                        return
                    harm = ""
        except OSError:
            return
        finally:
            up.close()
            client.close()

    def _act_now(self) -> str:
        """What becomes of this request."""
        self.requests += 1
        if self.cut_after and self.requests > self.cut_after:
            return "close"
        if self.requests != self.at:
            return ""
        if self.act.startswith("swap"):
            self.upstream = self.second
        return self.act

    def _answer(self, client: _Socket | _Terminal, answer: bytes, act: str) -> None:
        if act == "garbage":
            client.write(bytes((7 * k + 3) % 256 for k in range(len(answer))))
        elif act == "flood":
            client.write(answer + bytes(range(256)) * 400)
        elif act == "repeat":
            client.write(answer * 3)
        elif act == "cut short":
            client.write(answer[: len(answer) // 2])
            client.close(reset=True)
        elif act == "answer reset":  # it arrived, and its answer is lost
            client.close(reset=True)
        elif act == "lie" and answer:  # a frame like any other, with another value in it
            at = len(answer) - 1 if answer[-1:] not in {b"\r", b"\n"} else len(answer.rstrip()) - 1
            client.write(answer[:at] + bytes([answer[at] ^ 1]) + answer[at + 1 :])
        elif act == "drip":
            for k in range(len(answer)):
                client.write(answer[k : k + 1])
                time.sleep(0.002)
        else:
            client.write(answer)


class _Socket:
    def __init__(self, end: socket.socket) -> None:
        self._end = end
        self.fd = end.fileno()

    def read(self) -> bytes:
        return self._end.recv(_PIECE)

    def write(self, data: bytes) -> None:
        self._end.sendall(data)

    def close(self, *, reset: bool = False) -> None:
        if reset and self._end.fileno() >= 0:
            self._end.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _LINGER)
        self._end.close()


class _Terminal:
    """A pseudo-terminal. Its far end stays open here, or the first client that closes it would end it."""

    def __init__(self) -> None:
        self.fd, self._far = os.openpty()
        tty.setraw(self._far)
        os.set_blocking(self.fd, False)
        self.path = os.ttyname(self._far)
        self._closed = False

    def read(self) -> bytes:
        return os.read(self.fd, _PIECE)

    def write(self, data: bytes) -> None:
        try:
            os.write(self.fd, data)
        except BlockingIOError:
            return  # what does not fit into a full line is lost, as on a cable

    def close(self, *, reset: bool = False) -> None:
        del reset  # an adapter that is pulled out just goes
        if not self._closed:
            self._closed = True
            os.close(self.fd)
            os.close(self._far)
