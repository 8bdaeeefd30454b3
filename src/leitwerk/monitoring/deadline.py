"""The time limit of a whole conversation: a server that sends one byte now and then does not extend it."""

from __future__ import annotations

import socket
import threading
from contextlib import suppress
from typing import Any, Self


class Deadline:
    """A ``with`` block that ends the connections that it watches when its time is over."""

    def __init__(self, seconds: float) -> None:
        self._timer = threading.Timer(seconds, self._end)
        self._timer.daemon = True
        self._lock = threading.Lock()
        self._watched: Any = None
        self.is_over = False

    def __enter__(self) -> Self:
        self._timer.start()
        return self

    def __exit__(self, *error: object) -> None:
        self._timer.cancel()

    def watch(self, connection: Any) -> None:
        """End this connection, a socket, when the time is over: one after the other, the last one counts."""
        with self._lock:
            self._watched = connection
        if self.is_over:
            self._end()

    def _end(self) -> None:
        with self._lock:
            self.is_over = True
            if self._watched is not None:
                with suppress(OSError):
                    self._watched.shutdown(socket.SHUT_RDWR)
