"""The simulated sound level meter of the saw hall: it answers in lines, as SCPI instruments do."""

from __future__ import annotations

import math
import time
from typing import Any

import numpy as np

from leitwerk.datasheet.text_points import texts
from leitwerk.standins.error_queue import ErrorQueue
from leitwerk.standins.lines import LineDevice
from leitwerk.standins.memory import RunMemory

# The hall with the saw running: level by frequency weighting, and how far peaks stand out.
_LEVEL_DB = {"A": 86.3, "C": 89.1, "Z": 90.4}
_STANDS_OUT_DB = {"equivalent": 0.0, "maximum": 4.1, "peak": 17.6}
_COLUMNS = [f"evaluation.{k}.{what}" for k in (1, 2, 3) for what in _STANDS_OUT_DB]
_NO_LEVEL = "9.91E37"  # IEEE 488.2: what is not measured
_QUIET_DB = 24.0  # how much quieter it is while the saw stands
# A shift: the saw stands in the breaks, from ... to ... h since the run began.
_BREAKS_H = ((2.0, 2.25), (4.0, 4.75))
_WINDOW = 240  # values of a recording that can be read at once


class Meter(LineDevice):
    """A sound level meter in factory condition; what it refuses goes into its error queue.

    ``factor`` lets its recordings go by faster.
    """

    def __init__(self, *args: Any, factor: float = 1.0, seed: int = 3, **more: Any) -> None:
        super().__init__(*args, **more)
        self.errors = ErrorQueue()
        self._noise = np.random.default_rng(seed)
        self._levels = {point.query: point for point in texts(self.datasheet.points("readings"))}
        self.memory = RunMemory(_COLUMNS, self._row, time.monotonic, self.clock, factor)
        groups = ("status", "recordings")
        self._queried = {
            p.query: p for group in groups for p in texts(self.datasheet.points(group))
        }
        self._chosen = {"MEM:SEL ": "selected", "MEM:FIRS ": "first"}

    @property
    def is_busy(self) -> bool:
        """Settings are taken only while it does not record."""
        return self.memory.is_recording

    def readings(self, question: str) -> str | None:
        """Identity, error queue, clock, battery, levels, and the window onto recordings."""
        if question == "*IDN?":
            unit = self.profile
            return f"Tannried Instrumente,{unit.model},{unit.serial},{unit.firmware}"
        if question == "SYST:ERR?":
            return self.errors.next()
        if question == "SYST:TIME?":
            return f'"{self.clock.text()}"'
        if question == "SYST:BATT?":
            return "4" if self.troubles.flat_battery else "83"
        if question.startswith("MEM:") and question.endswith("?"):
            return self._window(question)
        level = self._levels.get(question)
        return None if level is None else _shown(self._level(level.name))

    def answer(self, line: str) -> str | None:
        """As every device, and the choice of the window."""
        for head, name in self._chosen.items():
            if line.startswith(head):
                text = line.removeprefix(head).strip()
                if text.isdecimal():
                    setattr(self.memory, name, int(text))
                else:
                    self.refuse("value")
                return None
        return super().answer(line)

    def refuse(self, why: str) -> None:
        """Nothing is said; it waits in the queue."""
        self.errors.refuse(why)

    def accept(self) -> None:
        """Nothing is said."""

    def command(self, word: str) -> bool:
        """Start, stop, or erase recordings."""
        if word == "start" and not self.is_busy and not self.troubles.full_memory:
            self.memory.start(float(self.settings["integration.time"]))
        elif word == "stop":
            self.memory.stop()
        elif word == "erase recordings" and not self.is_busy:
            self.memory.erase()
        else:
            return False
        return True

    def _window(self, question: str) -> str | None:
        self.memory.tick()
        shown = self.memory.shown(_WINDOW if question == "MEM:DATA?" else 0)
        if question == "MEM:DATA?":
            values = (shown.get(f"value.{w}") for w in range(1, _WINDOW + 1))
            return ",".join(_shown(value) for value in values if isinstance(value, float))
        if question == "MEM:NAME?":
            return ",".join(f'"{name}"' for name in self.memory.columns)
        point = self._queried.get(question)
        return None if point is None else point.encode(shown.get(point.name, 0.0))

    def _level(self, name: str, quieter_db: float = 0.0) -> float:
        """A level of an evaluation; not a number where it is off, or has no such level."""
        own, _, what = name.rpartition(".")
        weighting, time_weighting = (self.settings[f"{own}.{key}"] for key in ("weighting", "time"))
        level = _LEVEL_DB.get(str(weighting), math.nan) - quieter_db
        level += 0.2 * float(self._noise.standard_normal())
        if what == "maximum":
            level -= {"slow": 1.2, "none": math.nan}.get(str(time_weighting), 0.0)
        if what == "peak" and self.settings[f"{own}.peak"] == "no":
            return math.nan
        return level + _STANDS_OUT_DB[what]

    def _row(self, since_s: float) -> list[float]:
        """What it stores for one integration of a shift."""
        hours = since_s / 3600.0
        stands = any(begin <= hours < end for begin, end in _BREAKS_H)
        quieter = _QUIET_DB if stands else 1.5 * math.sin(2.0 * math.pi * hours / 1.7)
        return [round(self._level(name, quieter), 1) for name in self.memory.columns]


def _shown(level: float) -> str:
    return _NO_LEVEL if math.isnan(level) else f"{level:.1f}"
