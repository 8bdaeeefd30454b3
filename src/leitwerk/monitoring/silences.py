"""The times in which a device did not answer."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

_MOST = 1000  # of the newest are kept


@dataclass(frozen=True, slots=True)
class Silence:
    """A time in which the device did not answer, in s from the start; ``ended`` when it did again."""

    since_s: float
    until_s: float
    reason: str
    ended: bool

    def __str__(self) -> str:
        end = f"to {self.until_s:.1f} s" if self.ended else "on"
        return f"no answer from {self.since_s:.1f} s {end}: {self.reason}"


class Silences:
    """Collects them, from answers and missing answers."""

    def __init__(self) -> None:
        self._spans: deque[Silence] = deque(maxlen=_MOST)
        self._since_s: float | None = None
        self._last_s = 0.0
        self._why = ""

    def at(self, time_s: float, why: str) -> bool:
        """No answer at this time; whether the silence begins with it."""
        begins = self._since_s is None
        if self._since_s is None:
            self._since_s, self._why = time_s, why
        self._last_s = time_s
        return begins

    def over(self, time_s: float) -> None:
        """It answers again."""
        if self._since_s is not None:
            self._spans.append(Silence(self._since_s, time_s, self._why, ended=True))
            self._since_s = None

    def spans(self) -> tuple[Silence, ...]:
        """All of them, the last one perhaps without an end."""
        if self._since_s is None:
            return tuple(self._spans)
        return (*self._spans, Silence(self._since_s, self._last_s, self._why, ended=False))
