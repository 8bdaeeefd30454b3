"""The talking port of a simulated indicator: it runs the exchange that its settings describe."""

from __future__ import annotations

import asyncio
import os
import termios
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from leitwerk.datasheet.points import Stored
from leitwerk.errors import QuantityError
from leitwerk.exchange.characters import parse_characters
from leitwerk.exchange.definition import Answer, Carried, Direction, Exchange, Form, LineForm, Part
from leitwerk.exchange.end import CONFIRMED, REFUSED, End
from leitwerk.exchange.hearing import Heard, Why
from leitwerk.exchange.terms import AnswerKind, Kind, Manner
from leitwerk.exchange.values import CannotSay
from leitwerk.standins.ports import SerialPort

_TURN_S = 0.05
_LINES, _FIELDS = 4, 3
_TEXT = 16
_SPEEDS = {
    getattr(termios, f"B{baud}"): baud
    for baud in (1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200)
}


@dataclass
class Front:
    """What the world does to the device: values at its inputs, pulses in Hz, and its key."""

    inputs: dict[str, float] = field(default_factory=dict)
    pulses_hz: float = 0.0
    pressed: list[str] = field(default_factory=list)

    def operate(self, line: str) -> str:
        """Carry out ``key 1``, ``input 2 57.3`` or ``pulses 48``; what happened, in words."""
        words = line.split()
        if len(words) == 2 and words[0] == "key":
            self.pressed.append(words[1])
            return f"key {words[1]} pressed"
        is_input = len(words) == 3 and words[0] == "input" and words[1] in {"1", "2"}
        if not is_input and not (len(words) == 2 and words[0] == "pulses"):
            return "valid: 'key 1', 'input 1 57.3', 'input 2 21.5', 'pulses 48'"
        try:
            value = float(words[-1])
        except ValueError:
            return f"{words[-1][:20]!r} is not a number"
        if is_input:
            self.inputs[f"input.{words[1]}"] = value
            return f"input {words[1]} is {words[2]}"
        self.pulses_hz = max(0.0, value)
        return f"{words[1]} pulses a second"


def exchange_of(settings: Mapping[str, Stored]) -> Exchange | None:
    """The exchange that the settings describe; None when it is off."""
    if settings["talk.manner"] == "off":
        return None
    ways = {}
    for way in ("says", "understands"):
        own = {
            key: str(settings[f"talk.{way}.{key}"])
            for key in ("separator", "end", "decimal", "quotes")
        }
        quotes = "" if own["quotes"] == "none" else own["quotes"]
        ways[way] = Direction(
            parse_characters(own["separator"]),
            parse_characters(own["end"]),
            decimal=own["decimal"],
            quotes=quotes,
        )
    numbers = range(1, _LINES + 1)
    messages = tuple(_message(settings, k) for k in numbers if settings[f"message.{k}.keyword"])
    keywords = tuple(_keyword(settings, k) for k in numbers if settings[f"keyword.{k}.keyword"])
    return Exchange(
        "talk",
        Manner(str(settings["talk.manner"])),
        says=replace(ways["says"], lines=messages),
        understands=replace(ways["understands"], lines=keywords),
    )


def _message(settings: Mapping[str, Stored], k: int) -> LineForm:
    parts = []
    for j in range(1, _FIELDS + 1):
        head = f"message.{k}.field_{j}"
        shows = str(settings[f"{head}.shows"])
        if shows == "none":
            continue
        unit = _UNITS.get(shows, "") if settings[f"{head}.unit"] == "yes" else ""
        form = Form(Kind.NUMBER, decimals=int(settings[f"{head}.decimals"]), unit=unit)
        if shows == "counter":
            form = Form(Kind.COUNTER, width=4, pad="0")
        elif shows not in _UNITS:
            form = Form(Kind.TEXT, longest=40 if shows == "serial" else _TEXT)
        parts.append(Part(form, f"p{j}", shows))
    return LineForm(f"message {k}", str(settings[f"message.{k}.keyword"]), tuple(parts))


_UNITS = {"input.1": "%", "input.2": "°C"}


def _keyword(settings: Mapping[str, Stored], k: int) -> LineForm:
    head = f"keyword.{k}"
    kind, to = settings[f"{head}.value_1.kind"], str(settings[f"{head}.value_1.to"])
    parts: tuple[Part, ...] = ()
    if kind == "number":
        span = float(settings[f"{head}.value_1.low"]), float(settings[f"{head}.value_1.high"])
        parts = (Part(Form(Kind.NUMBER), "p1", to, span=span if span[0] < span[1] else None),)
    elif kind == "text":
        parts = (Part(Form(Kind.TEXT, longest=int(settings[f"{head}.value_1.longest"])), "p1", to),)
    said = str(settings[f"{head}.answer"])
    answer = AnswerKind.MESSAGE if said.startswith("message") else AnswerKind(said)
    tells = settings[f"{head}.errors"] == "yes"
    message = said if answer is AnswerKind.MESSAGE else ""
    return LineForm(
        f"keyword {k}", str(settings[f"{head}.keyword"]), parts, Answer(answer, message, tells)
    )


class Talking:
    """Runs the exchange. ``store`` gives a setting a value, or raises; ``reading`` a value of an input."""

    def __init__(
        self,
        settings: Mapping[str, Stored],
        reading: Callable[[str], Carried],
        store: Callable[[str, Carried], None],
        front: Front,
    ) -> None:
        self._settings, self._reading, self._store, self._front = settings, reading, store, front
        self._end: End | None = None
        self._of: dict[str, Stored] = {}
        self._due: dict[str, float] = {}
        self._counter = 0
        self._session = 0

    def turn(self, data: bytes, now_s: float) -> bytes:
        """What it says to bytes that came, and by itself."""
        of = {
            n: v
            for n, v in self._settings.items()
            if n.split(".")[0] in {"talk", "message", "keyword"}
        }
        if of != self._of:
            exchange = exchange_of(of)
            self._session += 1
            self._of, self._end = (
                of,
                None if exchange is None else End(exchange, session=self._session),
            )
            self._due = {}
        if self._end is None:
            self._front.pressed.clear()
            return b""
        for heard in self._end.receive(data, now_s) + self._end.look(now_s):
            self._answer(self._end, heard, now_s)
        pressed, self._front.pressed[:] = set(self._front.pressed), []
        for line in self._end.exchange.says.lines:
            head = line.name.replace(" ", ".")
            every = float(of[f"{head}.every"])
            is_due = every > 0.0 and now_s >= self._due.setdefault(line.name, now_s + every)
            if is_due:
                self._due[line.name] += every
            if is_due or of[f"{head}.key"] in pressed:
                self._say(self._end, line, now_s)
        return self._end.output()

    def _say(self, end: End, line: LineForm, now_s: float, heard: Heard | None = None) -> None:
        self._counter += 1
        values = [self._counter if p.of == "counter" else self._reading(p.of) for p in line.values]
        try:
            if heard is not None:
                end.answer(line.name, values, now_s, heard)
            else:
                end.say(line.name, values, now_s)
        except CannotSay:
            end.counts["not sent"] += 1

    def _answer(self, end: End, heard: Heard, now_s: float) -> None:
        if heard.name in {CONFIRMED, REFUSED}:
            return
        lines = {line.name: line for line in end.exchange.understands.lines}
        line = lines.get(heard.name)
        if heard.trouble is not None or line is None:
            if end.exchange.tells_errors(heard.name):
                end.refuse(heard, now_s)
            else:
                end.nothing_to_say()
            return
        try:
            for part, value in zip(line.values, heard.values, strict=True):
                if part.of != "kept" and value is not None:
                    self._store(part.of, value)
        except QuantityError as error:
            end.refuse(heard, now_s, Why.REFUSED, error.message)
            return
        if line.answer.kind is AnswerKind.MESSAGE:
            said = next(x for x in end.exchange.says.lines if x.name == line.answer.message)
            self._say(end, said, now_s, heard)
        elif line.answer.kind is AnswerKind.CONFIRMATION:
            end.confirm(heard, now_s)
        else:
            end.nothing_to_say()


class TalkingPort(SerialPort):
    """A pseudo-terminal that garbles what goes over it while the other end has another baud rate."""

    def spoiled(self, data: bytes, baud: float) -> bytes:
        """The bytes as they come over a line of two rates."""
        if not os.isatty(self._far_end):
            return data
        speed = _SPEEDS.get(termios.tcgetattr(self._far_end)[5])
        return data if speed == baud else bytes(0x80 | (b * 37 & 0x7F) for b in data)


async def serve_talking(
    talking: Talking, baud: Callable[[], float], *, ready: Callable[[str], None]
) -> None:
    """Run it on a pseudo-terminal until cancelled; ``ready`` gets its path."""
    received: list[bytes] = []
    loop = asyncio.get_running_loop()
    with TalkingPort(received.append) as port:
        ready(port.path)
        while True:
            data, received[:] = b"".join(received), []
            out = talking.turn(port.spoiled(data, baud()) if data else b"", loop.time())
            if out:
                port.send(port.spoiled(out, baud()))
            await asyncio.sleep(_TURN_S if not received else 0)
