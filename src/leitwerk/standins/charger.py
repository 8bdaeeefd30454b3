"""The simulated battery charge controller of the valley station."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.standins.firmware import Firmware, Profile

_MISSING_C = 25.0  # what it shows, and computes with, when its temperature sensor is missing
_NIGHT_S = 43_200.0  # half a day


class Charger(Firmware):
    """A charge controller in factory condition; its settings count as soon as they are written."""

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        clock: Callable[[], float],
        *,
        sensor_missing: bool = False,
        seed: int = 5,
        **more: Any,
    ) -> None:
        super().__init__(datasheet, profile, clock, **more)
        self.sensor_missing = sensor_missing
        self._noise = np.random.default_rng(seed)

    def measured(self) -> dict[str, Stored]:
        """The battery in the middle of a clear day, charged up to where its settings say."""
        wander = float(self._noise.standard_normal())
        day = math.cos(2.0 * math.pi * self.clock() / (2.0 * _NIGHT_S))
        ceiling = float(self.setting("charge.absorption"))
        voltage = min(ceiling, 13.2 + 0.01 * wander)
        return {
            "battery.voltage": voltage,
            "battery.current": 2.4 * max(0.0, day) + 0.02 * wander,
            "panel.voltage": 18.6 + 0.05 * wander,
            "battery.temperature": _MISSING_C if self.sensor_missing else 8.4 + 0.05 * wander,
            "energy.total": 70_123.4,
            "charging": "on" if voltage < ceiling else "absorbing",
        }
