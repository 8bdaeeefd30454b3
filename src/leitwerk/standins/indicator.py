"""The simulated panel indicator of the kiln cabin: plain lines on a serial port."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np

from leitwerk.exchange.definition import Carried
from leitwerk.signals.linear import TwoPoint
from leitwerk.signals.quality import Quality
from leitwerk.standins.lines import LineDevice
from leitwerk.standins.pulses import PulseInput, PulseSettings
from leitwerk.standins.talking import Front, Talking

_PULSES_HZ = 48.0  # the fan of the kiln: 2 pulses for each turn
_CODES = {"unknown": 1, "value": 2, "locked": 3}


class Indicator(LineDevice):
    """A panel indicator in factory condition, wired to the kiln's humidity, its air, and its fan."""

    def __init__(
        self, *args: Any, seed: int = 4, now: Callable[[], float] = time.monotonic, **more: Any
    ) -> None:
        super().__init__(*args, **more)
        self._noise = np.random.default_rng(seed)
        self._now, self._pulses = now, PulseInput()
        self.front = Front({"input.1": 55.0, "input.2": 21.5}, _PULSES_HZ)
        self.talking = Talking(self.settings, self._carried, self._take_value, self.front)

    def readings(self, question: str) -> str | None:
        """Identity, clock, and both inputs in one line."""
        if question == "ID":
            return f"{self.profile.model},{self.profile.serial},{self.profile.firmware}"
        if question == "TIME":
            return self.clock.text()
        if question == "IN":
            return ",".join(f"{self._reading(f'input.{k}'):+.1f}" for k in (1, 2))
        if question == "PV":
            value, quality = self._pulse_value()
            return f"{value:.3f},{int(quality)}"
        return None

    def _pulse_value(self) -> tuple[float, Quality]:
        """What the pulse input shows, in its unit, to its decimals."""
        quantity = str(self.settings["channel.3.sensor"])
        if quantity == "off":
            return 0.0, Quality.NOT_IN_USE
        number = {
            name: float(self.settings[f"pulse.3.{name}"])
            for name in ("gate", "filter", "missing_after")
        }
        settings = PulseSettings(
            number["gate"],
            1e-3 * number["filter"],
            self.settings["pulse.3.missing"] == "lost",
            number["missing_after"],
        )
        self._pulses.look(self.front.pulses_hz, self._now(), settings)
        shown, quality = self._pulses.measured(quantity, settings)
        high = self.datasheet.inputs[quantity].ranges[-1].high
        if shown > high:
            shown, quality = high, Quality.ABOVE_RANGE
        ends = [
            float(self.settings[f"channel.3.scale.{end}"])
            for end in ("signal_low", "signal_high", "value_low", "value_high")
        ]
        value = float(TwoPoint(*ends).value(shown)) if ends[0] != ends[1] else 0.0
        return round(value, int(self.settings["channel.3.decimals"])), quality

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
