"""The simulated level meter for radio carriers: it measures what the rows of its table say."""

from __future__ import annotations

from typing import Any

import numpy as np

from leitwerk.datasheet.points import Stored
from leitwerk.standins.firmware import Firmware

_ROWS = 50
_RECEIVER_MHZ = (950.0, 2150.0)
_WIDTH_MHZ = 0.5  # how near it has to be tuned to see a carrier
# What is on the air above the valley: carriers in MHz, with their levels in dB above 1 µV.
_ON_AIR = {10738.0: 61.2, 11229.5: 57.8, 11954.0: 63.5, 12188.0: 59.1}
_NO_CARRIER = -3276.8  # its code for a row on which it finds nothing
_NOT_USED = 3276.7


class LevelMeter(Firmware):
    """A level meter in factory condition: none of its rows is in use."""

    def __init__(self, *args: Any, seed: int = 13, **more: Any) -> None:
        super().__init__(*args, **more)
        self._noise = np.random.default_rng(seed)

    def measured(self) -> dict[str, Stored]:
        """Level and intermediate frequency of each row."""
        shown: dict[str, Stored] = {"supply.voltage": 12.1}
        used = 0
        for k in range(1, _ROWS + 1):
            level, intermediate = self._row(k)
            used += level != _NOT_USED
            shown[f"carrier.{k}.level"] = level
            shown[f"carrier.{k}.intermediate"] = intermediate
        return shown | {"rows.used": float(used)}

    def _row(self, k: int) -> tuple[float, float]:
        if self.setting(f"carrier.{k}.use") != "on":
            return _NOT_USED, 0.0
        tuned = float(self.setting(f"carrier.{k}.frequency"))
        is_high = self.setting(f"carrier.{k}.tone") == "on"
        oscillator = float(self.setting("oscillator.high" if is_high else "oscillator.low"))
        difference = abs(tuned - oscillator)
        if not _RECEIVER_MHZ[0] <= difference <= _RECEIVER_MHZ[1]:
            return _NO_CARRIER, 0.0
        for carrier, level in _ON_AIR.items():
            if abs(carrier - tuned) <= _WIDTH_MHZ:
                return level + 0.1 * float(self._noise.standard_normal()), difference
        return _NO_CARRIER, difference
