"""Which transmitter is the one in the hand: it is operated again and again, while others transmit."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import TypeAlias

Heard: TypeAlias = tuple[int, bool | None]  # a number, and whether its transmitter was operated
_HEARD = 0.9  # the chance that one that is operated is heard within its time
_SURE = 100.0  # so many times more likely than by chance, for each transmitter that is heard
_LEAST_HITS = 2


@dataclass(frozen=True, slots=True)
class Candidate:
    """A transmitter that may be the one: in how many of the times it was heard, and how sure that makes it.

    ``sure`` is the logarithm of how much more likely that is for the one in the hand than by chance.
    ``background`` is how often it is heard at other times, per s.
    """

    number: int
    hits: int
    sure: float
    background: float


@dataclass(frozen=True, slots=True)
class Singled:
    """What came of it: the one, or None; the candidates, the likeliest first; what to do next."""

    number: int | None
    candidates: tuple[Candidate, ...]
    step: str


@dataclass
class SinglingOut:
    """Gathers what is heard while the one is operated, and at other times.

    A transmitter is singled out when being heard each time, and hardly at others, is far more likely for the
    one in the hand than for one that transmits at any time: a sequential test of the likelihood ratio. By
    chance, another one reaches that at most once in a hundred tries, all transmitters together, and only if
    the right one is not heard.

    Parameters
    ----------
    says_operated : bool
        Whether telegrams say that their transmitter was operated: then those that were sent by themselves do
        not count.

    References
    ----------
    A. Wald, Sequential Tests of Statistical Hypotheses, Ann. Math. Statist. 16 (1945), 117-186.

    """

    says_operated: bool = False
    quiet_s: float = 0.0
    _quiet: Counter[int] = field(default_factory=Counter)
    _hits: Counter[int] = field(default_factory=Counter)
    _windows_s: list[float] = field(default_factory=list)

    @property
    def times(self) -> int:
        """How often it was operated."""
        return len(self._windows_s)

    def take_quiet(self, duration_s: float, heard: Iterable[Heard]) -> None:
        """What was heard while the one was not operated: numbers, as often as each, and whether operated."""
        self._quiet.update(self._counted(heard))
        self.quiet_s += duration_s

    def take_operated(self, duration_s: float, heard: Iterable[Heard]) -> None:
        """What was heard within the time in which the one was operated."""
        self._hits.update(set(self._counted(heard)))
        self._windows_s.append(duration_s)

    def _counted(self, heard: Iterable[Heard]) -> list[int]:
        return [number for number, operated in heard if operated or not self.says_operated]

    def result(self, names: Mapping[int, str] | None = None) -> Singled:
        """What is known now; ``names`` are what people call transmitters that are bound already."""
        shown = names or {}
        found = sorted(
            (self._candidate(number) for number in self._hits),
            key=lambda one: (-one.sure, one.number),
        )
        wanted = math.log(_SURE * max(1, len({*self._hits, *self._quiet})))
        if not found:
            return Singled(None, (), _nothing_heard(self.times))
        best, rest = found[0], found[1:]
        apart = best.sure - (rest[0].sure if rest else -math.inf)
        is_it = best.hits >= _LEAST_HITS and best.sure >= wanted and apart >= math.log(_SURE)
        likely = tuple(one for one in found if one.sure > best.sure - wanted and one.sure > 0.0)
        if is_it:
            return Singled(best.number, likely, "")
        return Singled(None, likely, self._step(likely, shown))

    def _candidate(self, number: int) -> Candidate:
        hits, others = self._hits[number], self._quiet[number]
        quiet_s = max(self.quiet_s, 1e-3)
        sure = (
            self._of_people(hits, others) if self.says_operated else self._of_rhythm(hits, others)
        )
        return Candidate(number, hits, sure, others / quiet_s)

    def _of_people(self, hits: int, others: int) -> float:
        """Against one that somebody else operates: as often as in the quiet time, and once more."""
        rate = (others + 1.0) / max(self.quiet_s, 1e-3)
        by_chance = [min(0.999, -math.expm1(-rate * window)) for window in self._windows_s]
        mean = sum(by_chance) / len(by_chance)
        missed = (self.times - hits) * math.log((1.0 - _HEARD) / (1.0 - mean))
        return hits * math.log(_HEARD / mean) + missed

    def _of_rhythm(self, hits: int, others: int) -> float:
        """Against one that transmits by itself: its telegrams fall into these times by their part of all.

        That holds whatever its rate is, which cannot be known from a few telegrams in a rhythm.
        """
        operated_s = sum(self._windows_s)
        part = operated_s / (operated_s + max(self.quiet_s, 1e-3))
        found = hits * math.log(_HEARD / part) + others * math.log((1.0 - _HEARD) / (1.0 - part))
        return found + (self.times - hits) * math.log(1.0 - _HEARD)

    def _step(self, likely: tuple[Candidate, ...], names: Mapping[int, str]) -> str:
        if not likely:
            return (
                "none was heard each time: operate it again, nearer to the receiver; does it have a battery, "
                "a send key, and the same group?"
            )
        if self.times < _LEAST_HITS or len(likely) == 1:
            return "operate it once more"
        often = [one for one in likely if one.background > 0.2]
        if len(often) == len(likely):
            return (
                "each of these transmits by itself all the time: take the battery out of the one in the hand "
                "for a while, and see which falls silent"
            )
        text = ", ".join(names.get(one.number, str(one.number)) for one in likely[:5])
        return f"operate it once more, while the others rest ({text})"


def _nothing_heard(times: int) -> str:
    if not times:
        return "operate it"
    return (
        "nothing was heard: operate its send key; is its battery good, is it in range, does it have a value "
        "on its display, is it of the same group?"
    )
