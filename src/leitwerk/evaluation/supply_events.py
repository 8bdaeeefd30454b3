"""The events of a supply that an analyzer stored, counted for a verdict."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from leitwerk.analysis.series import utc_text
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.units import parse_unit
from leitwerk.power.event_table import EventTable, count_events
from leitwerk.power.voltage_events import VoltageEvent
from leitwerk.setup.model import Setup

_UNITS = {"inrush": "A", "alarm": "kW"}


@dataclass(frozen=True)
class SupplyEvents:
    """Events in order, and how many there are of each depth and duration, to the declared voltage in V."""

    events: tuple[VoltageEvent, ...]
    table: EventTable
    declared_v: float

    def lines(self) -> Iterator[str]:
        """What there was, in words."""
        for title, counted in (("dips", self.table.dips), ("swells", self.table.swells)):
            for depth, by_time in counted.items():
                for time, count in by_time.items():
                    if count:
                        yield f"{title}, {depth} %, {time}: {count}"
        short, long = self.table.short_interruptions, self.table.long_interruptions
        yield f"interruptions: {short} short, {long} long"
        for kind, count in self.table.other.items():
            yield f"{kind}: {count}"

    def rows(self) -> Iterator[tuple[str, ...]]:
        """Each event: begin (UTC), kind, phases, duration, extreme."""
        for event in self.events:
            yield utc_text(event.begin_s), *self.words(event)

    def words(self, event: VoltageEvent) -> tuple[str, str, str, str]:
        """Kind, phases, duration and extreme of an event."""
        phases = " ".join(f"L{k + 1}" for k in event.channels)
        unit = _UNITS.get(event.kind, "V")
        extreme = f"{event.extreme:.1f} {unit}"
        if unit == "V":
            extreme += f" ({100.0 * event.extreme / self.declared_v:.0f} %)"
        lasts_s = round(event.duration_s, 4 if event.duration_s < 0.01 else 3)
        return event.kind, phases, duration_text(lasts_s), extreme

    def to_dict(self) -> dict[str, Any]:
        """Counts and events as plain data for JSON."""
        return {
            "dips": _plain(self.table.dips),
            "swells": _plain(self.table.swells),
            "interruptions": {
                "short": self.table.short_interruptions, "long": self.table.long_interruptions,
            },
            "other": dict(self.table.other),
            "events": [
                {"begin": utc_text(e.begin_s), "kind": e.kind, "duration_s": e.duration_s,
                 "extreme": e.extreme, "phases": [k + 1 for k in e.channels]}
                for e in self.events
            ],
        }  # fmt: skip


def _plain(table: Mapping[str, Mapping[str, int]]) -> dict[str, dict[str, int]]:
    return {row: dict(counts) for row, counts in table.items()}


def supply_events(
    events: Sequence[VoltageEvent], setup: Setup, begin_s: float, end_s: float
) -> SupplyEvents | None:
    """The events within a time; None where the setup has no wiring.

    The times are in s since 1970-01-01 UTC.
    """
    if setup.wiring is None:
        return None
    declared = setup.wiring.nominal.value_in(parse_unit("V"))
    within = tuple(event for event in events if begin_s <= event.begin_s <= end_s)
    return SupplyEvents(within, count_events(within, declared), declared)
