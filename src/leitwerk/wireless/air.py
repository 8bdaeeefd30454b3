"""What is in the air: each transmitter that was heard, over which way, how often, and what is odd."""

from __future__ import annotations

import math
from collections import Counter, deque
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from leitwerk.wireless.telegrams import Telegram

_COPY_S = 2.0  # the same telegram again within this time came over another way
_OVERDUE = 4.0  # of its usual interval: then it counts as silent
_LEAST_TIMES = 3  # until its interval is known
_INTERVALS = 16
_COUNTS = 256  # a count of telegrams begins anew behind 255
MOST_TRANSMITTERS = 10_000  # that are remembered; further ones are counted only


@dataclass
class HeardTransmitter:
    """One transmitter as it was heard. Times are in s on a clock that never goes back."""

    number: int
    first_s: float
    last_s: float
    last: Telegram
    times: int = 0
    copies: int = 0
    missed: int = 0
    ways: Counter[str] = field(default_factory=Counter)
    relays: Counter[int] = field(default_factory=Counter)
    _intervals: deque[float] = field(default_factory=lambda: deque(maxlen=_INTERVALS))

    @property
    def interval_s(self) -> float:
        """How often it transmits: the median of the last intervals; NaN until it was heard some times."""
        known = sorted(self._intervals)
        return known[len(known) // 2] if len(known) >= _LEAST_TIMES - 1 else math.nan

    def is_silent(self, now_s: float) -> bool:
        """Whether it is overdue against its own interval."""
        return now_s - self.last_s > _OVERDUE * self.interval_s

    def take(self, time_s: float, telegram: Telegram) -> bool:
        """Take a telegram of it; whether it is another one, and no copy over another way."""
        self.relays[telegram.relay] += 1
        is_copy = (
            self.times > 0
            and telegram.counter is not None
            and telegram.counter == self.last.counter
            and time_s - self.last_s < _COPY_S
        )
        if is_copy:
            self.copies += 1
            return False
        if self.times:
            self._intervals.append(time_s - self.last_s)
            if telegram.counter is not None and self.last.counter is not None:
                self.missed += max(0, (telegram.counter - self.last.counter) % _COUNTS - 1)
        self.times += 1
        self.ways[telegram.way] += 1
        self.last_s, self.last = time_s, telegram
        return True

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
    """All transmitters that are heard."""

    def __init__(self) -> None:
        self.heard: dict[int, HeardTransmitter] = {}
        self.not_remembered = 0

    def take(self, time_s: float, telegram: Telegram) -> HeardTransmitter | None:
        """Take a telegram; the transmitter, None where there are too many to remember."""
        one = self.heard.get(telegram.number)
        if one is None:
            if len(self.heard) >= MOST_TRANSMITTERS:
                self.not_remembered += 1
                return None
            one = HeardTransmitter(telegram.number, time_s, time_s, telegram)
            self.heard[telegram.number] = one
        one.take(time_s, telegram)
        return one


@dataclass(frozen=True, slots=True)
class AirLimits:
    """What is odd: a strength below ``weak``, in the unit of the receiver."""

    weak: float = -100.0
    unit: str = ""


def oddities(
    air: Air,
    bound: Mapping[int, str],
    now_s: float,
    limits: AirLimits | None = None,
    write: Callable[[int], str] = str,
) -> Iterator[tuple[str, str]]:
    """What is odd about bound transmitters and relays: its rule, and in words.

    Parameters
    ----------
    air : Air
    bound : mapping
        The transmitters that are bound, by number, with the name of each.
    now_s : float
    limits : AirLimits, optional
    write : callable
        How numbers are written.

    """
    held = limits or AirLimits()
    for number, name in bound.items():
        one, who = air.heard.get(number), f"{name} ({write(number)})"
        if one is None:
            yield "not-heard", f"{who} was not heard"
            continue
        if one.is_silent(now_s):
            yield (
                "silent",
                f"{who} is silent for {now_s - one.last_s:.0f} s; it transmits every {one.interval_s:.0f} s",
            )
        if one.last.battery_low:
            yield "low-battery", f"{who} has a low battery"
        if one.last.strength is not None and one.last.strength < held.weak:
            text = f"{who} is weak: {one.last.strength:g} {held.unit}".rstrip()
            yield "weak", f"{text}, at least {held.weak:g} {held.unit}".rstrip() + " is good"
    yield from _relays(air, write)


def _relays(air: Air, write: Callable[[int], str]) -> Iterator[tuple[str, str]]:
    """Relays that double what is heard without them, and those that repeat each other's telegrams."""
    for relay in sorted({r for one in air.heard.values() for r in one.relays if r}):
        over = [one for one in air.heard.values() if one.relays[relay]]
        also_direct = [one for one in over if one.relays[0] >= one.relays[relay]]
        if len(over) >= _LEAST_TIMES and len(also_direct) == len(over):
            text = f"relay {relay} doubles the traffic: all {len(over)} transmitters over it"
            yield "relay-doubles", f"{text} are heard directly, too"
    for one in air.heard.values():
        if one.copies > 3 * max(1, one.times):
            times = f"{1 + one.copies / max(1, one.times):.0f} times"
            text = f"each telegram of {write(one.number)} comes {times}"
            yield "relays-repeat", f"{text}: do relays repeat each other?"
