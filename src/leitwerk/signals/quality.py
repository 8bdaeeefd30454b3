"""Why a value can be trusted, or cannot."""

from __future__ import annotations

import enum


class Quality(enum.IntEnum):
    """Travels beside every value, in an array of the same shape (dtype uint8)."""

    GOOD = 0
    BELOW_RANGE = 1
    ABOVE_RANGE = 2
    OPEN_SENSOR = 3
    NOT_IN_USE = 4
    UNKNOWN = 5

    @property
    def is_good(self) -> bool:
        """Whether the value beside it may be used."""
        return self is Quality.GOOD

    @property
    def reason(self) -> str:
        """What makes the value bad, in words; ``good`` when nothing does."""
        return _REASONS[self]


_REASONS = {
    Quality.GOOD: "good",
    Quality.BELOW_RANGE: "below range",
    Quality.ABOVE_RANGE: "above range",
    Quality.OPEN_SENSOR: "open sensor",
    Quality.NOT_IN_USE: "input not in use",
    Quality.UNKNOWN: "unknown state",
}
