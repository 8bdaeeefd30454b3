"""Leitwerk as one end of an exchange, in a thread of its own: no line delays a sample."""

from __future__ import annotations

import math
import threading
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from leitwerk.check.exchanges import CheckedExchange
from leitwerk.errors import LinkError
from leitwerk.exchange.characters import visible
from leitwerk.exchange.definition import Carried, LineForm, Part
from leitwerk.exchange.end import CONFIRMED, REFUSED, End
from leitwerk.exchange.hearing import Heard, Why
from leitwerk.exchange.terms import AnswerKind
from leitwerk.exchange.values import CannotSay
from leitwerk.links.byte_link import ByteLink
from leitwerk.links.talk import FRESH_S
from leitwerk.project.clock import Clock

_LISTEN_S = 0.02  # how long it waits for bytes before it looks what is to be said
_WRITE_S = 2.0
_AGAIN_S = 1.0  # from one try to open the port to the next
_MOST_HEARD = 1000  # lines that wait for the device


@dataclass(frozen=True)
class Kept:
    """What came last for a value: the text as received, and the last good value with when it came.

    ``reason`` is why the text is not the value; empty while it is.
    """

    text: str
    value: Carried
    reason: str
    at_s: float


@dataclass(frozen=True)
class Told:
    """Something that happened in an exchange: the line's full name, what, in words; whether it failed."""

    subject: str
    text: str
    failed: bool = False


class ExchangeRunner:
    """Runs one end of an exchange at a port.

    Parameters
    ----------
    checked : CheckedExchange
    value : callable
        Gives the value of a part that is said.
    tell : callable
        Called with everything that happens, from the runner's thread.
    happen : callable
        Called with events for rules: ``heard office.set_point``, ``said office.temperatures``.
    session : int
        For the guarded manner: any number, another at each start.

    """

    def __init__(
        self,
        checked: CheckedExchange,
        *,
        value: Callable[[Part], Carried],
        tell: Callable[[Told], None],
        happen: Callable[[str], None],
        clock: Clock,
        session: int,
    ) -> None:
        assert checked.at is not None
        self.exchange = checked.exchange
        self.kept: dict[str, Kept] = {}
        self._lines: dict[str, tuple[float, Heard]] = {}
        self.end = End(self.exchange, session=session)
        self._link = ByteLink(checked.at, self.exchange.wire.flow)
        self._value, self._tell, self._happen, self._clock = value, tell, happen, clock
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._for_device: deque[Heard] = deque(maxlen=_MOST_HEARD)
        self._counters: dict[str, int] = {}
        self._thread = threading.Thread(target=self._go_on, daemon=True)
        entry = checked.entry
        enabled = {name: m.enabled for name, m in entry.says.messages.items()}
        enabled |= {name: k.enabled for name, k in entry.understands.keywords.items()}
        for name, state in enabled.items():
            self.switch(name, on=state == "yes")

    def latest(self, line: str) -> Heard | None:
        """A line as it was said last; None where that is long ago."""
        at_s, heard = self._lines.get(line, (-math.inf, None))
        return heard if self._clock.monotonic() - at_s < FRESH_S else None

    def start(self) -> None:
        """Begin to hear and to say."""
        self._thread.start()

    def close(self) -> None:
        """End, and tell how many lines there were of each kind."""
        self._stop.set()
        if self._thread.is_alive():
            self._thread.join(_WRITE_S + _AGAIN_S)
        counts = {**self.end.counts, **(self.end.guard.counts if self.end.guard else {})}
        text = ", ".join(f"{what}: {count}" for what, count in counts.items() if count)
        self._tell(Told(self.exchange.name, f"lines: {text or 'none'}"))

    def switch(self, line: str, *, on: bool) -> None:
        """Switch a message or keyword on or off."""
        with self._lock:
            for off in (self.end.off, self.end.listener.off):
                (off.discard if on else off.add)(line)

    def is_off(self, line: str) -> bool:
        """Whether a message or keyword is switched off."""
        return line in self.end.off

    def say(self, name: str) -> None:
        """Say a message with the values of this moment.

        Raises
        ------
        CannotSay
            The other end would not understand it.

        """
        with self._lock:
            self.end.say(name, self._values(name), self._clock.monotonic())
        self._happen(f"said {self.exchange.name}.{name}")

    def take(self) -> list[Heard]:
        """The lines whose values are for the device; they are taken away, and each wants an answer."""
        with self._lock:
            found = list(self._for_device)
            self._for_device.clear()
        return found

    def answer(self, heard: Heard, refused: str = "") -> None:
        """Answer a line that ``take`` gave, when its values are stored, or why they are not."""
        line = self.exchange.understands.line(heard.name)
        now_s = self._clock.monotonic()
        with self._lock:
            if refused:
                self._refuse(heard, now_s, refused)
            else:
                self._confirm(heard, line, now_s)

    # ------------------------------------------------------------------ in its thread

    def _go_on(self) -> None:
        lost = False
        while not self._stop.is_set():
            try:
                self._turn()
            except LinkError as error:
                if not lost:
                    self._tell(Told(self.exchange.name, error.message, failed=True))
                lost = True
                self._link.close()
                with self._lock:
                    self.end.connected_again()
                self._stop.wait(_AGAIN_S)
                continue
            except Exception as error:  # noqa: BLE001 - whatever it is, the other lines go on
                text = f"{type(error).__name__}: {error}"
                self._tell(Told(self.exchange.name, text, failed=True))
                self._stop.wait(_LISTEN_S)
            if lost:
                lost = False
                self._tell(Told(self.exchange.name, "connected again"))
        self._link.close()

    def _turn(self) -> None:
        data = self._link.read_some(_LISTEN_S, _WRITE_S, self.exchange.name)
        now_s = self._clock.monotonic()
        with self._lock:
            lines = self.end.receive(data, now_s) if data else self.end.look(now_s)
            told = [self._hear(heard, now_s) for heard in lines]
            told += [Told(self.exchange.name, text, failed=True) for text in self.end.troubles()]
            out = self.end.output()
        for one in told:
            self._tell(one)
        if out:
            if data:  # on two wires, the other end needs a moment until it listens again
                self._stop.wait(self.exchange.wire.turn_around_s)
            self._link.write(out, _WRITE_S, self.exchange.name)

    def _hear(self, heard: Heard, now_s: float) -> Told:
        """What becomes of a line; its answer is said, unless the device has to take values first."""
        full = f"{self.exchange.name}.{heard.name}" if heard.name else self.exchange.name
        shown = visible(heard.raw) if heard.raw else visible(heard.text)
        if heard.name in {CONFIRMED, REFUSED}:
            what = heard.name.strip("()")
            return Told(self.exchange.name, f"{what}: {shown}", failed=heard.name == REFUSED)
        line = self.exchange.understands.line(heard.name) if heard.name else None
        if line is not None:
            self._keep(heard, line, now_s)
            self._lines[line.name] = (now_s, heard)
        if heard.trouble is not None or line is None:
            self._refuse(heard, now_s, "")
            reason = heard.trouble.message if heard.trouble else "it is not known"
            return Told(full, f"not understood, {reason}: {shown}", failed=True)
        if any(part.of for part in line.parts):
            if len(self._for_device) == _MOST_HEARD:
                self._refuse(heard, now_s, "too many lines wait")
            else:
                self._for_device.append(heard)
        else:
            self._confirm(heard, line, now_s)
        self._happen(f"heard {full}")
        return Told(full, f"heard: {shown}")

    def _keep(self, heard: Heard, line: LineForm, now_s: float) -> None:
        troubles = heard.troubles or (None,) * len(heard.values)
        for part, text, value, trouble in zip(
            line.values, heard.texts, heard.values, troubles, strict=False
        ):
            name = f"{line.name}.{part.name}"
            reason = (
                trouble.message if trouble else "the other end has no good value" * (value is None)
            )
            before = self.kept.get(name)
            good = before.value if reason and before is not None else value
            self.kept[name] = Kept(text, good, reason, now_s)

    def _confirm(self, heard: Heard, line: LineForm, now_s: float) -> None:
        answer = line.answer
        if answer.kind is AnswerKind.CONFIRMATION:
            self.end.confirm(heard, now_s)
        elif answer.kind is AnswerKind.MESSAGE and answer.message not in self.end.off:
            try:
                self.end.answer(answer.message, self._values(answer.message), now_s, heard)
            except CannotSay as error:
                self._refuse(heard, now_s, error.message)
        else:
            self.end.nothing_to_say()

    def _refuse(self, heard: Heard, now_s: float, message: str) -> None:
        if self.exchange.tells_errors(heard.name):
            self.end.refuse(heard, now_s, Why.REFUSED if message else None, message)
        else:
            self.end.nothing_to_say()

    def _values(self, name: str) -> Sequence[Carried]:
        return [
            self._count(name) if part.of == "counter" else self._value(part)
            for part in self.exchange.says.line(name).values
        ]

    def _count(self, name: str) -> int:
        self._counters[name] = self._counters.get(name, 0) + 1
        return self._counters[name]
