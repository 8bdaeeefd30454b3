"""Lines of text over TCP or a serial port: a line out, a line back, never a late one for the next."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass

from leitwerk.errors import LinkError, LinkTimeout
from leitwerk.links.bus import leave_bus, take_bus
from leitwerk.links.byte_link import ByteLink
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.links.reconnects import Reconnects
from leitwerk.links.trace import note
from leitwerk.parsing.address import LinkAddress
from leitwerk.protocols.scpi import parse_block_head, parse_block_length

_TAIL = 256  # bytes, in which it may confirm
_SILENT_S = 0.2  # behind the end of a stream


@dataclass(frozen=True, slots=True)
class Stream:
    """What a device sends by itself: the lines that turn it on and off, and how it confirms them."""

    on: str
    off: str
    confirms: str = ""


class LineLink:
    """One device that speaks in lines, which ``end`` ends. Connects when first used.

    What it may send by itself in a ``stream`` is turned off at each new connection: a program that was
    killed may have left it on.

    Devices on one serial port share it: exchanges of all links to it, from any thread, go out one
    after the other.
    """

    def __init__(
        self,
        address: LinkAddress,
        *,
        options: LinkOptions = USUAL,
        end: bytes = b"\n",
        stream: Stream | None = None,
    ) -> None:
        self.address = address
        self._stream, self._quiet_since = stream, 0
        self.options = options
        self.requests = 0
        self.reconnects = Reconnects()
        self._end = end
        self._bus = take_bus(address, ByteLink)
        self.lock = self._bus.lock

    def query(self, message: str, *, again: bool = True, public: str | None = None) -> str:
        """Send a line, and return the one that answers it.

        It is sent again as the options allow, unless ``again`` is no: some queries take something
        away, such as an entry of an error queue, and what changes something is sent once. A time-out
        over TCP is final, as for Modbus. ``public`` is what may be shown of the message, in errors and
        traces; None when all may be. Of the answer to a secret, nothing is shown.

        Raises
        ------
        NotReached, LinkTimeout, LinkError
            No device is there, no answer came in time, or the connection broke.

        """

        def once() -> str:
            with self.lock:
                try:
                    self.send(message, public=public)
                    return self._answer(message, public)
                except LinkError:
                    raise
                except BaseException:
                    # Interrupted: its answer, coming late, must not be taken for the next one.
                    self._bus.connection.close()
                    raise

        final = not self.address.is_serial
        return self.options.call(
            once, lambda error: not again or (final and isinstance(error, LinkTimeout))
        )

    def query_block(self, message: str) -> bytes:
        """Send a line, and return the bytes of the block that answers it (IEEE 488.2, 8.7.9).

        It is sent once: who wants a piece of a file asks for the piece again.

        Raises
        ------
        NotReached, LinkTimeout, LinkError
            No device is there, no whole block came in time, or something else than a block.

        """
        with self.lock:
            try:
                self.send(message)
                return self._block(message)
            except BaseException:
                # What comes late must not be taken for the next answer.
                self._bus.connection.close()
                raise

    @contextmanager
    def streaming(self) -> Iterator[Callable[[float], bytes]]:
        """What a device sends by itself: something that reads bytes within a time in s.

        Nothing else is asked meanwhile. Behind it, what comes late is never read.

        Raises
        ------
        NotReached, LinkTimeout, LinkError
            No device is there, it did not confirm, or the connection broke.

        """
        connection, timeout_s, stream = self._bus.connection, self.options.timeout_s, self._stream
        assert stream is not None, "the datasheet has a section 'telegrams'"
        on, confirms = stream.on, stream.confirms
        with self.lock:
            try:
                self.send(on)
                line = connection.read_until(self._end[-1:], timeout_s, on)
                said = (line or b"").strip(b"\r\n").decode("latin-1")
                if line is None or said != (confirms or said):
                    raise LinkError(
                        f"{self.address}: {said[:60]!r} came after '{on}', and not '{confirms}'",
                        remedy="does the datasheet fit this device?",
                    )
                try:
                    yield lambda wait_s: connection.read_some(wait_s, timeout_s, on)
                except BaseException:
                    # Interrupted, it would go on sending; where the connection broke, it cannot be told.
                    with suppress(LinkError):
                        self._turn_off(stream)
                    raise
                self._turn_off(stream)
            finally:
                connection.close()

    def _turn_off(self, stream: Stream) -> None:
        """Turn a stream off, and wait until it has ended: it confirms, or is silent."""
        connection, timeout_s, off = self._bus.connection, self.options.timeout_s, stream.off
        connection.write(off.encode("latin-1") + self._end, timeout_s, off)
        last = stream.confirms.encode("latin-1")
        deadline, tail = time.monotonic() + timeout_s, b""
        while time.monotonic() < deadline:
            data = connection.read_some(_SILENT_S, timeout_s, off)
            tail = (tail + data)[-_TAIL:]
            has_ended = tail.endswith(self._end[-1:]) and tail.rstrip(b"\r\n").endswith(last)
            if not data or (last and has_ended):
                return

    def send(self, message: str, *, public: str | None = None) -> None:
        """Send a line that is not answered. ``public`` is as for ``query``.

        Raises
        ------
        NotReached, LinkError
            No device is there, or the connection broke.

        """
        what = message if public is None else public
        with self.lock:
            # What came after the last answer is not one to this message.
            self._bus.connection.discard()
            opened = self._bus.connection.open(self.options.timeout_s, what)
            self.reconnects.notice(opened)
            if self._stream is not None and opened != self._quiet_since:
                self._turn_off(self._stream)
                self._quiet_since = opened
            self.requests += 1
            self._trace(message, sent=True, meaning=what, public=public)
            data = message.encode("latin-1") + self._end
            self._bus.connection.write(data, self.options.timeout_s, what)

    def close(self) -> None:
        """End the connection, when no other device uses the same port."""
        leave_bus(self._bus)

    def _answer(self, message: str, public: str | None) -> str:
        what = message if public is None else public
        link = self._bus.connection
        # Many devices answer with a line feed alone where they want both: its last byte ends a line.
        end = self._end[-1:]
        line = link.read_until(end, self.options.timeout_s, what)
        if line is None:
            # An answer that comes later must never be taken for the next one.
            link.close()
            raise LinkTimeout(
                f"{self.address}: no answer to '{what}' within {self.options.timeout_s:g} s",
                remedy="does the device know this command, and is it still on?",
            )
        answer = line.removesuffix(end).strip(b"\r\n").decode("latin-1")
        # A device may repeat what it was given.
        masked = None if public is None else ""
        self._trace(answer, sent=False, meaning=f"answer to '{what}'", public=masked)
        if link.has(end):
            link.close()
            raise LinkError(
                f"{self.address}: more than one line came for '{what}'",
                remedy="does another program use this connection?",
            )
        return answer

    def _block(self, message: str) -> bytes:
        digits = parse_block_head(self._bytes(2, message))
        count = parse_block_length(self._bytes(digits, message))
        data = self._bytes(count, message)
        end = self._bytes(len(self._end), message)
        if end != self._end:
            raise LinkError(
                f"{self.address}: the block for '{message}' does not end where its length says",
                remedy="is the line disturbed? Try again",
            )
        self._trace(f"block of {count} bytes", sent=False, meaning=f"answer to '{message}'")
        return data

    def _bytes(self, count: int, what: str) -> bytes:
        data = self._bus.connection.read_exactly(count, self.options.timeout_s, what)
        if data is None:
            raise LinkTimeout(
                f"{self.address}: no whole answer to '{what}' within {self.options.timeout_s:g} s",
                remedy="does the device know this command, and is it still on?",
            )
        return data

    def _trace(self, line: str, *, sent: bool, meaning: str, public: str | None = None) -> None:
        secret = None if public is None else len(public)
        note(self.options.tracer, self.address, line, meaning, sent=sent, secret=secret)
