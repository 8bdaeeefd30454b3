"""The simulated transmitters around the saw: callipers, gauges, switches and gates, relays, strangers."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from leitwerk.wireless.ids import with_check_digit
from leitwerk.wireless.telegrams import TelegramFormat

_KINDS = ("calliper", "gauge", "switch", "gate")
_EVERY_S = {"calliper": 30.0, "gauge": 8.0, "switch": 60.0, "gate": 45.0}
_AIR_S = 0.004  # how long a telegram takes: two at the same time disturb each other
_RELAY_S = 0.03  # after which a relay repeats what it hears
_OFF_S = 1e9


@dataclass
class Transmitter:
    """One transmitter. ``relays`` are those that repeat it; ``direct`` is whether it is heard without one.

    ``hops`` is how many relays its telegrams pass until they arrive, where they pass relays.
    """

    number: int
    kind: str
    every_s: float
    strength: int
    value: float = 0.0
    battery_low: bool = False
    direct: bool = True
    relays: tuple[int, ...] = ()
    hops: int = 1
    next_s: float = 0.0
    count: int = 0
    operated_s: list[float] = field(default_factory=list)


class World:
    """All transmitters in the air of one receiver, in an order of time that a seed gives.

    With ``relays_repeat``, relays repeat also what they hear from each other.

    Parameters
    ----------
    form : TelegramFormat
    seed : int
    count : int
        How many there are.
    strangers : int
        How many more there are in the neighbourhood; the last one sends the number of a switch.
    relays : int
        How many relays repeat some of them.
    collisions : bool
        Whether telegrams at the same time disturb each other.

    """

    def __init__(
        self,
        form: TelegramFormat,
        seed: int,
        *,
        count: int = 40,
        strangers: int = 4,
        relays: int = 2,
        collisions: bool = True,
    ) -> None:
        self.form, self._collisions = form, collisions
        self.random = np.random.default_rng(seed)
        numbers = self.random.choice(9_000_000, size=count, replace=False) + 1_000_000
        self.every = [
            self._made(with_check_digit(int(n)), k, relays) for k, n in enumerate(numbers)
        ]
        self._meet(strangers, seed)
        self.relays_repeat = False
        self.now_s = 0.0

    def _meet(self, strangers: int, seed: int) -> None:
        """Further transmitters, that are the neighbours'."""
        random = np.random.default_rng(seed + 1000)
        for k, number in enumerate(random.integers(1_000_000, 9_000_000, strangers)):
            one = Transmitter(
                with_check_digit(int(number)), "gauge", float(random.uniform(10.0, 40.0)), -90,
                value=round(float(random.uniform(5.0, 60.0)), 2), count=100,
                next_s=float(random.uniform(0.0, 40.0)),
            )  # fmt: skip
            if k == strangers - 1:
                one.number = next(
                    (own.number for own in self.every if own.kind == "switch"), one.number
                )
            self.every.append(one)

    def _made(self, number: int, k: int, relays: int) -> Transmitter:
        kind = _KINDS[k % len(_KINDS)]
        random = self.random
        over = (1 + k % relays,) if relays and k % 3 == 0 else ()
        every = _EVERY_S[kind] * float(random.uniform(0.8, 1.25))
        return Transmitter(
            number, kind, every, int(random.integers(-98, -45)),
            value=round(float(random.uniform(5.0, 60.0)), 2) if kind in {"calliper", "gauge"} else 0.0,
            battery_low=k % 13 == 5, direct=not over or k % 2 == 0, relays=over,
            hops=2 if over and k % 12 == 9 else 1,
            next_s=float(random.uniform(0.0, every)),
        )  # fmt: skip

    def find(self, number: int) -> Transmitter | None:
        """A transmitter by its number."""
        return next((one for one in self.every if one.number == number), None)

    def operate(self, number: int, at_s: float) -> bool:
        """Press its send key at a time; whether there is such a one."""
        one = self.find(number)
        if one is None:
            return False
        one.operated_s.append(at_s)
        return True

    def until(self, until_s: float) -> Iterator[tuple[float, bytes]]:
        """What the receiver gets up to a time: each telegram with its time, disturbed ones as they are."""
        sent = []
        for one in self.every:
            while one.next_s < until_s:
                sent += self._send(one, one.next_s, operated=False)
                one.next_s += one.every_s * float(self.random.uniform(0.95, 1.05))
            due = [at for at in one.operated_s if at < until_s]
            one.operated_s = [at for at in one.operated_s if at >= until_s]
            for at in due:
                sent += self._send(one, at, operated=True)
        self.now_s = until_s
        sent.sort(key=lambda entry: entry[0])
        for k, (at, frame) in enumerate(sent):
            near = [
                sent[n][0]
                for n in (k - 1, k + 1)
                if 0 <= n < len(sent) and abs(sent[n][0] - at) < _AIR_S
            ]
            yield at, self._spoiled(frame) if near and self._collisions else frame

    def _spoiled(self, frame: bytes) -> bytes:
        """A telegram that another one has disturbed."""
        found = bytearray(frame)
        found[int(self.random.integers(2, len(frame)))] ^= int(self.random.integers(1, 256))
        return bytes(found)

    def _send(self, one: Transmitter, at_s: float, *, operated: bool) -> list[tuple[float, bytes]]:
        one.count = (one.count + 1) % 256
        if operated and one.kind in {"switch", "gate"}:
            one.value = 1.0 - one.value
        ways = [(0, 0)] if one.direct else []
        ways += [(one.hops, relay) for relay in one.relays]
        if self.relays_repeat:
            ways += [(2, relay) for relay in one.relays for _ in range(2)]
        step = self.form.values[one.kind].step
        return [
            (
                at_s + turn * _RELAY_S,
                self.form.encode(
                    {
                        "number": one.number, "battery_low": one.battery_low, "operated": operated,
                        "way": way, "relay": relay, "strength": one.strength, "count": one.count,
                    },
                    one.kind,
                    round(one.value / step) if step else one.value,
                ),
            )
            for turn, (way, relay) in enumerate(ways)
        ]  # fmt: skip
