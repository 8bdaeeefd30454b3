"""Why a value can be trusted, or cannot."""

from __future__ import annotations

import enum
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.parsing.frames import like

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


class Quality(enum.IntEnum):
    """Travels beside every value, in an array of the same shape (dtype uint8)."""

    GOOD = 0
    BELOW_RANGE = 1
    ABOVE_RANGE = 2
    OPEN_SENSOR = 3
    NOT_IN_USE = 4
    UNKNOWN = 5
    NO_NUMBER = 6
    AMBIGUOUS = 7
    FAILURE_LOW = 8
    FAILURE_HIGH = 9
    # Of values that are computed from others.
    BAD_INPUT = 10
    UNDEFINED = 11
    AT_REST = 12
    NO_STEP = 13
    NOT_YET = 14
    TOO_OLD = 15
    NO_ANSWER = 16
    # Below this line the value is shown, and may be off.
    UNDER_LIMIT = 32
    OVER_LIMIT = 33
    EXTRAPOLATED = 34
    OUTSIDE_SIGNAL = 35
    SUBMERGED = 36
    INCOMPLETE = 37
    FLAGGED = 38

    @classmethod
    def describe(cls, codes: ArrayLike) -> NDArray[np.str_]:
        """The reasons that codes stand for, in words: an array of the same shape, or a Series."""
        words: NDArray[np.str_] = np.array(_WORDS)[np.asarray(codes, dtype=np.intp)]
        return like(codes, words)

    @classmethod
    def has_value(cls, codes: ArrayLike) -> NDArray[np.bool_]:
        """Where there is a value: a good one, or one that may be off. Alarms see both."""
        found = np.asarray(codes)
        known: NDArray[np.bool_] = (found == cls.GOOD) | (found >= cls.UNDER_LIMIT)
        return known

    @property
    def is_good(self) -> bool:
        """Whether the value beside it may be used without reserve."""
        return self is Quality.GOOD

    @property
    def is_uncertain(self) -> bool:
        """Whether there is a value that may be off."""
        return self >= Quality.UNDER_LIMIT

    @property
    def reason(self) -> str:
        """What makes the value bad or uncertain, in words; ``good`` when nothing does."""
        return _REASONS[self]


_REASONS = {
    Quality.GOOD: "good",
    Quality.BELOW_RANGE: "below range",
    Quality.ABOVE_RANGE: "above range",
    Quality.OPEN_SENSOR: "open sensor",
    Quality.NOT_IN_USE: "input not in use",
    Quality.UNKNOWN: "unknown state",
    Quality.NO_NUMBER: "no number",
    Quality.AMBIGUOUS: "ambiguous",
    Quality.FAILURE_LOW: "sensor failure, low",
    Quality.FAILURE_HIGH: "sensor failure, high",
    Quality.BAD_INPUT: "an input has no value",
    Quality.UNDEFINED: "the formula has no value here",
    Quality.AT_REST: "at rest",
    Quality.NO_STEP: "no step fits",
    Quality.NOT_YET: "not enough samples yet",
    Quality.TOO_OLD: "an input is too old",
    Quality.NO_ANSWER: "no answer from the device",
    Quality.UNDER_LIMIT: "transmitter at its lower limit",
    Quality.OVER_LIMIT: "transmitter at its upper limit",
    Quality.EXTRAPOLATED: "extrapolated",
    Quality.OUTSIDE_SIGNAL: "outside the signal of the sensor",
    Quality.SUBMERGED: "submerged: the flow is less",
    Quality.INCOMPLETE: "incomplete: a gap is left out",
    Quality.FLAGGED: "flagged: an event fell into it",
}
# The same by code, with an empty text for codes that no quality has.
_BY_CODE = {int(quality): reason for quality, reason in _REASONS.items()}
_WORDS = [_BY_CODE.get(code, "") for code in range(max(Quality) + 1)]
QUALITY_BY_REASON = {reason: quality for quality, reason in _REASONS.items()}
