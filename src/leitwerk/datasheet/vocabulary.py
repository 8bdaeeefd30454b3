"""The names of points that code looks for in a datasheet."""

from __future__ import annotations

# The unit identifier of a device on its bus, among its settings.
BUS_UNIT = "bus.unit"
