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


REAL_TIME = Clock()
