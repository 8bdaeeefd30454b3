"""The states of an alarm and what operators do to it, in the words of ISA-18.2 (IEC 62682)."""

from __future__ import annotations

import enum
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.parsing.frames import like

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


class Level(enum.IntEnum):
    """The state of the process for one alarm, without regard to operators."""

    NORMAL = 0
    PENDING = 1  # the condition holds, and its delay runs
    TRIPPED = 2
    OFF = 3  # not watched now, as its own condition says


class State(enum.IntEnum):
    """The state of an alarm: those of ISA-18.2, and ``PENDING``, which is normal there."""

    NORMAL = 0
    PENDING = 1
    UNACKNOWLEDGED = 2
    ACKNOWLEDGED = 3
    RETURNED = 4  # return to normal, unacknowledged
    LATCHED = 5  # the condition has gone, unacknowledged
    LATCHED_ACKNOWLEDGED = 6
    SHELVED = 7
    SUPPRESSED = 8  # suppressed by design
    OUT_OF_SERVICE = 9

    @classmethod
    def describe(cls, codes: ArrayLike) -> NDArray[np.str_]:
        """The states that codes stand for, in words: an array of the same shape, or a Series."""
        every = np.array([_WORDS[state] for state in State])
        words: NDArray[np.str_] = every[np.asarray(codes, dtype=np.intp)]
        return like(codes, words)

    @property
    def words(self) -> str:
        """The state for people."""
        return _WORDS[self]

    @property
    def is_active(self) -> bool:
        """Whether the alarm has tripped and its condition has not cleared."""
        return self in {State.UNACKNOWLEDGED, State.ACKNOWLEDGED}


_WORDS = {
    State.NORMAL: "normal",
    State.PENDING: "pending",
    State.UNACKNOWLEDGED: "unacknowledged",
    State.ACKNOWLEDGED: "acknowledged",
    State.RETURNED: "returned, unacknowledged",
    State.LATCHED: "latched, unacknowledged",
    State.LATCHED_ACKNOWLEDGED: "latched, acknowledged",
    State.SHELVED: "shelved",
    State.SUPPRESSED: "suppressed",
    State.OUT_OF_SERVICE: "out of service",
}


class OperatorAction(enum.StrEnum):
    """What an operator does to an alarm."""

    ACKNOWLEDGE = "acknowledge"
    RESET = "reset"  # a latched alarm that is acknowledged and whose condition has gone
    SHELVE = "shelve"
    UNSHELVE = "unshelve"
    TAKE_OUT = "take out of service"
    PUT_BACK = "put back into service"


def state_table(*, latch: bool, acknowledge: bool) -> list[list[State]]:
    """The state for each level and marks, of an alarm that is neither shelved nor out of service.

    Marks are 2 for unacknowledged and 1 for latched, added. Both begin with a trip; ``latch`` and
    ``acknowledge`` of the alarm's definition say whether they count once its condition has gone.
    """

    def state(level: Level, marks: int) -> State:
        unacknowledged, latched = marks >= 2, marks % 2 == 1
        if level is Level.OFF:
            return State.SUPPRESSED
        if level is Level.TRIPPED:
            return State.UNACKNOWLEDGED if unacknowledged else State.ACKNOWLEDGED
        if latch and latched:
            return State.LATCHED if unacknowledged else State.LATCHED_ACKNOWLEDGED
        return State.RETURNED if acknowledge and unacknowledged else State(level)

    return [[state(level, marks) for marks in range(4)] for level in Level]


@dataclass(frozen=True, slots=True)
class TimedAction:
    """What an operator did, before the sample with this number; ``until_s`` ends a shelving."""

    sample: int
    action: OperatorAction
    until_s: float = 0.0


@dataclass(frozen=True, slots=True)
class Acknowledgement:
    """What has to be remembered of what people did and have to do.

    ``unacknowledged`` and ``latched`` begin with a trip. Out of service counts more than shelved,
    and that more than suppressed.
    """

    unacknowledged: bool = False
    latched: bool = False
    shelved_until_s: float | None = None
    out_of_service: bool = False

    @property
    def is_hidden(self) -> bool:
        """Whether the alarm is shelved or out of service."""
        return self.out_of_service or self.shelved_until_s is not None

    def after(self, timed: TimedAction, *, tripped: bool) -> Acknowledgement:
        """The standing after an act. One that does not fit the state changes nothing."""
        match timed.action:
            case OperatorAction.ACKNOWLEDGE:
                return replace(self, unacknowledged=False)
            case OperatorAction.RESET:
                return self if tripped or self.unacknowledged else replace(self, latched=False)
            case OperatorAction.SHELVE:
                return replace(self, shelved_until_s=timed.until_s)
            case OperatorAction.TAKE_OUT:
                return replace(self, out_of_service=True)
            case OperatorAction.UNSHELVE:
                back = replace(self, shelved_until_s=None)
            case OperatorAction.PUT_BACK:
                back = replace(self, out_of_service=False)
        # What comes back into view is new to everybody when it is active, and else normal.
        return self if back == self else replace(back, unacknowledged=tripped, latched=tripped)
