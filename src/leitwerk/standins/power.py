"""The simulated power analyzer at the main board: a generator in the race, and two saw motors."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.vocabulary import FIRST_ROW, SELECT, STORAGE_INTERVAL
from leitwerk.standins.firmware import Firmware, Refusal, RefusedError
from leitwerk.standins.memory import RunMemory

_TRANSFORMER_A = 200.0  # the one that is really there: 200 A give 5 A
_HOUR_S, _DAY_S = 3600.0, 86_400.0
_GENERATOR_KW, _SAW_KW, _IDLE_KW = 18.0, 31.0, 2.0
_NETWORK_OHM = 0.08
_SAGS = (
    (3 * 24 + 10.0, 3 * 24 + 11.5),
)  # hours since the run began: a neighbour's machine runs up
_COLUMNS = (
    "voltage.1", "voltage.2", "voltage.3", "current.1", "current.2", "current.3", "power.active",
    "power.reactive", "frequency", "distortion.1", "distortion.2", "distortion.3", "unbalance",
    "angle.voltage.2", "angle.current.1", "angle.current.2",
)  # fmt: skip
_WINDOW = 112


class PowerAnalyzer(Firmware):
    """A power analyzer in factory condition. ``factor`` lets its recordings go by faster."""

    def __init__(self, *args: Any, factor: float = 1.0, seed: int = 11, **more: Any) -> None:
        super().__init__(*args, **more)
        self._noise = np.random.default_rng(seed)
        self._began_s = self.clock()
        self.memory = RunMemory(_COLUMNS, self._row, self.clock, self.device_clock, factor)

    @property
    def is_busy(self) -> bool:
        """Settings are taken only while it does not record."""
        return self.memory.is_recording

    def tick(self) -> None:
        """Store the rows that have fallen due."""
        self.memory.tick()

    def carry_out(self, command: Stored) -> None:
        """Start, stop, or erase recordings."""
        if command == "start" and not self.is_busy:
            if self.troubles.full_memory:
                raise RefusedError(Refusal.FAILED)
            self.memory.start(float(self.setting(STORAGE_INTERVAL)))
        elif command == "stop":
            self.memory.stop()
        elif command == "erase recordings" and not self.is_busy:
            self.memory.erase()
        else:
            raise RefusedError(Refusal.BAD_VALUE)

    def write(self, start: int, words: Sequence[int]) -> None:
        """As every device, and the window onto recordings."""
        for known, name in ((SELECT, "selected"), (FIRST_ROW, "first")):
            chosen = self.written(known, None, start, words)
            if chosen is not None:
                setattr(self.memory, name, int(float(chosen)))
                return
        super().write(start, words)

    def measured(self) -> dict[str, Stored]:
        """Status and readings."""
        now = self._mains((self.clock() - self._began_s) % _DAY_S + 8 * _HOUR_S)
        apparent = math.hypot(now["power.active"], now["power.reactive"])
        energy = (self.clock() - self._began_s) / _HOUR_S
        return {
            **now,
            "power.apparent": apparent,
            "energy.imported": 1204.0 + energy * max(now["power.active"], 0.0),
            "energy.exported": 8817.0 + energy * max(-now["power.active"], 0.0),
            "logged_in": self.roles[self.role],
            "uncommitted": float(len(self.staged)),
            "battery.voltage": 2.31 if self.troubles.flat_battery else 3.58,
            **self.memory.shown(_WINDOW),
        }

    def _row(self, since_s: float) -> list[float]:
        # What it stores is what it shows: 32-bit numbers.
        return [float(np.float32(x)) for x in (self._mains(since_s)[name] for name in _COLUMNS)]

    def _mains(self, since_s: float) -> dict[str, float]:
        """What there is at its terminals, at a time since a Monday, 0:00; the sawing day is from 6 to 14."""
        hours = since_s / _HOUR_S
        day, hour = divmod(hours, 24.0)
        saws = day % 7 < 5 and 6.0 <= hour < 14.0 and not 10.0 <= hour < 10.5
        used = (_SAW_KW if saws else _IDLE_KW) + 1.5 * float(self._noise.standard_normal())
        active = used - _GENERATOR_KW - 0.8 * math.sin(2.0 * math.pi * hours / 31.0)
        reactive = 14.0 if saws else 3.0
        ratio = float(self.setting("current.transformer")) / _TRANSFORMER_A
        rise = -1000.0 * active / 3.0 * _NETWORK_OHM / 230.0
        voltages, currents = [], []
        for phase in range(3):
            volts = 231.0 + rise + (0.4, -0.9, 0.6)[phase] + 0.4 * self._noise.standard_normal()
            if phase == 1 and any(begin <= hours < end for begin, end in _SAGS):
                volts -= 27.0
            voltages.append(float(volts))
            currents.append(1000.0 * math.hypot(active, reactive) / 3.0 / float(volts) * ratio)
        distorted = (3.4 if saws else 1.9) + 0.1 * float(self._noise.standard_normal())
        middle = sum(voltages) / 3.0
        found = {
            "power.active": active * ratio, "power.reactive": reactive * ratio,
            "frequency": 50.0 + 0.008 * float(self._noise.standard_normal()),
            "unbalance": 100.0 * max(abs(u - middle) for u in voltages) / middle,
        }  # fmt: skip
        for p in range(3):
            found[f"voltage.{p + 1}"] = voltages[p]
            found[f"current.{p + 1}"] = currents[p]
            found[f"distortion.{p + 1}"] = distorted
            found[f"angle.voltage.{p + 1}"] = 120.0 if p == 2 else -120.0 * p
            lag = math.degrees(math.atan2(reactive, active))
            found[f"angle.current.{p + 1}"] = (-120.0 * p - lag + 180.0) % 360.0 - 180.0
        return found
