"""The simulated sound level meter of the saw hall: it answers in lines, as SCPI instruments do."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

import numpy as np

from leitwerk.datasheet import Datasheet, Stored
from leitwerk.datasheet.queries import Query
from leitwerk.errors import LinkError, QuantityError
from leitwerk.standins.firmware import Profile
from leitwerk.standins.server import Faults
from leitwerk.wire.lines import LineReader

# The hall with the saw running: level by frequency weighting, and how far the peaks stand out.
_LEVEL_DB = {"A": 86.3, "C": 89.1, "Z": 90.4}
_CREST_DB = {"fast": 17.6, "slow": 17.5}
# SCPI-1999, volume 1, 21.8: codes of the error queue.
_PROTECTED, _OUT_OF_RANGE, _UNKNOWN = (
    '-203,"Command protected"',
    '-222,"Data out of range"',
    '-113,"Undefined header"',
)
_QUEUE = 20


class Meter:
    """A sound level meter in factory condition. ``answer`` takes a line and gives one, or None."""

    def __init__(self, datasheet: Datasheet, profile: Profile, seed: int = 3) -> None:
        self.profile = profile
        self.settings: dict[str, Stored] = {}
        self.errors: list[str] = []
        self.logged_in = False
        self._noise = np.random.default_rng(seed)
        settings: dict[str, Query] = datasheet.settings
        for name, text in profile.factory.items():
            query = settings[name]
            is_text = query.is_text or bool(query.choices)
            self.settings[name] = text if is_text else float(text)
        self._asked: dict[str, Callable[[], str]] = {
            query.ask: lambda query=query: query.encode(self.settings[query.name])  # type: ignore[misc]
            for query in settings.values()
        }
        self._told = {q.tell.partition(" ")[0]: q for q in settings.values() if q.tell}
        self._readings = {q.ask: q for q in datasheet.points("readings")}

    def answer(self, line: str) -> str | None:
        """What it says to a line; None when it says nothing."""
        line = line.strip()
        if line == "*IDN?":
            unit = self.profile
            return f"Tannried Instrumente,{unit.model},{unit.serial},{unit.firmware}"
        if line == "SYST:ERR?":
            return self.errors.pop(0) if self.errors else '0,"No error"'
        if line in self._readings:
            return f"{self._level(self._readings[line].name):.1f}"
        if line in self._asked:
            return self._asked[line]()
        self._take(line)
        return None

    def _level(self, name: str) -> float:
        level = _LEVEL_DB[str(self.settings["weighting.frequency"])]
        level += 0.3 * float(self._noise.standard_normal())
        crest = _CREST_DB[str(self.settings["weighting.time"])]
        return level + {"level.equivalent": 0.0, "level.maximum": 4.1, "level.peak": crest}[name]

    def _take(self, line: str) -> None:
        header, _, text = line.partition(" ")
        if header == "SYST:PASS":
            self.logged_in = text.strip('"') in self.profile.passwords.values()
            if text.strip('"') and not self.logged_in:
                self._complain(_PROTECTED)
            return
        query = self._told.get(header)
        if query is None:
            self._complain(_UNKNOWN)
        elif not self.logged_in:
            self._complain(_PROTECTED)
        else:
            value = query.decode(text)
            try:
                query.encode(value)
            except QuantityError:
                self._complain(_OUT_OF_RANGE)
            else:
                self.settings[query.name] = value

    def _complain(self, error: str) -> None:
        if len(self.errors) < _QUEUE:
            self.errors.append(error)


async def serve_lines(
    meter: Meter, *, host: str, port: int, faults: Faults, ready: Callable[[int], None]
) -> None:
    """Serve until cancelled; ``ready`` is called with the port once it is open."""
    count = 0

    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal count
        lines = LineReader()
        try:
            while data := await reader.read(4096):
                for line in lines.feed(data):
                    count += 1
                    limit = faults.silent_after_requests
                    if limit is not None and count > limit:
                        continue
                    await asyncio.sleep(faults.slow_s)
                    answer = meter.answer(line)
                    if answer is not None:
                        writer.write(answer.encode("ascii") + b"\n")
                        await writer.drain()
        except (LinkError, OSError):
            pass  # whoever floods it or goes away is not listened to any more
        finally:
            writer.close()

    server = await asyncio.start_server(talk, host, port)
    async with server:
        ready(server.sockets[0].getsockname()[1])
        await server.serve_forever()
