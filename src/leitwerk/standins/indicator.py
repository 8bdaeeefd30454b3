"""The simulated panel indicator of the kiln cabin: plain lines on a serial port."""

from __future__ import annotations

from typing import Any

import numpy as np

from leitwerk.standins.lines import LineDevice

_CODES = {"unknown": 1, "value": 2, "locked": 3}


class Indicator(LineDevice):
    """A panel indicator in factory condition, wired to the kiln's humidity and air."""

    def __init__(self, *args: Any, seed: int = 4, **more: Any) -> None:
        super().__init__(*args, **more)
        self._noise = np.random.default_rng(seed)

    def readings(self, question: str) -> str | None:
        """Identity, clock, and both inputs in one line."""
        if question == "ID":
            return f"{self.profile.model},{self.profile.serial},{self.profile.firmware}"
        if question == "TIME":
            return self.clock.text()
        if question == "IN":
            humidity, air = np.array([55.0, 21.5]) + 0.1 * self._noise.standard_normal(2)
            return f"{humidity:+.1f},{air:+.1f}"
        return None

    def refuse(self, why: str) -> str:
        """With a number."""
        return f"ERR {_CODES[why]}"

    def accept(self) -> str:
        """Every command is confirmed."""
        return "OK"
