"""The columns of the interactive view: what each says of a channel, in few characters."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

from leitwerk.monitoring.live_board import LiveRow
from leitwerk.parsing.durations import duration_text


@dataclass(frozen=True, slots=True)
class LiveColumn:
    """A heading, what stands below it, on which side, and how wide it may be."""

    heading: str
    cell: Callable[[LiveRow], str]
    align: Literal["<", ">"] = ">"
    widest: int = 14


def value_cell(row: LiveRow) -> str:
    """The newest value, in brackets where it is old."""
    return f"({row.shown})" if row.is_stale and row.shown != "–" else row.shown


def age_cell(row: LiveRow) -> str:
    """How old the value is."""
    if row.age_s is None:
        return "never"
    return f"{row.age_s:.0f} s" if row.age_s < 100.0 else duration_text(60.0 * (row.age_s // 60.0))


def alarm_cell(row: LiveRow) -> str:
    """The alarm that needs most attention."""
    for state in ("unacknowledged", "acknowledged", "pending"):
        for name, found in row.alarms:
            if found == state:
                return f"{name} {state}!" if state == "unacknowledged" else f"{name} {state}"
    return next((state for _, state in row.alarms), "")


def state_cell(row: LiveRow) -> str:
    """What the value is worth, in few words."""
    return row.why.split(":")[0] if row.why else ("stale" if row.is_stale else "good")


COLUMNS: Mapping[str, LiveColumn] = {
    "value": LiveColumn("value", value_cell),
    "unit": LiveColumn("unit", lambda row: row.unit, "<", 6),
    "alarm": LiveColumn("alarm", alarm_cell, "<", 24),
    "band": LiveColumn("band", lambda row: row.band, "<"),
    "min": LiveColumn("min", lambda row: row.minimum),
    "max": LiveColumn("max", lambda row: row.maximum),
    "mean": LiveColumn("mean", lambda row: row.mean),
    "std": LiveColumn("std dev", lambda row: row.deviation),
    "change": LiveColumn("change", lambda row: row.change),
    "count": LiveColumn("count", lambda row: str(row.count)),
    "age": LiveColumn("age", age_cell),
    "signal": LiveColumn("signal", lambda row: row.signal, ">", 16),
    "expected": LiveColumn("expected", lambda row: row.expected, ">", 16),
    "label": LiveColumn("label", lambda row: row.label, "<", 30),
    "state": LiveColumn("state", state_cell, "<", 28),
}
USUAL = ("value", "unit", "state", "alarm", "min", "max", "mean", "std")


def style_of(row: LiveRow) -> str:
    """The style of a channel; what it means stands in words beside it."""
    if row.is_stale:
        return "bad"
    if any(state == "unacknowledged" for _, state in row.alarms):
        return "alarm"
    return "warn" if row.why or any(state != "normal" for _, state in row.alarms) else ""


def cut(text: str, width: int) -> str:
    """A text in so many characters; a sign at its end says that there is more."""
    return text if len(text) <= width else text[: max(0, width - 1)] + "…"
