"""The simulated battery charge controller of the valley station."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.evaluation.course import Course
from leitwerk.standins.firmware import Firmware, Profile

BATTERY_SPOT = "battery_temperature"  # what a course can drive
_MISSING_C = 25.0  # what it shows, and computes with, when its temperature sensor is missing
_NIGHT_S = 43_200.0  # half a day
_USUAL_C = 8.4
_REST_V = 12.9  # of a battery that is not charged
_MARGIN_K = 2.0  # how far inside its limits it has to be before charging goes on


class Charger(Firmware):
    """A charge controller in factory condition; its settings count as soon as they are written."""

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        clock: Callable[[], float],
        *,
        sensor_missing: bool = False,
        course: Course | None = None,
        seed: int = 5,
        **more: Any,
    ) -> None:
        super().__init__(datasheet, profile, clock, **more)
        self.sensor_missing, self.course = sensor_missing, course
        self._begins_s = clock()
        self._fits = self._charges = True
        self._noise = np.random.default_rng(seed)

    def tick(self) -> None:
        """Whether it charges: it stops by temperature and by voltage, and goes on later."""
        coldest, hottest = (float(self.setting(f"charge.{end}")) for end in ("coldest", "hottest"))
        margin = 0.0 if self._fits else _MARGIN_K
        self._fits = coldest + margin <= self.temperature() <= hottest - margin
        # A cut-off below the voltage of a battery that rests ends charging at once.
        self._charges = self._fits and float(self.setting("charge.cutoff")) > _REST_V

    def temperature(self) -> float:
        """Of the battery, in °C, as its sensor shows it."""
        if self.sensor_missing:
            return _MISSING_C
        if self.course is None:
            return _USUAL_C
        since = np.array([max(0.0, self.clock() - self._begins_s)])
        return float(self.course.at(since)[0])

    def measured(self) -> dict[str, Stored]:
        """The battery on a clear day, charged up to where its settings say."""
        wander = float(self._noise.standard_normal())
        day = math.cos(2.0 * math.pi * self.clock() / (2.0 * _NIGHT_S))
        ceiling = float(self.setting("charge.absorption"))
        voltage = min(ceiling, 13.2 + 0.01 * wander) if self._charges else _REST_V
        state = "on" if voltage < ceiling else "absorbing"
        if not self._charges:
            state = "off" if self._fits else "too cold or hot"
        return {
            "battery.voltage": voltage,
            "battery.current": (2.4 * max(0.0, day) + 0.02 * wander) * self._charges,
            "panel.voltage": 18.6 + 0.05 * wander,
            "battery.temperature": self.temperature()
            + (0.0 if self.sensor_missing else 0.05 * wander),
            "energy.total": 70_123.4,
            "charging": state,
        }
