"""SDI-12 on a serial port: one sensor of several on a bus that all of them share."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, TypeVar

from leitwerk.errors import LinkError, LinkTimeout
from leitwerk.links.bus import leave_bus, take_bus
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.links.serial_port import open_port
from leitwerk.links.trace import note
from leitwerk.parsing.address import LinkAddress
from leitwerk.protocols.lines import LineReader
from leitwerk.protocols.sdi12 import (
    BREAK_S,
    Measure,
    parse_answer,
    parse_wait,
    split_values,
    strip_echo,
)

if TYPE_CHECKING:
    import serial

T = TypeVar("T")
_PIECE = 512
_DATA_COMMANDS = 10  # D0 to D9


class _Wire:
    """The serial port of a bus; it is opened by the first command and again after trouble."""

    def __init__(self, address: LinkAddress) -> None:
        self.address = address
        self._port: serial.Serial | None = None
        self._lines = LineReader()

    def send(self, command: str) -> None:
        """Wake the sensors and send; what came before nobody waits for any more."""
        if self._port is None:
            self._port = open_port(self.address, command)
        self._port.reset_input_buffer()
        self._lines = LineReader()
        # Some converters make the break themselves, and a pseudo-terminal has none.
        with contextlib.suppress(OSError):
            self._port.send_break(BREAK_S)
        self._port.write(command.encode("ascii"))

    def receive(self, timeout_s: float) -> str | None:
        """The next line; None when it does not come in time."""
        assert self._port is not None
        deadline = time.monotonic() + timeout_s
        while True:
            self._port.timeout = max(1e-3, deadline - time.monotonic())
            data = self._port.read(1) + self._port.read(self._port.in_waiting)
            lines = self._lines.feed(data[:_PIECE])
            if lines:
                return lines[0]
            if time.monotonic() >= deadline:
                return None

    def close(self) -> None:
        if self._port is not None:
            with contextlib.suppress(OSError):
                self._port.close()
        self._port = None


class Sdi12Link:
    """One sensor on an SDI-12 bus. Sensors on one port share it, from any thread."""

    def __init__(self, address: LinkAddress, *, options: LinkOptions = USUAL) -> None:
        self.address = address
        self.options = options
        self.requests = 0
        self._bus = take_bus(address, _Wire)
        self._unit = str(address.unit)

    def command(
        self, body: str, *, answers_as: str = "", again: bool = True, public: str | None = None
    ) -> str:
        """What a sensor answers to a command, without its address.

        ``answers_as`` is the address that the answer must come from, when it is another one. What
        changes something must not be asked ``again``. ``public`` is what may be shown of the command,
        None when all may be.

        Raises
        ------
        NotReached, LinkTimeout, LinkError
            The port does not open, nobody answers, or somebody else does.

        """
        with self._bus.lock:
            ask = partial(self._exchange, body, answers_as, public=public)
            return self._retried(ask) if again else ask()

    def measure(self, body: str, measure: Measure) -> list[str]:
        """Have a sensor measure, wait for it, and fetch all its values, each with its sign.

        A measurement of kind C leaves the bus to others while it runs; M and R keep it.

        Raises
        ------
        LinkError
            As for ``command``, or fewer values came than were promised.

        """
        if measure.kind == "R":
            with self._bus.lock:
                return self._retried(partial(self._values, body, has_crc=measure.has_crc))
        with self._bus.lock:
            wait = self._retried(lambda: parse_wait(self._exchange(body)))
            if measure.kind == "M":
                self._await_service(wait.seconds)
        if measure.kind == "C":
            time.sleep(wait.seconds)
        return self._fetch(body, wait.values, has_crc=measure.has_crc)

    def close(self) -> None:
        """End the connection, when nobody else uses the same port."""
        leave_bus(self._bus)

    def _fetch(self, body: str, count: int, *, has_crc: bool) -> list[str]:
        values: list[str] = []
        for k in range(_DATA_COMMANDS):
            if len(values) >= count:
                break
            with self._bus.lock:
                more = self._retried(partial(self._values, f"D{k}", has_crc=has_crc))
            if not more:
                break
            values += more
        if len(values) != count:
            raise LinkError(
                f"{self.address}: '{body}' promised {count} values and gave {len(values)}",
                remedy="was the measurement broken off, by another master or a weak supply?",
            )
        return values

    def _await_service(self, seconds: int) -> None:
        """A sensor that is ready earlier says so; one that is not has its full time."""
        if seconds == 0:
            return
        line = self._wire.receive(seconds)
        if line is not None:
            self._trace(line, sent=False, meaning="the sensor is ready")

    def _values(self, body: str, *, has_crc: bool) -> list[str]:
        return split_values(self._exchange(body, has_crc=has_crc))

    def _retried(self, ask: Callable[[], T]) -> T:
        return self.options.call(ask, lambda error: False)

    @property
    def _wire(self) -> _Wire:
        wire: _Wire = self._bus.end
        return wire

    def _exchange(
        self, body: str, answers_as: str = "", *, has_crc: bool = False, public: str | None = None
    ) -> str:
        command = f"{self._unit}{body}!"
        shown = command if public is None else f"{self._unit}{public}…"
        self.requests += 1
        self._trace(
            command, sent=True, meaning=shown, secret=None if public is None else 1 + len(public)
        )
        try:
            self._wire.send(command)
            line = self._wire.receive(self.options.timeout_s)
        except OSError as error:
            self._wire.close()
            raise LinkError(
                f"{self.address}: the port failed during '{shown}' ({error})",
                remedy="is the converter still plugged in?",
            ) from error
        if line is None:
            raise LinkTimeout(
                f"{self.address}: no answer to '{shown}' within {self.options.timeout_s:g} s",
                remedy="is this the sensor's address, is it supplied, is the line set right?",
            )
        line = strip_echo(line, command)
        self._trace(line, sent=False, meaning=f"answer to '{shown}'")
        try:
            return parse_answer(line, answers_as or self._unit, has_crc=has_crc)
        except LinkError as error:
            message = f"{self.address}: '{shown}': {error.message}"
            raise LinkError(message, remedy=error.remedy) from None

    def _trace(self, line: str, *, sent: bool, meaning: str, secret: int | None = None) -> None:
        note(self.options.tracer, self.address, line, meaning, sent=sent, secret=secret)
