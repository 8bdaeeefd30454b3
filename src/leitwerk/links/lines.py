"""Lines over TCP or a serial port: ask, wait for one line, never take a late one for the next."""

from __future__ import annotations

import contextlib
import socket
import time
from typing import TYPE_CHECKING

from leitwerk.errors import LinkError, LinkTimeout, NotReached
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.links.serial_port import open_port
from leitwerk.links.trace import note
from leitwerk.parsing.address import LinkAddress
from leitwerk.protocols.lines import LineReader

if TYPE_CHECKING:
    import serial

_PIECE = 4096


class LineLink:
    """One device that speaks in lines, which ``end`` ends. Connects when first used."""

    def __init__(
        self,
        address: LinkAddress,
        *,
        options: LinkOptions = USUAL,
        end: bytes = b"\n",
    ) -> None:
        self.address = address
        self.options = options
        self.end = end
        self.requests = 0
        self._socket: socket.socket | None = None
        self._port: serial.Serial | None = None
        self._lines = LineReader(end)

    def ask(self, question: str, *, again: bool = True) -> str:
        """The line that answers a question.

        Asked again as options allows, unless ``again`` is no: some questions take something away,
        such as an entry of an error queue. A time-out over TCP is final, as for Modbus.

        Raises
        ------
        NotReached, LinkTimeout, LinkError
            Nobody is there, no answer came in time, or the connection broke.

        """

        def once() -> str:
            self.tell(question)
            return self.listen(question)

        final = not self.address.is_serial
        return self.options.call(
            once, lambda error: not again or (final and isinstance(error, LinkTimeout))
        )

    def listen(self, question: str) -> str:
        """The line that comes after something was told.

        Raises
        ------
        LinkTimeout, LinkError
            As for ``ask``.

        """
        deadline = time.monotonic() + self.options.timeout_s
        answers: list[str] = []
        try:
            while not answers:
                # A socket that may wait no longer gives up with the same error.
                left = max(1e-3, deadline - time.monotonic())
                answers = self._lines.feed(self._receive(left))
        except TimeoutError:
            # An answer that comes later must never be taken for the next one.
            self.close()
            raise LinkTimeout(
                f"{self.address}: no answer to '{question}' within {self.options.timeout_s:g} s",
                remedy="does the device know this command, and is it still on?",
            ) from None
        except (OSError, LinkError) as error:
            raise self._broken(question, error) from error
        self._trace(answers[0], sent=False, meaning=f"answer to '{question}'")
        if len(answers) > 1:
            self.close()
            raise LinkError(
                f"{self.address}: {len(answers)} lines came for '{question}', one was wanted",
                remedy="does somebody else use this connection?",
            )
        return answers[0]

    def tell(self, message: str, *, public: str | None = None) -> None:
        """Send a line. ``public`` is what may be shown of it, in errors and traces; None for all.

        Raises
        ------
        NotReached, LinkError
            Nobody is there, or the connection broke.

        """
        what = message if public is None else public
        self._drop_late()
        self._connect(what)
        self.requests += 1
        self._trace(message, sent=True, meaning=what, public=public)
        try:
            data = message.encode("latin-1") + self.end
            if self._socket is not None:
                self._socket.settimeout(self.options.timeout_s)
                self._socket.sendall(data)
            elif self._port is not None:
                self._port.write(data)
        except OSError as error:
            raise self._broken(what, error) from error

    def close(self) -> None:
        """End the connection; what arrives afterwards is nobody's."""
        for end in (self._socket, self._port):
            if end is not None:
                with contextlib.suppress(OSError):
                    end.close()
        self._socket, self._port, self._lines = None, None, LineReader(self.end)

    def _drop_late(self) -> None:
        """Forget what came after the last answer: it is not one to the next question."""
        self._lines = LineReader(self.end)
        try:
            if self._port is not None:
                self._port.reset_input_buffer()
            elif self._socket is not None:
                self._socket.settimeout(0.0)
                while self._socket.recv(_PIECE):
                    pass
                self.close()  # the other end has closed; the next request connects anew
        except BlockingIOError:
            return
        except OSError:
            self.close()

    def _connect(self, what: str) -> None:
        if self._socket is not None or self._port is not None:
            return
        if self.address.is_serial:
            self._port = open_port(self.address, what)
            return
        try:
            where = (self.address.host, self.address.port)
            self._socket = socket.create_connection(where, self.options.timeout_s)
        except OSError as error:
            raise NotReached(
                f"{self.address}: nobody answers there ({what})",
                remedy="is the device on, is the address right, does the network reach it?",
            ) from error

    def _receive(self, left: float) -> bytes:
        if self._socket is not None:
            self._socket.settimeout(left)
            data = self._socket.recv(_PIECE)
        else:
            assert self._port is not None
            self._port.timeout = left
            data = self._port.read(1) + self._port.read(self._port.in_waiting)
            if not data:
                raise TimeoutError
        if not data:
            raise ConnectionResetError("the other end has closed")
        return data

    def _broken(self, what: str, error: Exception) -> LinkError:
        self.close()
        reason = getattr(error, "strerror", None) or str(error)
        return LinkError(
            f"{self.address}: the connection broke during '{what}' ({reason})",
            remedy="look at cable, switch and supply, then try again",
        )

    def _trace(self, line: str, *, sent: bool, meaning: str, public: str | None = None) -> None:
        secret = None if public is None else len(public)
        note(self.options.tracer, self.address, line, meaning, sent=sent, secret=secret)
