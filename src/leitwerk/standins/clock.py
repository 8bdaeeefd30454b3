"""The clock of a simulated device: it has been set once, and runs on."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

CLOCK_FORM = "%Y-%m-%d %H:%M:%S"


def _wall() -> datetime:
    return datetime.now()  # noqa: DTZ005 - such a clock knows no zone


def utc_wall() -> datetime:
    """The time in UTC, for a device whose clock shows that."""
    return datetime.now(UTC).replace(tzinfo=None)


class DeviceClock:
    """``ahead_s`` is how much it is fast, in s."""

    def __init__(self, wall: Callable[[], datetime] = _wall, ahead_s: float = 0.0) -> None:
        self._wall = wall
        self._ahead = timedelta(seconds=ahead_s)

    def text(self) -> str:
        """What it shows, such as ``2026-03-02 08:40:00``."""
        return (self._wall() + self._ahead).strftime(CLOCK_FORM)

    def set(self, text: str) -> None:
        """Set it; a ValueError when the text is not a time."""
        self._ahead = datetime.strptime(text, CLOCK_FORM) - self._wall()  # noqa: DTZ007
