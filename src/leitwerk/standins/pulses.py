"""An input of the simulated logger that takes pulses: it counts them, and measures how fast they come."""

from __future__ import annotations

import math
from dataclasses import dataclass

from leitwerk.signals.quality import Quality

_SIZE = 65_536  # behind 65535, the counter is 0 again
_DUTY = 0.5  # a pulse is high for half of its period
_STEP_MS = 0.001  # of its clock


@dataclass(frozen=True, slots=True)
class PulseSettings:
    """What the registers of an input say: times in s."""

    gate_s: float
    filter_s: float
    is_lost: bool
    missing_after_s: float


class PulseInput:
    """Pulses that come in, followed from scan to scan."""

    def __init__(self) -> None:
        self._at_s = math.nan
        self._pulses = 0.0
        self._last_pulse_s = -math.inf
        self._shown_hz = 0.0

    def look(self, frequency_hz: float | None, now_s: float, settings: PulseSettings) -> None:
        """Follow what came since the last look; None where nothing is wired."""
        seen = frequency_hz or 0.0
        if seen and _DUTY / seen < settings.filter_s:
            seen = 0.0  # too short to pass the filter
        passed = 0.0 if math.isnan(self._at_s) else max(0.0, now_s - self._at_s)
        self._at_s = now_s
        self._pulses += seen * passed
        if seen > 0.0:
            # It sees whole pulses only: within a gate, their number; slower ones, their period.
            per_gate = seen * settings.gate_s
            self._shown_hz = math.floor(per_gate) / settings.gate_s if per_gate >= 1.0 else seen
            self._last_pulse_s = now_s

    @property
    def count(self) -> float:
        """The pulses since it was switched on, as its counter shows them."""
        return float(math.floor(self._pulses) % _SIZE)

    def measured(self, quantity: str, settings: PulseSettings) -> tuple[float, Quality]:
        """The frequency in Hz, or the period or the width of a pulse in ms, and what it is worth.

        Without pulses the frequency is 0, the period longer than any, and the width 0.
        """
        if self._at_s - self._last_pulse_s >= settings.missing_after_s or not self._shown_hz:
            shown = math.inf if quantity == "period" else 0.0
            return shown, Quality.OPEN_SENSOR if settings.is_lost else Quality.GOOD
        if quantity == "frequency":
            return self._shown_hz, Quality.GOOD
        period_ms = _STEP_MS * round(1e3 / self._shown_hz / _STEP_MS)
        return period_ms * (_DUTY if quantity == "pulse width" else 1.0), Quality.GOOD
