"""The simulated panel indicator of the kiln cabin: plain lines on a serial port."""

from __future__ import annotations

from typing import Any

import numpy as np

from leitwerk.exchange.definition import Carried
from leitwerk.standins.lines import LineDevice
from leitwerk.standins.talking import Front, Talking

_CODES = {"unknown": 1, "value": 2, "locked": 3}


class Indicator(LineDevice):
    """A panel indicator in factory condition, wired to the kiln's humidity and air."""

    def __init__(self, *args: Any, seed: int = 4, **more: Any) -> None:
        super().__init__(*args, **more)
        self._noise = np.random.default_rng(seed)
        self.front = Front({"input.1": 55.0, "input.2": 21.5})
        self.talking = Talking(self.settings, self._carried, self._take_value, self.front)

    def readings(self, question: str) -> str | None:
        """Identity, clock, and both inputs in one line."""
        if question == "ID":
            return f"{self.profile.model},{self.profile.serial},{self.profile.firmware}"
        if question == "TIME":
            return self.clock.text()
        if question == "IN":
            return ",".join(f"{self._reading(f'input.{k}'):+.1f}" for k in (1, 2))
        return None

    def _reading(self, name: str) -> float:
        return self.front.inputs[name] + 0.1 * float(self._noise.standard_normal())

    def _carried(self, name: str) -> Carried:
        """What a field of a message carries."""
        if name == "serial":
            return self.profile.serial
        if name in self.front.inputs:
            return self._reading(name)
        return self.settings[name]

    def _take_value(self, name: str, value: Carried) -> None:
        """What came at the talking port for a setting; its span was looked at."""
        point = next(p for p in self._queries.values() if p.name == name)
        assert value is not None
        self.settings[name] = point.storable(value)

    def refuse(self, why: str) -> str:
        """With a number."""
        return f"ERR {_CODES[why]}"

    def accept(self) -> str:
        """Every command is confirmed."""
        return "OK"
