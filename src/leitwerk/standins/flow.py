"""The simulated level and flow transmitter over the mill race."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.vocabulary import (
    DRIVE_OUTPUT,
    FLUME_ANGLE,
    FLUME_COEFFICIENT,
    FLUME_EXPONENT,
    FLUME_LAW,
    FLUME_SIZE,
    FLUME_TABLE_FLOW,
    FLUME_TABLE_LEVEL,
    OUTPUT_HIGH,
    OUTPUT_LOW,
    OUTPUT_SHOWS,
    WATCHDOG_AFTER,
    WATCHDOG_THEN,
    KnownPoint,
)
from leitwerk.standins import flumes
from leitwerk.standins.firmware import Firmware

_TO_WATER_M = 1.24  # from the sensor's face to the water
_MISSING_C = 3276.7  # its code for a missing temperature sensor


class FlowTransmitter(Firmware):
    """A flow transmitter in factory condition: it measures the way to the water, and reckons."""

    def __init__(
        self, *args: Any, sensor_missing: bool = False, seed: int = 6, **more: Any
    ) -> None:
        super().__init__(*args, **more)
        self.sensor_missing = sensor_missing
        self._noise = np.random.default_rng(seed)
        self._heard_s = self.clock()
        self._acted = 0
        self._gives_up = False
        self._driven = {1: 0.0, 2: 0.0}

    def write(self, start: int, words: Sequence[int]) -> None:
        """As every device, and the currents that its outputs are driven to."""
        for n in self._driven:
            signal = self.written(DRIVE_OUTPUT, n, start, words)
            if signal is not None:
                self.require(self.datasheet.role)
                self._driven[n] = float(signal)
                return
        super().write(start, words)

    def tick(self) -> None:
        """What its watchdog has done while no request came."""
        after = self._number(WATCHDOG_AFTER)
        if after and self.clock() - self._heard_s > after:
            self._acted += 1
            self._gives_up = self.setting(WATCHDOG_THEN) == "outputs to 3.6 mA"
        else:
            self._gives_up = False
        self._heard_s = self.clock()

    def measured(self) -> dict[str, Stored]:
        """Level, flow and what its outputs make of them."""
        wander = float(self._noise.standard_normal())
        level = max(0.0, self._number("sensor.height") - _TO_WATER_M + 0.001 * wander)
        shown = {"level": level, "flow": self._flow(level)}
        return {
            "supply.voltage": 23.8,
            "watchdog.count": float(self._acted),
            "level": level,
            "flow": shown["flow"],
            "temperature": _MISSING_C if self.sensor_missing else 6.2 + 0.05 * wander,
            **{f"output.{n}": self._output(n, shown) for n in (1, 2)},
        }

    def _flow(self, level: float) -> float:
        """The flow in l/s, by the law that is set."""
        match self.setting(FLUME_LAW):
            case "parshall":
                return flumes.parshall(level, str(self.setting(FLUME_SIZE)))
            case "v-notch":
                return flumes.v_notch(level, self._number(FLUME_ANGLE))
            case "table":
                points = [
                    (
                        float(self.setting(FLUME_TABLE_LEVEL, k)),
                        float(self.setting(FLUME_TABLE_FLOW, k)),
                    )
                    for k in range(1, 11)
                ]
                return flumes.table(level, points)
        return flumes.power_law(
            level, self._number(FLUME_COEFFICIENT), self._number(FLUME_EXPONENT)
        )

    def _output(self, n: int, shown: dict[str, float]) -> float:
        if self._driven[n]:
            return self._driven[n]
        if self._gives_up:
            return 3.6
        low = float(self.setting(OUTPUT_LOW, n))
        high = float(self.setting(OUTPUT_HIGH, n))
        value = shown[str(self.setting(OUTPUT_SHOWS, n))]
        part = (value - low) / (high - low) if high != low else 0.0
        # NAMUR NE 43: a value beyond the span shows as 3.8 or 20.5 mA.
        return min(20.5, max(3.8, 4.0 + 16.0 * part))

    def _number(self, name: KnownPoint | str) -> float:
        return float(self.setting(name))
