"""Bytes over TCP or a serial port: write, read until, forget. No protocol in here.

This is the one place at which errors of sockets and serial ports become errors of Leitwerk.
"""

from __future__ import annotations

import contextlib
import socket
import time
from abc import ABC, abstractmethod
from collections.abc import Iterator
from typing import TYPE_CHECKING

from leitwerk.errors import LinkError, NotReached
from leitwerk.exchange.terms import Flow
from leitwerk.links.serial_port import open_port
from leitwerk.parsing.address import LinkAddress
from leitwerk.protocols.lines import MAX_LINE

if TYPE_CHECKING:
    import serial

try:
    import termios
except ImportError:  # Windows
    _BROKEN: tuple[type[Exception], ...] = (OSError,)
else:
    _BROKEN = (OSError, termios.error)  # of a port whose driver refuses its settings

_PIECE = 4096
_LEAST_WAIT_S = 1e-3  # a socket that may not wait at all gives up with another error


class ByteLink:
    """One connection. It is opened by the first write, and again after an error.

    ``what``, in all methods, is what the bytes are about: it stands in the messages of errors.
    """

    def __init__(self, address: LinkAddress, flow: Flow = Flow.NONE) -> None:
        self.address, self._flow = address, flow
        self._end: _End | None = None
        self._received = bytearray()
        self.opened = 0

    def open(self, timeout_s: float, what: str) -> int:
        """Open the connection unless it is open; how often it was opened up to now.

        Raises
        ------
        NotReached, LinkError
            It cannot be opened.

        """
        with self._errors_told(what):
            if self._end is None:
                self._end = _open(self.address, self._flow, timeout_s, what)
                self.opened += 1
        return self.opened

    def write(self, data: bytes, timeout_s: float, what: str, *, break_s: float = 0.0) -> None:
        """Write bytes, after a break of the line where one is wanted.

        Raises
        ------
        NotReached, LinkError
            The connection cannot be opened, or broke.

        """
        self.open(timeout_s, what)
        with self._errors_told(what):
            assert self._end is not None
            if break_s:
                self._end.send_break(break_s)
            self._end.write(data, timeout_s)

    def read_until(self, end: bytes, timeout_s: float, what: str) -> bytes | None:
        """The bytes up to and with ``end``; None when they do not come in time.

        What comes after ``end`` stays for the next call.

        Raises
        ------
        LinkError
            The connection broke, or more than a line may have came without an end.

        """
        deadline = time.monotonic() + timeout_s
        seen = 0
        while True:
            at = self._received.find(end, seen)
            if at >= 0:
                taken = bytes(self._received[: at + len(end)])
                del self._received[: at + len(end)]
                return taken
            if len(self._received) > MAX_LINE:
                self.close()
                message = f"{self.address}: more than {MAX_LINE} bytes came without an end ({what})"
                raise LinkError(message, remedy="is the line set as in the device?")
            # The end may be torn: its first bytes may be there already.
            seen = max(0, len(self._received) - len(end) + 1)
            if not self._receive(deadline - time.monotonic(), what):
                return None

    def read_exactly(self, count: int, timeout_s: float, what: str) -> bytes | None:
        """So many bytes; None when no more come in time, from the last ones on.

        Raises
        ------
        LinkError
            The connection broke.

        """
        while len(self._received) < count:
            if not self._receive(timeout_s, what):
                return None
        taken = bytes(self._received[:count])
        del self._received[:count]
        return taken

    def read_some(self, wait_s: float, timeout_s: float, what: str) -> bytes:
        """The bytes that have come, or come within ``wait_s``; empty when there are none.

        Raises
        ------
        NotReached, LinkError
            The connection cannot be opened within ``timeout_s``, or broke.

        """
        self.open(timeout_s, what)
        if not self._received:
            self._receive(wait_s, what)
        data = bytes(self._received)
        self._received.clear()
        return data

    def has(self, end: bytes) -> bool:
        """Whether bytes up to an ``end`` have arrived already."""
        return end in self._received

    def discard(self) -> None:
        """Forget what has arrived and was not read: it answers nothing that is asked from now on."""
        self._received.clear()
        if self._end is None:
            return
        try:
            is_open = self._end.discard()
        except _BROKEN:
            is_open = False
        if not is_open:
            self.close()  # the next write opens it again

    def close(self) -> None:
        """End the connection; what arrives afterwards is never read."""
        self._received.clear()
        if self._end is not None:
            with contextlib.suppress(*_BROKEN):
                self._end.close()
        self._end = None

    def _receive(self, timeout_s: float, what: str) -> bool:
        """Wait for more bytes; whether some came in time."""
        if self._end is None:
            raise LinkError(f"{self.address}: the connection is closed ({what})")
        if timeout_s <= 0.0:
            return False
        with self._errors_told(what):
            try:
                self._received += self._end.read(max(_LEAST_WAIT_S, timeout_s))
            except TimeoutError:
                return False
        return True

    @contextlib.contextmanager
    def _errors_told(self, what: str) -> Iterator[None]:
        try:
            yield
        except _BROKEN as error:
            self.close()
            reason = getattr(error, "strerror", None) or str(error)
            raise LinkError(
                f"{self.address}: the connection broke during '{what}' ({reason})",
                remedy="look at cable, switch and supply, then try again",
            ) from error


class _End(ABC):
    """The open end of a connection."""

    @abstractmethod
    def write(self, data: bytes, timeout_s: float) -> None: ...

    @abstractmethod
    def read(self, timeout_s: float) -> bytes:
        """Some bytes, at least one; TimeoutError when none come, another OSError at the end."""

    @abstractmethod
    def discard(self) -> bool:
        """Forget what has arrived; whether the connection is still open."""

    @abstractmethod
    def close(self) -> None: ...

    def send_break(self, seconds: float) -> None:
        """Send a break of the line; only a serial line has one."""
        del seconds


class _SocketEnd(_End):
    def __init__(self, end: socket.socket) -> None:
        self._end = end
        # A short message is sent at once: it does not wait until the one before is acknowledged.
        with contextlib.suppress(OSError):
            end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def write(self, data: bytes, timeout_s: float) -> None:
        self._end.settimeout(timeout_s)
        self._end.sendall(data)

    def read(self, timeout_s: float) -> bytes:
        self._end.settimeout(timeout_s)
        data = self._end.recv(_PIECE)
        if not data:
            raise ConnectionResetError("the other end has closed")
        return data

    def discard(self) -> bool:
        self._end.settimeout(0.0)
        try:
            while self._end.recv(_PIECE):
                pass
        except BlockingIOError:
            return True
        return False

    def close(self) -> None:
        self._end.close()


class _PortEnd(_End):
    def __init__(self, port: serial.Serial) -> None:
        self._port = port

    def write(self, data: bytes, timeout_s: float) -> None:
        self._port.write_timeout = timeout_s
        self._port.write(data)

    def read(self, timeout_s: float) -> bytes:
        self._port.timeout = timeout_s
        data = self._port.read(1)
        if not data:
            raise TimeoutError
        return data + self._port.read(min(self._port.in_waiting, _PIECE))

    def discard(self) -> bool:
        self._port.reset_input_buffer()
        return True

    def close(self) -> None:
        self._port.close()

    def send_break(self, seconds: float) -> None:
        # Some converters make the break themselves, and a pseudo-terminal has none.
        with contextlib.suppress(OSError):
            self._port.send_break(seconds)


def _open(address: LinkAddress, flow: Flow, timeout_s: float, what: str) -> _End:
    if address.is_serial:
        return _PortEnd(open_port(address, what, flow))
    try:
        return _SocketEnd(socket.create_connection((address.host, address.port), timeout_s))
    except OSError as error:
        raise NotReached(
            f"{address}: no device answers there ({what})",
            remedy="is the device on, is the address right, does the network reach it?",
        ) from error
