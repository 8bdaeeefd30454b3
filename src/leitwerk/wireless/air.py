"""What is in the air: each transmitter that was heard, over which paths, how often, and what is odd."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from leitwerk.wireless.telegrams import Telegram

_COPY_S = 2.0  # the same telegram again within this time came over another path
_OVERDUE = 4.0  # of its usual interval: then it counts as silent
_LEAST_TIMES = 3  # until its interval is known
_LEAST_INTERVAL_S = 1.0
_INTERVALS = 16
COUNTS = 256  # a count of one byte begins anew behind 255
MOST_TRANSMITTERS = 10_000  # that are remembered; further ones are counted only
MOST_PATHS = 32  # of one transmitter that are remembered


class Path(NamedTuple):
    """How a telegram came: its way (direct, one relay, two), and the number of its last relay or 0."""

    way: str
    relay: int

    def __str__(self) -> str:
        return f"{self.way} ({self.relay})" if self.relay else self.way or "way not known"


@dataclass(slots=True)
class PathCount:
    """What came from one transmitter over one path.

    ``times`` counts its telegrams, ``shared`` those of them that came without this relay, too, and ``again``
    how often the same relay has sent a telegram before.
    """

    times: int = 0
    shared: int = 0
    again: int = 0


@dataclass
class HeardTransmitter:
    """One transmitter as it was heard. Times are in s on a clock that never goes back.

    ``times`` counts its telegrams without copies, ``missed`` those that its own count says were sent and not
    heard, ``backwards`` how often that count went back: two transmitters send the same number. The count
    begins anew behind ``counts`` telegrams.
    """

    number: int
    first_s: float
    last_s: float
    last: Telegram
    counts: int = COUNTS
    times: int = 0
    copies: int = 0
    missed: int = 0
    backwards: int = 0
    kinds: set[str] = field(default_factory=set)
    paths: dict[Path, PathCount] = field(default_factory=dict)
    _over: set[Path] = field(default_factory=set)  # the paths of the last telegram
    _shared: set[Path] = field(default_factory=set)  # those of them that are counted as shared
    _intervals: deque[float] = field(default_factory=lambda: deque(maxlen=_INTERVALS))

    @property
    def interval_s(self) -> float:
        """How often it transmits: the median of the last intervals; NaN until it was heard some times."""
        known = sorted(self._intervals)
        return known[len(known) // 2] if len(known) >= _LEAST_TIMES - 1 else math.nan

    def is_silent(self, now_s: float) -> bool:
        """Whether it is overdue against its own interval; not after a burst, which is no rhythm."""
        return now_s - self.last_s > _OVERDUE * max(self.interval_s, _LEAST_INTERVAL_S)

    def take(self, time_s: float, telegram: Telegram) -> bool:
        """Take a telegram of it; whether it is another one, and no copy over another path."""
        path = Path(telegram.way, telegram.relay)
        if self.times and time_s - self.last_s < _COPY_S and self._is_the_last(telegram, path):
            self.copies += 1
            self._count_path(path)
            return False
        if self.times:
            if not telegram.operated:  # what people do has no rhythm
                self._intervals.append(time_s - self.last_s)
            self._compare_counts(self.last.counter, telegram.counter)
        self.times += 1
        if len(self.kinds) < 2:
            self.kinds.add(telegram.kind)
        self._over.clear()
        self._shared.clear()
        self._count_path(path)
        self.last_s, self.last = time_s, telegram
        return True

    def _is_the_last(self, telegram: Telegram, path: Path) -> bool:
        """Whether this is the last telegram once more; without a count, only another path shows it."""
        last = self.last
        if telegram.kind != last.kind or telegram.value != last.value:
            return False
        if telegram.counter is None:
            return path not in self._over
        return telegram.counter == last.counter

    def _compare_counts(self, before: int | None, now: int | None) -> None:
        if before is None or now is None:
            return
        steps = (now - before) % self.counts
        if steps > self.counts // 2:
            self.backwards += 1
        else:
            self.missed += max(0, steps - 1)

    def _count_path(self, path: Path) -> None:
        """Count the last telegram at one more of its paths."""
        if path not in self.paths and len(self.paths) >= MOST_PATHS:
            return
        count = self.paths.setdefault(path, PathCount())
        if any(other.relay == path.relay for other in self._over):
            count.again += 1
        if path in self._over:
            return
        count.times += 1
        self._over.add(path)
        if any(other.relay != path.relay for other in self._over):
            for other in self._over - self._shared:
                self.paths[other].shared += 1
            self._shared |= self._over

    def to_dict(self, now_s: float) -> dict[str, Any]:
        """What is known of it as plain data for JSON."""
        every = self.interval_s
        return {
            "number": self.number, "kind": self.last.kind, "value": self.last.value,
            "strength": self.last.strength, "way": self.last.way, "relay": self.last.relay or None,
            "battery_low": self.last.battery_low, "times": self.times, "missed": self.missed,
            "copies": self.copies, "age_s": round(now_s - self.last_s, 3),
            "interval_s": None if math.isnan(every) else round(every, 3),
        }  # fmt: skip


class Air:
    """All transmitters that are heard; ``counts`` is how many telegrams they count until they begin anew."""

    def __init__(self, counts: int = COUNTS) -> None:
        self.counts = counts
        self.heard: dict[int, HeardTransmitter] = {}
        self.not_remembered = 0

    def take(self, time_s: float, telegram: Telegram) -> HeardTransmitter | None:
        """Take a telegram; the transmitter, None where there are too many to remember."""
        one = self.heard.get(telegram.number)
        if one is None:
            if len(self.heard) >= MOST_TRANSMITTERS:
                self.not_remembered += 1
                return None
            one = HeardTransmitter(telegram.number, time_s, time_s, telegram, self.counts)
            self.heard[telegram.number] = one
        one.take(time_s, telegram)
        return one
