"""Dips, swells and interruptions counted by depth and duration, as EN 50160 classes them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from leitwerk.power.voltage_events import VoltageEvent

# EN 50160:2022, annex B: least residual voltage in % of the declared one, most duration in s.
DIP_DEPTHS = (("90 > u >= 80", 80.0), ("80 > u >= 70", 70.0), ("70 > u >= 40", 40.0), ("40 > u >= 5", 5.0),
              ("5 > u", 0.0))  # fmt: skip
DIP_TIMES = (
    ("to 0.2 s", 0.2),
    ("to 0.5 s", 0.5),
    ("to 1 s", 1.0),
    ("to 5 s", 5.0),
    ("to 60 s", 60.0),
)
SWELL_HEIGHTS = (("u >= 120", 120.0), ("120 > u > 110", 0.0))
SWELL_TIMES = (("to 0.5 s", 0.5), ("to 5 s", 5.0), ("to 60 s", 60.0))
LONGER = "longer"
_SHORT_INTERRUPTION_S = 180.0  # EN 50160:2022, 3: up to 3 min is a short one


@dataclass(frozen=True)
class EventTable:
    """How many events fell into each class: by depth or height, then by duration."""

    dips: Mapping[str, Mapping[str, int]]
    swells: Mapping[str, Mapping[str, int]]
    short_interruptions: int = 0
    long_interruptions: int = 0
    other: Mapping[str, int] = field(default_factory=dict)


def count_events(events: Iterable[VoltageEvent], declared_v: float) -> EventTable:
    """Count events by class. What is longer than a minute is counted apart, as *longer*.

    An interruption is a dip, too: it stands in both.
    """
    dips = {row: dict.fromkeys([*(t for t, _ in DIP_TIMES), LONGER], 0) for row, _ in DIP_DEPTHS}
    swells = {
        row: dict.fromkeys([*(t for t, _ in SWELL_TIMES), LONGER], 0) for row, _ in SWELL_HEIGHTS
    }
    gone, other = [0, 0], dict[str, int]()
    for event in events:
        part = 100.0 * event.extreme / declared_v
        if event.kind == "dip":
            dips[_row(part, DIP_DEPTHS)][_column(event.duration_s, DIP_TIMES)] += 1
        elif event.kind == "swell":
            swells[_row(part, SWELL_HEIGHTS)][_column(event.duration_s, SWELL_TIMES)] += 1
        elif event.kind == "interruption":
            gone[event.duration_s > _SHORT_INTERRUPTION_S] += 1
        else:
            other[event.kind] = other.get(event.kind, 0) + 1
    return EventTable(dips, swells, gone[0], gone[1], other)


def _row(part: float, rows: Iterable[tuple[str, float]]) -> str:
    return next(name for name, least in rows if part >= least)


def _column(duration_s: float, columns: Iterable[tuple[str, float]]) -> str:
    return next((name for name, most in columns if duration_s <= most), LONGER)
