"""Short circuits between lines, found by driving patterns and reading back what each line shows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

GROUND, SUPPLY = "ground", "supply"


@dataclass(frozen=True, slots=True)
class Pattern:
    """One pattern: the lines that were driven high, all others being low; and which lines read high."""

    driven: frozenset[str]
    high: frozenset[str]


@dataclass(frozen=True, slots=True)
class Short:
    """Two lines that are connected, or a line and ``ground`` or ``supply``."""

    line: str
    to: str

    def __str__(self) -> str:
        return f"{self.line} shorted to {self.to}"


def patterns_for(lines: Sequence[str]) -> tuple[frozenset[str], ...]:
    """The patterns that tell all shorts apart: none driven, all driven, each line alone.

    None driven shows what is tied to the supply, all driven what is tied to ground, and a line alone what is
    tied to it.
    """
    return frozenset(), frozenset(lines), *(frozenset([line]) for line in lines)


def find_shorts(lines: Sequence[str], seen: Sequence[Pattern]) -> tuple[Short, ...]:
    """The shorts that patterns show.

    Each line is read through a weak resistor to ground while it is not driven: one that is tied to a driven
    line reads high. A driven line that reads low is held by ground; one that reads high while nothing is
    driven, by the supply.

    Parameters
    ----------
    lines : sequence of str
    seen : sequence of Pattern
        What came of ``patterns_for(lines)``, in any order.

    Examples
    --------
    >>> seen = [Pattern(driven, driven) for driven in patterns_for("abc")]
    >>> find_shorts("abc", seen)
    ()

    """
    tied: dict[str, str] = {}
    for pattern in seen:
        if not pattern.driven:
            tied |= dict.fromkeys(sorted(pattern.high), SUPPLY)
    for pattern in seen:
        held = pattern.driven - pattern.high
        tied |= dict.fromkeys(sorted(held - tied.keys()), GROUND)
    found = [Short(line, tied[line]) for line in lines if line in tied]
    pairs: set[tuple[str, str]] = set()
    place = {line: k for k, line in enumerate(lines)}
    for pattern in seen:
        if len(pattern.driven) != 1:
            continue
        (driver,) = pattern.driven
        for other in pattern.high - pattern.driven - tied.keys():
            one, two = sorted((driver, other), key=place.__getitem__)
            pairs.add((one, two))
    order = sorted(pairs, key=lambda pair: (place[pair[0]], place[pair[1]]))
    return (*found, *(Short(one, other) for one, other in order))


def read_pattern(driven: frozenset[str], levels: Mapping[str, bool]) -> Pattern:
    """A pattern with what was read: whether each line is high."""
    return Pattern(driven, frozenset(line for line, is_high in levels.items() if is_high))
