"""The simulated sound level meter of the saw hall: it answers in lines, as SCPI instruments do."""

from __future__ import annotations

from typing import Any

import numpy as np

from leitwerk.datasheet.text_points import texts
from leitwerk.standins.error_queue import ErrorQueue
from leitwerk.standins.lines import LineDevice

# The hall with the saw running: level by frequency weighting, and how far the peaks stand out.
_LEVEL_DB = {"A": 86.3, "C": 89.1, "Z": 90.4}
_CREST_DB = {"fast": 17.6, "slow": 17.5}


class Meter(LineDevice):
    """A sound level meter in factory condition; what it refuses goes into its error queue."""

    def __init__(self, *args: Any, seed: int = 3, **more: Any) -> None:
        super().__init__(*args, **more)
        self.errors = ErrorQueue()
        self._noise = np.random.default_rng(seed)
        self._levels = {point.query: point for point in texts(self.datasheet.points("readings"))}

    def readings(self, question: str) -> str | None:
        """Identity, error queue, clock, battery, levels."""
        if question == "*IDN?":
            unit = self.profile
            return f"Tannried Instrumente,{unit.model},{unit.serial},{unit.firmware}"
        if question == "SYST:ERR?":
            return self.errors.next()
        if question == "SYST:TIME?":
            return f'"{self.clock.text()}"'
        if question == "SYST:BATT?":
            return "4" if self.troubles.flat_battery else "83"
        level = self._levels.get(question)
        return None if level is None else f"{self._level(level.name):.1f}"

    def refuse(self, why: str) -> None:
        """Nothing is said; it waits in the queue."""
        self.errors.refuse(why)

    def accept(self) -> None:
        """Nothing is said."""

    def _level(self, name: str) -> float:
        level = _LEVEL_DB[str(self.settings["weighting.frequency"])]
        level += 0.3 * float(self._noise.standard_normal())
        crest = _CREST_DB[str(self.settings["weighting.time"])]
        return level + {"level.equivalent": 0.0, "level.maximum": 4.1, "level.peak": crest}[name]
