"""The simulated touch-button board in the operator panel of the saw."""

from __future__ import annotations

from typing import Any

import numpy as np

from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.standins.firmware import Firmware

_IDLE = 212  # counts of a button that is not touched


class Panel(Firmware):
    """A touch-button board in factory condition; ``burn`` gives it a program."""

    def __init__(self, *args: Any, seed: int = 9, **more: Any) -> None:
        super().__init__(*args, **more)
        self._noise = np.random.default_rng(seed)

    def burn(self, settings: DeviceSettings) -> None:
        """Take the settings of a program, as a board does that starts with it."""
        for name, value in settings.values.items():
            self._set(self._settings[name], value)

    def measured(self) -> dict[str, Stored]:
        """Supply, and what each button senses."""
        signals = _IDLE + 3.0 * self._noise.standard_normal(6)
        return {
            "supply.voltage": 5.02,
            **{f"button.{n}.signal": float(s) for n, s in enumerate(signals, start=1)},
        }
