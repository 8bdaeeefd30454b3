"""A server with plain sockets: a thread for each connection, no framework."""

from __future__ import annotations

import socket
import threading
from typing import Self


class PlainServer:
    """Listens on a free port of the loopback address, from its making until its ``with`` block ends."""

    def __init__(self) -> None:
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        self._open: list[socket.socket] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown(socket.SHUT_RDWR)  # wakes the thread that accepts
        self._server.close()
        for connection in self._open:
            connection.close()

    def serve(self, connection: socket.socket) -> None:
        """One conversation, until the other end goes."""
        raise NotImplementedError

    def _accept(self) -> None:
        while True:
            try:
                connection, _ = self._server.accept()
            except OSError:
                return
            self._open = [c for c in self._open if c.fileno() >= 0] + [connection]
            threading.Thread(target=self._talk, args=(connection,), daemon=True).start()

    def _talk(self, connection: socket.socket) -> None:
        try:
            self.serve(connection)
        except (OSError, ValueError):
            return
        finally:
            connection.close()
