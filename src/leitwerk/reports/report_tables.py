"""The tables of a report on a recording, for a spreadsheet: verdicts, totals, summary, events."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence

from leitwerk.analysis.series import utc_text
from leitwerk.analysis.summary import PERCENTILES
from leitwerk.evaluation.judged import Judged, every_span
from leitwerk.evaluation.summary import Summary
from leitwerk.evaluation.supply_events import SupplyEvents
from leitwerk.reports.report_text import Row


def recording_tables(
    about: Mapping[str, str],
    summary: Summary,
    judged: Judged,
    supply: SupplyEvents | None = None,
) -> dict[str, Sequence[Row]]:
    """The tables of a recording, by name; those that would be empty are left out."""
    tables = {
        "about": list(_about(about, summary)), "verdict": list(_verdict(judged)),
        "limits": list(_limits(judged)), "noise exposure": list(_exposure(judged)),
        "totals": list(_totals(judged)), "totals by tariff": list(_tariffs(judged)),
        "summary": list(_summary(summary)),
        "events": list(_events(summary)), "events of the supply": list(_supply(supply)),
    }  # fmt: skip
    return {name: rows for name, rows in tables.items() if rows}


def _about(about: Mapping[str, str], summary: Summary) -> Iterator[Row]:
    yield from ((name, text) for name, text in about.items() if name not in {"from", "to"})
    yield "from", utc_text(summary.begin_s)
    yield "to", utc_text(summary.end_s)
    yield "rows", summary.rows
    yield "gaps", len(summary.gaps)


def _verdict(judged: Judged) -> Iterator[Row]:
    if not judged.groups:
        return
    yield ("group", "outcome", "at most", "times outside", "time outside [s]", "alarm", "condition",
           "times", "time [s]", "worst", "since")  # fmt: skip
    for v in judged.groups:
        allowed = v.at_most if v.at_most_s is None else f"{v.at_most_s:g} s"
        for a in v.alarms:
            worst = ("", "") if a.worst is None else (a.worst.value, utc_text(a.worst.at_s))
            yield (v.name, v.outcome.value, allowed, v.times, v.outside_s, a.name, a.condition, a.times,
                   a.outside_s, *worst)  # fmt: skip


def _limits(judged: Judged) -> Iterator[Row]:
    if not judged.shares:
        return
    yield ("limit", "channel", "unit", "low", "high", "interval [s]", "value", "intervals", "known", "within",
           "share", "at least", "minimum", "maximum", "outcome", "flagged", "low percentile",
           "high percentile")  # fmt: skip
    for s in judged.shares:
        for c in s.channels:
            yield (s.name, c.name, c.unit, *_known(c.low, c.high), s.each_s, s.value, c.intervals, c.known,
                   c.within, *_known(c.share), s.at_least, *_known(c.lowest, c.highest),
                   c.outcome.value, c.flagged, *_known(*c.percentiles))  # fmt: skip


def _exposure(judged: Judged) -> Iterator[Row]:
    e = judged.exposure
    if e is None:
        return
    yield "figure", "value", "unit"
    yield from (
        (name, *_known(value), unit)
        for name, value, unit in (
            ("daily noise exposure LEX,8h", e.daily, "dB"), ("allowed", e.at_most, "dB"),
            ("expanded uncertainty", e.uncertainty, "dB"), ("equivalent level", e.equivalent, "dB"),
            ("highest level of a row", e.highest, "dB"), ("highest peak level", e.peak, "dB"),
            ("peak level allowed", e.peak_at_most, "dB"), ("measured", e.measured_s, "s"),
            ("missing", e.missing_s, "s"), ("duration of the shift", e.day_s, "s"),
            ("dose", e.dose, ""),
        )
    )  # fmt: skip
    yield "outcome", e.outcome.value, ""


def _totals(judged: Judged) -> Iterator[Row]:
    t = judged.totals
    if t is None:
        return
    yield ("begin", *(cell for c in t.channels for cell in (f"{c.name} [{c.unit}]", "missing [s]")))
    for k, begin in enumerate(t.edges_s[:-1]):
        yield utc_text(begin), *(x for c in t.channels for x in (c.totals[k], c.missing_s[k]))


def _tariffs(judged: Judged) -> Iterator[Row]:
    t = judged.totals
    if t is None or not t.tariffs:
        return
    yield "tariff", *(f"{c.name} [{c.unit}]" for c in t.channels)
    for k, name in enumerate(t.tariffs):
        yield name, *(c.by_tariff[k] for c in t.channels)


def _known(*values: float) -> tuple[float | str, ...]:
    return tuple(value if math.isfinite(value) else "" for value in values)


def _summary(summary: Summary) -> Iterator[Row]:
    yield ("channel", "label", "unit", "good", "missing", "minimum", "mean", "maximum",
           "standard deviation", *(f"{p:g} %" for p in PERCENTILES), "mean kinetic temperature",
           "arithmetic mean of the levels", "total", "total unit")  # fmt: skip
    for c in summary.channels:
        n = c.numbers
        numbers = (
            n.minimum,
            n.mean,
            n.maximum,
            n.deviation,
            *n.percentiles,
            n.mean_kinetic,
            n.arithmetic,
            n.total,
        )
        yield (c.name, c.label, c.unit, n.count, n.missing,
               *_known(*numbers), n.total_unit)  # fmt: skip


def _supply(supply: SupplyEvents | None) -> Iterator[Row]:
    if supply is None:
        return
    yield "begin", "kind", "phases", "duration [s]", "extreme"
    for event in supply.events:
        phases = " ".join(str(k + 1) for k in event.channels)
        yield utc_text(event.begin_s), event.kind, phases, event.duration_s, event.extreme
    for title, counted in (("dips", supply.table.dips), ("swells", supply.table.swells)):
        yield title, *next(iter(counted.values()))
        yield from ((depth, *counts.values()) for depth, counts in counted.items())
    yield "short interruptions", supply.table.short_interruptions
    yield "long interruptions", supply.table.long_interruptions


def _events(summary: Summary) -> Iterator[Row]:
    yield "begin", "end", "alarm", "condition", "worst", "unit"
    for alarm, unit, span in every_span(summary):
        yield (
            utc_text(span.begin_s),
            utc_text(span.end_s),
            alarm.name,
            alarm.condition,
            span.worst,
            unit,
        )
