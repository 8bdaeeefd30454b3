"""What an input measures of pulses, beside their count: words of setups and datasheets."""

from __future__ import annotations

FREQUENCY, PERIOD, PULSE_WIDTH = "frequency", "period", "pulse width"
PULSED = (FREQUENCY, PERIOD, PULSE_WIDTH)
