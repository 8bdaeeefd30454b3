"""Singling out the transmitter in the hand: listen, ask that it is operated, listen, decide."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from leitwerk.devices.listening import Listener
from leitwerk.wireless.singling_out import Heard, Singled, SinglingOut

_PAUSES = (0.5, 2.5)  # of the time to operate it


@dataclass(frozen=True, slots=True)
class Asking:
    """How to ask: how long to listen first, how long to wait each time, how often at most."""

    quiet_s: float = 30.0
    window_s: float = 4.0
    most: int = 8


def single_out(
    listener: Listener,
    asking: Asking,
    say: Callable[[str], None],
    names: Mapping[int, str] | None = None,
) -> Singled:
    """Which transmitter is the one in the hand; ``say`` gets what its user is to do, line by line.

    ``names`` are what people call transmitters that are bound already.
    """
    tries = SinglingOut(says_operated="operated" in listener.telegrams.form.further)
    say(f"listening for {asking.quiet_s:g} s: do not operate it yet")
    tries.take_quiet(asking.quiet_s, _heard(listener, asking.quiet_s))
    found = tries.result(names)
    for number in range(1, asking.most + 1):
        say(f"{number}: operate it now ({asking.window_s:g} s)")
        tries.take_operated(asking.window_s, _heard(listener, asking.window_s))
        found = tries.result(names)
        if found.number is not None:
            break
        say(f"   {found.step}")
        # A pause of any length: what transmits in a rhythm must not fit to it.
        pause_s = asking.window_s * random.uniform(*_PAUSES)  # noqa: S311 - no secret
        tries.take_quiet(pause_s, _heard(listener, pause_s))
    return found


def _heard(listener: Listener, duration_s: float) -> Iterator[Heard]:
    """The numbers that are heard within a time, each telegram once, and whether they were operated."""
    counts: dict[int, int | None] = {}
    for heard in listener.hear(duration_s):
        t = heard.telegram
        if t.counter is not None and counts.get(t.number) == t.counter:
            continue
        counts[t.number] = t.counter
        yield t.number, t.operated
