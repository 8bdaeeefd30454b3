"""Checking alarms: each in its channel's unit, can it trip, and will it clear."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import replace

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.check.alarm_doubts import (
    Scope,
    check_expected_of,
    check_reach_of,
    check_sides,
    check_together,
)
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import (
    ALARM_CHANNEL,
    ALARM_CLEAR,
    ALARM_CLEAR_DELAY,
    ALARM_CONDITION,
    ALARM_DELAY,
    ALARM_LATCH,
    ALARM_TRIP,
    INPUT_ALARM_DELAY,
    INPUT_ALARM_HIGH,
    INPUT_ALARM_HYSTERESIS,
    INPUT_ALARM_LOW,
)
from leitwerk.errors import QuantityError, UnitError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import Quantity, Span, format_span
from leitwerk.parsing.units import convert_difference
from leitwerk.setup.alarms import EXPECTED, NO_READING, Alarm, Share
from leitwerk.setup.model import Channel
from leitwerk.signals.scale import Chain

# The keys of which an alarm has exactly one.
TRIPS = ("above", "below", "outside", "inside", "rises", "falls", "changes", "differs_from", "when")
_CHANGES = ("rises", "falls", "changes")
_STEP = 1e-6  # in the channel's unit: small against any trip point, large against rounding


def check_alarms(
    channel: Channel, scope: Scope, path: KeyPath, findings: Findings
) -> tuple[AlarmDefinition, ...]:
    """The alarms of a channel in its unit; what can never trip or never clear is a finding."""
    points = []
    for name, alarm in channel.alarms.items():
        place = (*path, "alarms", name)
        if not findings.mentions(place):
            place = (*path, "limits")  # an alarm of a limit set stands nowhere in the file
        key = _kind(alarm, place, findings)
        if key is None:
            continue
        try:
            point = _point(name, alarm, key, scope)
        except QuantityError as error:
            where = (*place, key) if findings.mentions((*place, key)) else place
            message = f"alarm {name}: {error.message}"
            findings.error(
                "wrong-unit" if isinstance(error, UnitError) else "bad-alarm",
                where,
                message,
                valid=error.valid,
                remedy=error.remedy,
            )
            continue
        check_reach_of(point, scope, (*place, key), findings)
        check_sides(point, scope, place, findings)
        check_expected_of(point, scope, place, findings)
        points.append(point)
    check_together(points, scope, path, findings)
    return tuple(points)


def device_alarm(
    alarm: AlarmDefinition, host: Chain, datasheet: Datasheet
) -> AlarmDefinition | None:
    """An alarm in terms of what the device shows, None when the device cannot have it.

    What Leitwerk works behind the device is turned back; where it falls, above becomes below. A
    device watches values only, and always: other kinds, and alarms with a condition, it cannot have.
    An alarm of which it could store a part only (no delay, no latch) would not be the one that was
    asked for: it cannot have that either.
    """
    if not alarm.side or alarm.only_while is not None or not _has_all(alarm, datasheet):
        return None
    return _turned_back(alarm, host)


def input_alarms(
    alarms: Iterable[AlarmDefinition], host: Chain, datasheet: Datasheet
) -> tuple[AlarmDefinition, ...]:
    """The alarms that an input of its own can have: one above and one below at the most.

    Both have one delay and one hysteresis, or none where the model has no setting for it. The first
    that fits decides; the others are left to Leitwerk.
    """
    found: dict[str, AlarmDefinition] = {}
    for alarm in alarms:
        if not alarm.side or alarm.only_while is not None or alarm.latch or alarm.clear_delay_s:
            continue
        turned = _turned_back(alarm, host)
        if turned is None or turned.side in found:
            continue
        known = INPUT_ALARM_HIGH if turned.side == "above" else INPUT_ALARM_LOW
        agrees = all(_in_common(other) == _in_common(turned) for other in found.values())
        needs_delay = turned.delay_s > 0 and not datasheet.has(INPUT_ALARM_DELAY)
        apart = turned.point[0] != turned.point[1]
        needs_hysteresis = apart and not datasheet.has(INPUT_ALARM_HYSTERESIS)
        fits = datasheet.has(known) and not (needs_delay or needs_hysteresis)
        if fits and agrees:
            found[turned.side] = turned
    return tuple(found.values())


def _in_common(alarm: AlarmDefinition) -> tuple[float, float]:
    """What the two alarms of an input share: delay and hysteresis, but for rounding."""
    trip, clear = alarm.point
    return alarm.delay_s, round(abs(trip - clear), 9)


def _turned_back(alarm: AlarmDefinition, host: Chain) -> AlarmDefinition | None:
    """An alarm on the value, as one on what the device shows; None where that cannot be."""
    if not host.stages:
        return alarm
    if not host.has_inverse:
        return None
    point, back = alarm.point
    above = alarm.side == "above"
    # A third point a little further on shows in which direction the device's value goes.
    trip, clear, beyond = host.signal([point, back, point + (_STEP if above else -_STEP)]).tolist()
    if not (math.isfinite(trip) and math.isfinite(clear)):
        return None
    turned = AlarmDefinition.above if above == _rises(host, trip, beyond) else AlarmDefinition.below
    ends = turned(alarm.name, trip, clear)
    return replace(alarm, trip=ends.trip, clear=ends.clear)


def _has_all(alarm: AlarmDefinition, datasheet: Datasheet) -> bool:
    """Whether a model has a setting for everything that an alarm is."""
    trip, clear = alarm.point
    needed = [ALARM_TRIP, ALARM_CHANNEL, ALARM_CONDITION]
    needed += [ALARM_CLEAR] if clear != trip else []
    needed += [ALARM_DELAY] if alarm.delay_s else []
    needed += [ALARM_CLEAR_DELAY] if alarm.clear_delay_s else []
    needed += [ALARM_LATCH] if alarm.latch else []
    return all(map(datasheet.has, needed)) and alarm.side in datasheet.choices(ALARM_CONDITION)


def _rises(host: Chain, trip: float, beyond: float) -> bool:
    if beyond == beyond and beyond != trip:
        low, high = sorted((trip, beyond))
        values = host.value([low, high]).tolist()
        return bool(values[1] > values[0])
    return True


# ---------------------------------------------------------------------- from text to point


def _kind(alarm: Alarm, path: KeyPath, findings: Findings) -> str | None:
    given = [key for key in TRIPS if getattr(alarm, key) is not None]
    if len(given) == 1:
        return given[0]
    # A trip point that could not be read has its finding already.
    if given or not any(findings.mentions((*path, key)) for key in TRIPS):
        findings.error(
            "no-single-trip",
            path,
            f"an alarm has one trip point, this has {' and '.join(map(repr, given)) or 'none'}",
            at_key=True,
            valid=f"one of {', '.join(TRIPS)}; such as {{above: 78, clear: 75}}",
            remedy="make two alarms of it" if given else "",
        )
    return None


def _point(name: str, alarm: Alarm, key: str, scope: Scope) -> AlarmDefinition:
    if scope.states is not None and key != "when":
        raise QuantityError(
            "this channel has states and no numbers", valid=f"{{when: {scope.states.names[0]}}}"
        )
    bare = AlarmDefinition(
        name=name,
        trip=(-math.inf, math.inf),
        clear=(-math.inf, math.inf),
        delay_s=_seconds(alarm.after),
        clear_delay_s=_seconds(alarm.clears_after),
        latch=alarm.latch == "yes",
        acknowledge=alarm.acknowledge == "yes",
        severity=alarm.severity,
        turn=scope.turn,
        only_while=alarm.only_while,
    )
    if key == "when":
        return _of_state(bare, str(alarm.when), scope)
    if key in {"outside", "inside"}:
        return _of_span(bare, alarm, getattr(alarm, key), scope, inside=key == "inside")
    if key in {"above", "below"}:
        trip = _limit(getattr(alarm, key), scope)
        return _one_sided(bare, trip, _clear(alarm, trip, scope, above=key == "above"), key)
    if key in _CHANGES:
        return _of_change(bare, alarm, key, scope)
    return _of_difference(bare, alarm, scope)


def _one_sided(bare: AlarmDefinition, trip: float, clear: float, key: str) -> AlarmDefinition:
    made = (AlarmDefinition.above if key == "above" else AlarmDefinition.below)("", trip, clear)
    return replace(bare, trip=made.trip, clear=made.clear)


def _limit(typed: Quantity | Share, scope: Scope) -> float:
    if not isinstance(typed, Share):
        return _in_unit(typed, scope)
    part = typed.percent / 100.0
    if typed.of == "span":
        low, high = scope.span
        if not math.isfinite(high - low):
            raise QuantityError(
                f"{typed}: the span of this channel is not known", valid="a value with its unit"
            )
        return low + part * (high - low)
    if scope.expected is None:
        raise QuantityError(
            f"{typed}: the channel expects nothing", remedy="add a line 'expect: …'"
        )
    return part * scope.expected[0]


def _in_unit(typed: Quantity, scope: Scope) -> float:
    try:
        return typed.value_in(scope.unit)
    except QuantityError as error:
        message = f"{typed} does not fit a channel in {scope.unit}: {error.message}"
        raise type(error)(message, valid=error.valid) from None


def _apart(typed: Quantity | None, scope: Scope, key: str) -> float:
    """A difference in the channel's unit, which knows no offset, and is not negative."""
    if typed is None:
        raise QuantityError(f"the key {key!r} is missing", remedy=f"add '{key}: …'")
    value = typed.value
    if typed.unit is not None:
        value = convert_difference(value, typed.unit, scope.unit)
    if value < 0:
        raise QuantityError(f"{key}: {typed} is negative", valid="0 or more")
    return value


def _clear(alarm: Alarm, trip: float, scope: Scope, *, above: bool) -> float:
    if alarm.hysteresis is not None:
        if alarm.clear is not None:
            raise QuantityError(
                "'clear' and 'hysteresis' say the same", remedy="remove one of them"
            )
        apart = _apart(alarm.hysteresis, scope, "hysteresis")
        return trip - apart if above else trip + apart
    if isinstance(alarm.clear, Span):
        raise QuantityError("it clears at one point, not at a span", valid="clear: 75 °C")
    return trip if alarm.clear is None else _limit(alarm.clear, scope)


def _of_span(
    bare: AlarmDefinition, alarm: Alarm, typed: Span, scope: Scope, *, inside: bool
) -> AlarmDefinition:
    low, high = typed.ends_in(scope.unit)
    if low > high:
        raise QuantityError(f"{typed} is reversed", valid=format_span(high, low, scope.unit))
    ends = (low, high)
    if alarm.hysteresis is not None:
        apart = _apart(alarm.hysteresis, scope, "hysteresis") * (-1.0 if inside else 1.0)
        ends = (low + apart, high - apart)
    elif isinstance(alarm.clear, Span):
        ends = alarm.clear.ends_in(scope.unit)
    elif alarm.clear is not None:
        raise QuantityError("it clears at a span, not at one point", valid="clear: 22..76 °C")
    if ends[0] > ends[1]:
        raise QuantityError("nothing is left between the points where it clears")
    return replace(bare, trip=(low, high), clear=ends, inside=inside)


def _of_state(bare: AlarmDefinition, state: str, scope: Scope) -> AlarmDefinition:
    if state == NO_READING:
        return replace(bare, trip=(1.0, 1.0), clear=(1.0, 1.0), inside=True, watch=Watch.READING)
    names = scope.states.names if scope.states else ()
    if scope.states is None or state not in names:
        raise QuantityError(
            f"{state!r} is not a state of this channel", valid=" or ".join([*names, NO_READING])
        )
    number = scope.states.number(state)
    return replace(bare, trip=(number, number), clear=(number, number), inside=True)


def _of_change(bare: AlarmDefinition, alarm: Alarm, key: str, scope: Scope) -> AlarmDefinition:
    window = _seconds(alarm.within)
    if window <= 0:
        raise QuantityError(f"{key!r} needs a time", remedy="add 'within: 1 min'")
    most = _apart(getattr(alarm, key), scope, key)
    typed = alarm.clear if alarm.hysteresis is None else alarm.hysteresis
    if isinstance(typed, Span | Share):
        raise QuantityError("a change clears at a number", valid="clear: 1 K")
    back = most if typed is None else _apart(typed, scope, "clear")
    back = most - back if alarm.hysteresis is not None else back
    signs = {"rises": (0.0, 1.0), "falls": (1.0, 0.0), "changes": (1.0, 1.0)}[key]
    trip, clear = (
        (-most_ if signs[0] else -math.inf, most_ if signs[1] else math.inf)
        for most_ in (most, back)
    )
    return replace(bare, trip=trip, clear=clear, watch=Watch.CHANGE, window_s=window)


def _of_difference(bare: AlarmDefinition, alarm: Alarm, scope: Scope) -> AlarmDefinition:
    most = _apart(alarm.by, scope, "by")
    if isinstance(alarm.clear, Span | Share):
        raise QuantityError("a difference clears at a number", valid="clear: 1 K")
    back = most
    if alarm.clear is not None:
        back = _apart(alarm.clear, scope, "clear")
    elif alarm.hysteresis is not None:
        back = most - _apart(alarm.hysteresis, scope, "hysteresis")
    other, nominal = str(alarm.differs_from), 0.0
    if other == EXPECTED:
        if scope.expected is None:
            raise QuantityError("the channel expects nothing", remedy="add a line 'expect: …'")
        other, nominal = "", scope.expected[0]
    elif other not in scope.channels:
        raise QuantityError(
            f"there is no channel {other[:40]!r}", valid=", ".join(scope.channels[:20])
        )
    return replace(
        bare,
        trip=(-most, most),
        clear=(-back, back),
        watch=Watch.DIFFERENCE,
        other=other,
        nominal=nominal,
    )


def _seconds(duration: Quantity | None) -> float:
    return 0.0 if duration is None else duration.seconds
