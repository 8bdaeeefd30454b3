"""Simulated devices that speak in lines of text, over TCP or a serial port."""

from __future__ import annotations

import asyncio
from abc import ABC, abstractmethod
from collections.abc import Awaitable, Callable

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.text_points import texts
from leitwerk.datasheet.vocabulary import COMMAND, LOG_OUT, LOGIN, SET_CLOCK, SET_DATE, SET_TIME
from leitwerk.errors import LinkError, QuantityError
from leitwerk.parsing.address import SerialLine
from leitwerk.protocols.lines import LineReader
from leitwerk.standins.clock import DeviceClock
from leitwerk.standins.faults import Faults, Troubles
from leitwerk.standins.firmware import Profile, factory_value
from leitwerk.standins.ports import SerialPort

_SPEAKS_EVERY_S = 0.02
TEXT_LINE = SerialLine(9600, 8, "N", 1)


class LineDevice(ABC):
    """A device in factory condition that speaks in lines. ``answer`` takes one line.

    Which line queries or writes which setting it has from its datasheet, as the firmware of a device
    is built from its list of commands.
    """

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        *,
        clock: DeviceClock | None = None,
        troubles: Troubles | None = None,
    ) -> None:
        self.datasheet = datasheet
        self.profile = profile
        self.clock = clock or DeviceClock()
        self.troubles = troubles or Troubles()
        self.logged_in = not profile.passwords
        self.settings: dict[str, Stored] = {}
        points = texts(datasheet.points("settings"))
        for name, text in profile.factory.items():
            self.settings[name] = factory_value(datasheet.settings[name], text)
        self._queries = {point.query: point for point in points}
        self._writes = {head_of(point.write): point for point in points if point.write}
        self._access = texts(datasheet.points("access"))
        clocks = {SET_CLOCK.name, SET_DATE.name, SET_TIME.name}
        self._clocks = {point.name: point for point in self._access if point.name in clocks}

    @abstractmethod
    def readings(self, question: str) -> str | None:
        """A reading, or its identity; None for another query."""

    @abstractmethod
    def refuse(self, why: str) -> str | None:
        """Say no: to a line that is ``unknown``, a ``value``, or as it is ``locked`` or ``busy``."""

    @abstractmethod
    def accept(self) -> str | None:
        """What it says when it has taken something."""

    def answer(self, line: str) -> str | bytes | None:
        """What it says to a line, or a block of bytes; None when it says nothing."""
        line = line.strip()
        found = self.readings(line)
        if found is not None:
            return found
        point = self._queries.get(line)
        if point is not None:
            return point.encode(self.settings[point.name])
        return self._take(line)

    def _take(self, line: str) -> str | None:
        for access in self._access:
            head = head_of(access.write)
            if line.startswith(head):
                return self._command(access.name, line.removeprefix(head).strip().strip('"'))
        known = max((h for h in self._writes if line.startswith(h)), key=len, default=None)
        if known is None:
            return self.refuse("unknown")
        if not self.logged_in:
            return self.refuse("locked")
        point = self._writes[known]
        value = point.decode(line.removeprefix(known))
        try:
            point.storable(value)
        except QuantityError:
            return self.refuse("value")
        if self.is_busy:
            return self.refuse("busy")
        self.settings[point.name] = value
        return self.accept()

    speaks = False  # whether it sends something by itself

    def passed_on(self) -> bytes:
        """What it sends by itself now, beside answers."""
        return b""

    @property
    def is_busy(self) -> bool:
        """Whether it takes no settings now."""
        return False

    def _command(self, name: str, text: str) -> str | None:
        if name == LOGIN.name:
            is_right = text in self.profile.passwords.values()
            self.logged_in = is_right and not self.troubles.refuses_passwords
            return self.accept() if self.logged_in or not text else self.refuse("locked")
        if not self.logged_in:
            return self.refuse("locked")
        if name == LOG_OUT.name:
            self.logged_in = False
        elif name == COMMAND.name:
            return self._carry_out(text)
        elif name in self._clocks:
            try:
                self.clock.set(self._moment(name, text))
            except ValueError:
                return self.refuse("value")
        return self.accept()

    def _carry_out(self, code: str) -> str | None:
        """Do what its command says, by the code of the datasheet."""
        (point,) = (p for p in self._access if p.name == COMMAND.name)
        words = [word for word, own in point.choices if own == code]
        return self.accept() if words and self.command(words[0]) else self.refuse("value")

    def command(self, word: str) -> bool:
        """Start, stop, erase; whether it did."""
        del word
        return False

    def _moment(self, name: str, text: str) -> str:
        """What its clock is set to: the whole time, or a new date or time with the rest as it is."""
        given = str(self._clocks[name].decode(text))
        date, _, time = self.clock.text().partition(" ")
        if name == SET_DATE.name:
            return f"{given} {time}"
        return f"{date} {given}" if name == SET_TIME.name else given


def head_of(write: str) -> str:
    """What a line begins with that writes a point."""
    return write.partition("{}")[0]


class _Talk:
    """One conversation: bytes in, answers out, with the faults of the link."""

    def __init__(self, device: LineDevice, faults: Faults, counts: list[int]) -> None:
        self._device = device
        self._faults = faults
        self._counts = counts
        self._end = device.datasheet.replies.end
        self._lines = LineReader(self._end)

    async def hear(self, data: bytes, say: Callable[[bytes], Awaitable[None]]) -> None:
        faults = self._faults
        for line in self._lines.feed(data):
            self._counts[0] += 1
            limit = faults.silent_after_requests
            if limit is not None and self._counts[0] > limit:
                continue
            if faults.drop_every and self._counts[0] % faults.drop_every == 0:
                raise ConnectionResetError
            await asyncio.sleep(faults.slow_s)
            answer = self._device.answer(line)
            if answer is not None:
                said = answer if isinstance(answer, bytes) else answer.encode("ascii", "replace")
                await say(said + self._end)


async def _speak(device: LineDevice, say: Callable[[bytes], Awaitable[None]]) -> None:
    """Send what a device says by itself, until cancelled."""
    while True:
        await asyncio.sleep(_SPEAKS_EVERY_S)
        if data := device.passed_on():
            await say(data)


async def serve_lines_tcp(
    device: LineDevice, *, host: str, port: int, faults: Faults, ready: Callable[[int], None]
) -> None:
    """Serve until cancelled; ``ready`` is called with the port once it is open."""
    counts = [0]

    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        async def say(data: bytes) -> None:
            writer.write(data)
            await writer.drain()

        conversation = _Talk(device, faults, counts)
        speaking = asyncio.create_task(_speak(device, say)) if device.speaks else None
        try:
            while data := await reader.read(4096):
                await conversation.hear(data, say)
        except (LinkError, OSError):
            pass  # a client that floods it or goes away is dropped
        finally:
            if speaking is not None:
                speaking.cancel()
            writer.close()

    server = await asyncio.start_server(talk, host, port)
    async with server:
        ready(server.sockets[0].getsockname()[1])
        await server.serve_forever()


async def serve_lines_serial(
    device: LineDevice, *, faults: Faults, ready: Callable[[str], None]
) -> None:
    """Serve on a pseudo-terminal until cancelled; ``ready`` gets its path."""
    received: asyncio.Queue[bytes] = asyncio.Queue()
    conversation = _Talk(device, faults, [0])
    with SerialPort(received.put_nowait) as port:

        async def say(data: bytes) -> None:
            port.send(data)

        ready(port.path)
        speaking = asyncio.create_task(_speak(device, say)) if device.speaks else None
        while speaking is None or not speaking.done():
            try:
                await conversation.hear(await received.get(), say)
            except (LinkError, OSError):
                conversation = _Talk(device, faults, [0])
