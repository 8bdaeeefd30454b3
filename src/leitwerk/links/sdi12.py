"""SDI-12 on a serial port: one sensor of several on a bus that all of them share."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from typing import TypeVar

from leitwerk.errors import LinkError, LinkTimeout
from leitwerk.links.bus import leave_bus, take_bus
from leitwerk.links.byte_link import ByteLink
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.links.reconnects import Reconnects
from leitwerk.links.trace import note
from leitwerk.parsing.address import LinkAddress
from leitwerk.protocols.sdi12 import (
    BREAK_S,
    Measure,
    parse_answer,
    parse_wait,
    split_values,
    strip_echo,
)

T = TypeVar("T")
_END = b"\n"
_DATA_COMMANDS = 10  # D0 to D9
LONGEST_MEASUREMENT_S = 120  # the protocol allows 999


class Sdi12Link:
    """One sensor on an SDI-12 bus. Sensors on one port share it, from any thread."""

    def __init__(self, address: LinkAddress, *, options: LinkOptions = USUAL) -> None:
        self.address = address
        self.options = options
        self.requests = 0
        self.reconnects = Reconnects()
        self._bus = take_bus(address, ByteLink)
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
            The port does not open, no sensor answers, or another one does.

        """
        with self._bus.lock:
            ask = partial(self._exchange, body, answers_as, public=public)
            return self._retried(ask) if again else self._closing(ask)

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
            if wait.seconds > LONGEST_MEASUREMENT_S:
                raise LinkError(
                    f"{self.address}: '{body}' would take {wait.seconds} s; Leitwerk waits for at most "
                    f"{LONGEST_MEASUREMENT_S} s",
                    remedy="is it the right sensor, and set as it should be?",
                )
            if measure.kind == "M":
                self._await_service(wait.seconds)
        if measure.kind == "C":
            time.sleep(wait.seconds)
        return self._fetch(body, wait.values, has_crc=measure.has_crc)

    def close(self) -> None:
        """End the connection, when no other device uses the same port."""
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
                remedy="was the measurement interrupted, by another master or a weak supply?",
            )
        return values

    def _await_service(self, seconds: int) -> None:
        """A sensor that is ready earlier says so; one that is not has its full time."""
        if seconds == 0:
            return
        line = self._read_line(seconds, "service request")
        if line is not None:
            self._trace(line, sent=False, meaning="the sensor is ready")

    def _values(self, body: str, *, has_crc: bool) -> list[str]:
        return split_values(self._exchange(body, has_crc=has_crc))

    def _retried(self, ask: Callable[[], T]) -> T:
        return self.options.call(lambda: self._closing(ask), lambda error: False)

    def _closing(self, ask: Callable[[], T]) -> T:
        """An exchange; an interrupted one closes the port, so that its answer is not the next one's."""
        try:
            return ask()
        except LinkError:
            raise
        except BaseException:
            self._bus.connection.close()
            raise

    def _read_line(self, timeout_s: float, what: str) -> str | None:
        """The next line; None when it does not come in time."""
        line = self._bus.connection.read_until(_END, timeout_s, what)
        return None if line is None else line.strip(b"\r\n").decode("latin-1")

    def _exchange(
        self, body: str, answers_as: str = "", *, has_crc: bool = False, public: str | None = None
    ) -> str:
        command = f"{self._unit}{body}!"
        shown = command if public is None else f"{self._unit}{public}…"
        connection, timeout_s = self._bus.connection, self.options.timeout_s
        # What came before answers nothing any more; the break wakes the sensors.
        connection.discard()
        self.reconnects.notice(connection.open(timeout_s, shown))
        self.requests += 1
        self._trace(
            command, sent=True, meaning=shown, secret=None if public is None else 1 + len(public)
        )
        connection.write(command.encode("ascii"), timeout_s, shown, break_s=BREAK_S)
        line = self._read_line(timeout_s, shown)
        if line is None:
            raise LinkTimeout(
                f"{self.address}: no answer to '{shown}' within {self.options.timeout_s:g} s",
                remedy="is this the sensor's address, is it supplied, is the line set right?",
            )
        line = strip_echo(line, command)
        masked = None if public is None else 0
        self._trace(line, sent=False, meaning=f"answer to '{shown}'", secret=masked)
        try:
            return parse_answer(line, answers_as or self._unit, has_crc=has_crc)
        except LinkError as error:
            why = error.message if public is None else "it cannot be read"
            message = f"{self.address}: the answer to '{shown}': {why}"
            raise LinkError(message, remedy=error.remedy) from None

    def _trace(self, line: str, *, sent: bool, meaning: str, secret: int | None = None) -> None:
        note(self.options.tracer, self.address, line, meaning, sent=sent, secret=secret)
