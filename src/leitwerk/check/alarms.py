"""Checking alarms: can they trip, and will they clear."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace

from leitwerk.alarms import AlarmPoint
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.quantities import Quantity, format_span, format_value
from leitwerk.setup import Alarm, Channel
from leitwerk.signals import Chain
from leitwerk.units import Unit, convert, parse_unit


def alarm_points(
    channel: Channel,
    unit: Unit,
    span: tuple[float, float],
    path: tuple[str, ...],
    findings: Findings,
) -> Iterator[AlarmPoint]:
    """The alarms of a channel in its unit; what can never trip or never clear is a finding."""
    for name, alarm in channel.alarms.items():
        place = (*path, "alarms", name)
        trip = _trip(alarm, place, findings)
        if trip is None:
            continue
        key, typed = trip
        trip_value = _in_unit(typed, unit, (*place, key), findings)
        clear_value = trip_value
        if alarm.clear is not None:
            clear_value = _in_unit(alarm.clear, unit, (*place, "clear"), findings)
        if trip_value is None or clear_value is None:
            continue
        point = AlarmPoint(
            name=name,
            above=key == "above",
            trip=trip_value,
            clear=clear_value,
            delay_s=_seconds(alarm.after),
            severity=alarm.severity,
        )
        _check_sides(point, unit, span, (*place, key), findings)
        yield point


def device_alarm(alarm: AlarmPoint, host: Chain) -> AlarmPoint | None:
    """An alarm in terms of what the device shows, None when that cannot be said.

    What Leitwerk works behind the device is turned back; where it falls, above becomes below.
    """
    if not host.links:
        return alarm
    if not host.has_inverse:
        return None
    trip, clear, beyond = host.signal(
        [alarm.trip, alarm.clear, alarm.trip + (1e-6 if alarm.above else -1e-6)]
    ).tolist()
    if not (math.isfinite(trip) and math.isfinite(clear)):
        return None
    return replace(alarm, above=alarm.above == _rises(host, trip, beyond), trip=trip, clear=clear)


def _rises(host: Chain, trip: float, beyond: float) -> bool:
    if beyond == beyond and beyond != trip:
        low, high = sorted((trip, beyond))
        values = host.value([low, high]).tolist()
        return bool(values[1] > values[0])
    return True


def _trip(alarm: Alarm, path: tuple[str, ...], findings: Findings) -> tuple[str, Quantity] | None:
    given = [(k, q) for k, q in (("above", alarm.above), ("below", alarm.below)) if q is not None]
    if len(given) == 1:
        return given[0]
    # A trip point that could not be read has its finding already.
    if given or not any(findings.mentions((*path, key)) for key in ("above", "below")):
        findings.error(
            "no-single-trip",
            path,
            "an alarm has one trip point, 'above' or 'below'",
            at_key=True,
            valid="{above: 78, clear: 75}",
            remedy="make two alarms of it" if given else "",
        )
    return None


def _in_unit(
    typed: Quantity, unit: Unit, path: tuple[str, ...], findings: Findings
) -> float | None:
    try:
        return typed.value_in(unit)
    except QuantityError as error:
        message = f"{typed} does not fit a channel in {unit}: {error.message}"
        findings.error("wrong-unit", path, message, valid=error.valid)
        return None


def _seconds(delay: Quantity | None) -> float:
    if delay is None or delay.unit is None:
        return 0.0
    return convert(delay.value, delay.unit, parse_unit("s"))


def _check_sides(
    point: AlarmPoint,
    unit: Unit,
    span: tuple[float, float],
    path: tuple[str, ...],
    findings: Findings,
) -> None:
    trip, clear = (format_value(value, unit) for value in (point.trip, point.clear))
    side, other = ("above", "below") if point.above else ("below", "above")
    if not span[0] <= point.trip <= span[1]:
        findings.error(
            "trip-outside-span",
            path,
            f"alarm {point.name}: {trip} is outside what the channel can show, so it can never "
            f"trip as meant",
            valid=format_span(*span, unit),
        )
    if point.clear != point.trip and (point.clear > point.trip) is point.above:
        findings.error(
            "clear-on-wrong-side",
            (*path[:-1], "clear"),
            f"alarm {point.name} trips {side} {trip} but would clear at {clear}, which is already "
            f"in alarm",
            valid=f"at or {other} {trip}",
            remedy=f"the clear point lies on the safe side: {other} the trip point",
        )
