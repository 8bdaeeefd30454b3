"""The time, as everything that happens over time is given it: so that tests need not wait."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime


@dataclass(frozen=True, slots=True)
class Clock:
    """Where the time comes from.

    Attributes
    ----------
    now : callable
        The time of day, with its zone.
    monotonic : callable
        Seconds on a clock that does not go back.
    wait : callable
        Waits for a number of seconds.

    """

    now: Callable[[], datetime] = lambda: datetime.now(UTC)
    monotonic: Callable[[], float] = time.monotonic
    wait: Callable[[float], None] = time.sleep

    def __repr__(self) -> str:
        return "<Clock>" if self is not REAL_TIME else "<Clock: real time>"


_SET_S = 5.0  # a clock that is set jumps further; what keeps it right moves it by less


class SteadyTime:
    """Times of day in s since 1970-01-01 UTC that run as evenly as the time since start.

    A clock that is kept right by a time server is moved by small steps, back as well; what works by time
    must not see those. A clock that is set by hand is followed.
    """

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._begin_s = clock.now().timestamp() - clock.monotonic()

    def now(self) -> float:
        """The time now."""
        found = self._begin_s + self._clock.monotonic()
        shown = self._clock.now().timestamp()
        if abs(shown - found) > _SET_S:
            self._begin_s += shown - found
            return shown
        return found


REAL_TIME = Clock()
