"""Doubts about alarms: out of reach, on the wrong side, twice, against each other, within the noise."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import format_number, format_span, format_value
from leitwerk.parsing.units import Unit
from leitwerk.signals.states import StateNames


@dataclass(frozen=True, slots=True)
class Scope:
    """What alarms of a channel are read against: all numbers in ``unit``.

    ``states`` are the names of its numbers where they are states, ``turn`` is a full turn where they
    are angles.
    """

    unit: Unit
    span: tuple[float, float]
    expected: tuple[float, float] | None
    channels: Sequence[str]
    states: StateNames | None = None
    turn: float = 0.0


def check_reach_of(point: AlarmDefinition, scope: Scope, path: KeyPath, findings: Findings) -> None:
    """Trip points that the channel cannot reach, or is always beyond."""
    if point.watch is not Watch.VALUE or scope.states is not None:
        return
    low, high = scope.span
    ends = [end for end in point.trip if math.isfinite(end)]
    if all(low <= end <= high for end in ends):
        return
    always = (point.side == "above" and ends[0] < low) or (point.side == "below" and ends[0] > high)
    shown = ", ".join(format_value(end, scope.unit) for end in ends if not low <= end <= high)
    what = "always trips" if always else "can never trip as meant"
    findings.error(
        "trip-outside-span",
        path,
        f"alarm {point.name}: {shown} is outside what the channel can show, so it {what}",
        valid=format_span(low, high, scope.unit),
    )


def check_sides(point: AlarmDefinition, scope: Scope, path: KeyPath, findings: Findings) -> None:
    """Clear points that lie where the alarm is tripped: it would never clear."""
    if point.clears:
        return
    key = "hysteresis" if findings.mentions((*path, "hysteresis")) else "clear"
    if not point.side:
        clear = format_span(*point.clear, scope.unit)
        findings.error(
            "clear-on-wrong-side",
            (*path, key),
            f"alarm {point.name} trips {point.condition(scope.unit.symbol)} but would clear at "
            f"{clear}, where it is already in alarm",
            remedy="the clear points lie on the safe side of the trip points",
        )
        return
    trip, clear = (format_value(value, scope.unit) for value in point.point)
    side, other = ("above", "below") if point.side == "above" else ("below", "above")
    findings.error(
        "clear-on-wrong-side",
        (*path, key),
        f"alarm {point.name} trips {side} {trip} but would clear at {clear}, which is already "
        f"in alarm",
        valid=f"at or {other} {trip}",
        remedy=f"the clear point lies on the safe side: {other} the trip point",
    )


def check_together(
    points: Sequence[AlarmDefinition], scope: Scope, path: KeyPath, findings: Findings
) -> None:
    """Alarms that say the same, and alarms of which one is always tripped.

    Each is held against the first of those that say the same, and against the one before it that reaches
    farthest to the other side: so many alarms need no more time than few for each.
    """
    same: dict[AlarmDefinition, str] = {}
    farthest: dict[str, AlarmDefinition] = {}
    for point in points:
        place = (*path, "alarms", point.name)
        first = same.setdefault(replace(point, name="", severity=""), point.name)
        if first != point.name:
            findings.warning(
                "duplicate-alarm",
                place,
                f"alarm {point.name} trips and clears exactly as {first}",
                at_key=True,
                remedy="remove one of them",
            )
        _check_against(point, farthest, scope, place, findings)


def _check_against(
    point: AlarmDefinition,
    farthest: dict[str, AlarmDefinition],
    scope: Scope,
    place: KeyPath,
    findings: Findings,
) -> None:
    """An alarm against the lowest one above, or the highest one below, that stands before it."""
    if point.side not in {"above", "below"}:
        return
    other = farthest.get("below" if point.side == "above" else "above")
    if other is not None:
        low, high = sorted((point.point[0], other.point[0]))
        above = point if point.side == "above" else other
        if above.point[0] == low < high:
            findings.warning(
                "contradicting-alarms",
                place,
                f"alarms {other.name} and {point.name}: at every value, one of them is tripped; between "
                f"{format_number(low)} and {format_number(high)} {scope.unit} both are",
                at_key=True,
                remedy="is one of them meant the other way round?",
            )
    mine = farthest.get(point.side)
    reaches = -1 if point.side == "above" else 1
    if mine is None or reaches * (point.point[0] - mine.point[0]) > 0:
        farthest[point.side] = point


def check_expected_of(
    point: AlarmDefinition, scope: Scope, path: KeyPath, findings: Findings
) -> None:
    """Alarms that trip where the value is expected, or are tripped there already."""
    if point.watch is not Watch.VALUE or scope.expected is None:
        return
    value, tolerance = scope.expected
    low, high = point.trip
    near = [t for t in point.trip if math.isfinite(t) and abs(t - value) <= tolerance]
    message = ""
    if (low <= value <= high) == point.inside:
        shown = format_value(value, scope.unit)
        what = scope.states.name(value) if scope.states is not None else shown
        message = f"alarm {point.name} is tripped already at {what}, as the channel is expected"
    elif near and scope.states is None:
        shown = format_value(near[0], scope.unit)
        message = (
            f"alarm {point.name} trips at {shown}, which is within what is expected of the channel"
        )
    if message:
        findings.warning("trips-when-expected", path, message, at_key=True)


def check_doubt(
    points: Sequence[AlarmDefinition],
    scope: Scope,
    uncertainty: float,
    path: KeyPath,
    findings: Findings,
) -> None:
    """Trip points and clear points that are closer together than is known.

    ``uncertainty`` is the expanded one of the channel's calibration, in its unit; 0 without one.
    """
    for point in points:
        if point.watch is not Watch.VALUE or point.inside:
            continue
        place = (*path, "alarms", point.name)
        apart = _apart_from_clear(point)
        if 0 < apart < uncertainty:
            findings.warning(
                "hysteresis-below-uncertainty",
                place,
                f"alarm {point.name} clears {format_value(apart, scope.unit)} from its trip point; "
                f"the channel is known to ±{format_value(uncertainty, scope.unit)} only",
                at_key=True,
            )


def may_chatter(alarm: AlarmDefinition, span: tuple[float, float]) -> bool:
    """Whether an alarm without delays clears so near its trip point that noise could matter."""
    if alarm.watch is not Watch.VALUE or alarm.inside or not alarm.clears:
        return False
    return alarm.delay_s == alarm.clear_delay_s == 0 and _apart_from_clear(alarm) <= 0.01 * (
        span[1] - span[0]
    )


def _apart_from_clear(alarm: AlarmDefinition) -> float:
    """The way between trip and clear point, the shorter one of two."""
    ends = zip(alarm.trip, alarm.clear, strict=True)
    return min((abs(t - c) for t, c in ends if math.isfinite(t)), default=math.inf)


def check_chatter(
    points: Sequence[AlarmDefinition], step: float, unit: Unit, path: KeyPath, findings: Findings
) -> None:
    """Alarms that trip and clear within what the input's own noise does.

    ``step`` is the smallest one that stands still, in the channel's unit.
    """
    step_text = format_value(float(f"{step:.2g}"), unit)
    for point in points:
        apart = _apart_from_clear(point)
        if apart < step:
            findings.warning(
                "alarm-chatters",
                (*path, "alarms", point.name),
                f"alarm {point.name} clears {format_value(apart, unit)} from its trip point; the "
                f"input stands still to {step_text} only, so it will come and go",
                at_key=True,
                remedy=f"let it clear at least {step_text} away, or give it a delay",
            )
