"""The simulated receiver of wireless gauges and switches at the saw: lines of text, and telegrams."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from leitwerk.standins.lines import LineDevice
from leitwerk.standins.transmitters import World
from leitwerk.wireless.telegrams import TelegramReader

_CODES = {"unknown": 1, "value": 2, "locked": 3}
_PLACES = 40
WORLD = 7  # the seed of what is in the air at the saw
_OVERDUE = 4.0
_NONE, _OLD = "-", "old"
_OPERATED = "press NUMBER, set NUMBER VALUE, off NUMBER, relays repeat, restart"


class Receiver(LineDevice):
    """A receiver in factory condition. Its transmitters are operated by lines on its standard input."""

    speaks = True

    def __init__(
        self, *args: Any, seed: int = WORLD, factor: float = 1.0,
        now: Callable[[], float] = time.monotonic, **more: Any,
    ) -> None:  # fmt: skip
        super().__init__(*args, **more)
        for k in range(1, _PLACES + 1):
            self.settings.setdefault(f"place.{k}.id", 0.0)
        telegrams = self.datasheet.telegrams
        assert telegrams is not None
        self.world = World(telegrams.form, seed)
        self._reader = TelegramReader(telegrams.form)
        self._now, self._began_s, self._factor = now, now(), factor
        self._passes_on = False
        self._waiting = bytearray()
        self._heard: dict[int, tuple[float, float]] = {}
        self._strangers = 0

    # ------------------------------------------------------------------ the air

    @property
    def since_s(self) -> float:
        """The time of its world."""
        return (self._now() - self._began_s) * self._factor

    def go_on(self) -> None:
        """Receive what has been sent up to now."""
        for at_s, frame in self.world.until(self.since_s):
            if self._passes_on:
                self._waiting += frame
            bound = {int(float(self.settings[f"place.{k}.id"])) for k in range(1, _PLACES + 1)}
            for telegram in self._reader.feed(frame):
                if telegram.number not in bound:
                    self._strangers += 1
                    continue
                value = {"released": 0.0, "pressed": 1.0}.get(str(telegram.value), telegram.value)
                self._heard[telegram.number] = at_s, float(value or 0.0)

    def passed_on(self) -> bytes:
        """What is to go out now, beside answers."""
        self.go_on()
        data = bytes(self._waiting)
        self._waiting.clear()
        return data

    def operate(self, line: str) -> str:
        """Operate a transmitter, the relays, or its own supply.

        ``press 34712063``, ``set 34712063 24.85``, ``off 34712063``; ``relays repeat``; ``restart``.
        """
        word, _, rest = line.strip().partition(" ")
        self.go_on()
        if word == "restart":
            self._restart()
            return "it was without power, and is on again"
        if (word, rest) == ("relays", "repeat"):
            self.world.relays_repeat = True
            return "the relays repeat what they hear from each other"
        text, _, value = rest.partition(" ")
        one = self.world.find(int(text)) if text.isdecimal() else None
        if one is None or word not in {"press", "set", "off"}:
            return f"{_OPERATED}; numbers as the list shows them"
        if word == "off":
            one.next_s, one.operated_s = float("inf"), []
            return f"{one.number} is off"
        if word == "set":
            one.value = float(value)
        self.world.operate(one.number, self.since_s)
        return f"{one.number} ({one.kind}) was operated"

    def _restart(self) -> None:
        """What is not a setting is lost without power."""
        self._passes_on, self.logged_in = False, not self.profile.passwords
        self._heard.clear()
        self._waiting.clear()
        self._strangers = 0
        self._reader = TelegramReader(self.world.form)

    # ------------------------------------------------------------------ what it answers

    def readings(self, question: str) -> str | None:
        """Identity, counters, and what its places show."""
        self.go_on()
        if question == "ID":
            unit = self.profile
            return f"Tannried Instrumente,{unit.model},{unit.serial},{unit.firmware}"
        if question == "CNT":
            return f"{self._reader.good},{self._reader.wrong},{self._strangers}"
        if question == "PL":
            return ",".join(
                f"{float(self.settings[f'place.{k}.id']):.0f}" for k in range(1, _PLACES + 1)
            )
        if question in {"PV", "PS", "PA"}:
            return ",".join(self._place(question, k) for k in range(1, _PLACES + 1))
        return None

    def answer(self, line: str) -> str | bytes | None:
        """As every device, and the passing on of telegrams."""
        if line.strip() in {"AIR=1", "AIR=0"}:
            self.go_on()
            self._passes_on = line.strip() == "AIR=1"
            self._waiting.clear()
            return self.accept()
        return super().answer(line)

    def _place(self, question: str, k: int) -> str:
        number = int(float(self.settings[f"place.{k}.id"]))
        heard = self._heard.get(number)
        if heard is None:
            return _NONE
        age = self.since_s - heard[0]
        if question == "PA":
            return f"{age:.1f}"
        one = self.world.find(number)
        if question == "PV" and one is not None and age > _OVERDUE * one.every_s:
            return _OLD
        return f"{heard[1]:.2f}" if question == "PV" else f"{heard[1]:.0f}"

    def refuse(self, why: str) -> str:
        """Say no, with a code."""
        return f"ERR {_CODES.get(why, 2)}"

    def accept(self) -> str:
        """Say yes."""
        return "OK"
