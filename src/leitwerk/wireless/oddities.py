"""What is odd in the air: silent and weak transmitters, low batteries, numbers sent by two, relays."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from leitwerk.wireless.air import Air, HeardTransmitter, PathCount

_LEAST_TELEGRAMS = 10  # over a relay, until something is said of it
_NEARLY_ALL = 0.9
_SOME = 0.1
_LEAST_AGAIN = 3
_LEAST_BACKWARDS = 2  # once, a new battery may have been put in


class Oddity(NamedTuple):
    """Something that is odd: its rule, and in words."""

    rule: str
    message: str


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
) -> Iterator[Oddity]:
    """What is odd about bound transmitters, and about relays.

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
    for number, name in bound.items():
        one = air.heard.get(number)
        if one is not None:
            yield from _of_one(one, f"{name} ({write(number)})", now_s, limits or AirLimits())
    yield from _of_relays(air)


def _of_one(one: HeardTransmitter, who: str, now_s: float, limits: AirLimits) -> Iterator[Oddity]:
    if one.is_silent(now_s):
        age_s = now_s - one.last_s
        yield Oddity(
            "silent",
            f"{who} is silent for {age_s:.0f} s; it transmits every {one.interval_s:.0f} s",
        )
    if one.last.battery_low:
        yield Oddity("low-battery", f"{who} has a low battery")
    strength = one.last.strength
    if strength is not None and strength < limits.weak:
        seen, good = (f"{level:g} {limits.unit}".rstrip() for level in (strength, limits.weak))
        yield Oddity("weak", f"{who} is weak: {seen}, at least {good} is good")
    if len(one.kinds) > 1 or one.backwards >= _LEAST_BACKWARDS:
        why = (
            f"it is {' and '.join(sorted(one.kinds))}"
            if len(one.kinds) > 1
            else f"its count of telegrams went back {one.backwards} times"
        )
        yield Oddity("two-of-one-number", f"two transmitters send the number of {who}: {why}")


def _of_relays(air: Air) -> Iterator[Oddity]:
    """Relays without which all of it is heard, and relays that repeat each other's telegrams."""
    for relay in sorted({path.relay for one in air.heard.values() for path in one.paths} - {0}):
        over = [found for one in air.heard.values() if (found := _counts_over(one, relay))]
        every = [count for counts in over for count in counts]
        times = sum(count.times for count in every)
        shared = sum(count.shared for count in every)
        again = sum(count.again for count in every)
        needed = [count for count in every if count.times >= 2 and not count.shared]
        if times >= _LEAST_TELEGRAMS and shared >= _NEARLY_ALL * times and not needed:
            yield Oddity(
                "relay-doubles",
                f"relay {relay} doubles the traffic: {shared} of {times} telegrams over it came without it, "
                f"too ({len(over)} transmitters)",
            )
        if again >= max(_LEAST_AGAIN, _SOME * times):
            yield Oddity(
                "relays-repeat",
                f"relay {relay} repeats what it has sent ({again} telegrams beside {times}): relays repeat "
                f"each other's telegrams",
            )


def _counts_over(one: HeardTransmitter, relay: int) -> list[PathCount]:
    return [count for path, count in one.paths.items() if path.relay == relay]
