"""Assigning channels to a device's inputs: what each becomes there, or why it cannot."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TypeAlias

from leitwerk.alarms import AlarmPoint
from leitwerk.check.alarms import alarm_points
from leitwerk.check.ranges import choose_range
from leitwerk.datasheet import Datasheet, Input, Range, Terminal
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.quantities import Expected, Span
from leitwerk.setup import Channel, Setup
from leitwerk.setup.fields import CONTACT
from leitwerk.signals import Sensor, TwoPoint
from leitwerk.units import Unit, convert, parse_unit

Path: TypeAlias = tuple[str, ...]
STATES = ("open", "closed")  # as numbers 0 and 1


@dataclass(frozen=True, slots=True)
class Measurement:
    """What is wired to a terminal and what it stands for.

    ``kind`` is the device's word for it: a sensor's name or a quantity. ``scale`` runs from the
    input's unit to ``unit``; a sensor has its own curve instead. ``span`` is what can be delivered,
    in ``unit``.
    """

    kind: str
    input: Input
    unit: Unit
    sensor: Sensor | None = None
    scale: TwoPoint | None = None
    span: tuple[float, float] = (0.0, 1.0)


@dataclass(frozen=True, slots=True)
class Assignment:
    """A channel on one device's input, with everything in the units that are used there."""

    name: str
    label: str
    slot: int
    measurement: Measurement
    range: Range | None
    expected: tuple[float, float] | None
    states: tuple[str, str]
    alarms: tuple[AlarmPoint, ...]

    @property
    def unit(self) -> Unit:
        """The unit of the channel's values."""
        return self.measurement.unit

    @property
    def is_contact(self) -> bool:
        """Whether the values are states: 0 open, 1 closed."""
        return self.measurement.kind == CONTACT


def assign_channels(setup: Setup, datasheet: Datasheet, findings: Findings) -> list[Assignment]:
    """The channels of a setup on the inputs of a device; findings take what does not fit.

    A channel with an error may be missing from the result.
    """
    assigned = []
    taken: dict[str, str] = {}
    for name, channel in setup.channels.items():
        path = ("channels", name)
        terminal = _terminal(channel, datasheet, taken, path, findings)
        taken.setdefault(channel.terminal, name)
        measurement = _measurement(channel, datasheet, path, findings)
        if measurement is None:
            continue
        if terminal is not None and measurement.input.quantity not in terminal.takes:
            _report_wrong_terminal(channel, terminal, measurement, datasheet, path, findings)
        expected = _expected(channel, measurement, path, findings)
        alarms = tuple(
            alarm_points(channel, measurement.unit, measurement.span, path, findings)
            if measurement.kind != CONTACT
            else _no_alarms(channel, path, findings)
        )
        if terminal is not None:
            assigned.append(
                Assignment(
                    name=name,
                    label=channel.label or name,
                    slot=terminal.slot,
                    measurement=measurement,
                    range=_range(channel, measurement, expected, alarms, path, findings),
                    expected=expected,
                    states=_states(channel),
                    alarms=alarms,
                )
            )
    return assigned


def _terminal(
    channel: Channel, datasheet: Datasheet, taken: dict[str, str], path: Path, findings: Findings
) -> Terminal | None:
    name = channel.terminal
    place = (*path, "terminal")
    if name in taken:
        findings.error(
            "duplicate-terminal",
            place,
            f"terminal {name} is already taken by channel {taken[name]}",
            valid="one channel for each terminal",
            remedy="look where the wire really goes",
        )
        return None
    terminal = datasheet.terminals.get(name)
    if terminal is None:
        findings.error(
            "unknown-terminal",
            place,
            f"{datasheet.model} has no terminal {name}",
            valid=_names(datasheet.terminals),
        )
    return terminal


def _names(names: object) -> str:
    every = list(names)  # type: ignore[call-overload]
    return ", ".join(every[:20]) + (", …" if len(every) > 20 else "")


def _report_wrong_terminal(
    channel: Channel,
    terminal: Terminal,
    measurement: Measurement,
    datasheet: Datasheet,
    path: Path,
    findings: Findings,
) -> None:
    quantity = measurement.input.quantity
    fitting = [t.name for t in datasheet.terminals.values() if quantity in t.takes]
    findings.error(
        "wrong-terminal",
        (*path, "terminal"),
        f"terminal {channel.terminal} takes {' or '.join(terminal.takes)}, not {quantity}",
        valid=f"for {quantity}: {_names(fitting)}" if fitting else "",
    )


def _measurement(
    channel: Channel, datasheet: Datasheet, path: Path, findings: Findings
) -> Measurement | None:
    if channel.sensor and (channel.signal or channel.scale):
        findings.error(
            "two-scales",
            path,
            "a sensor has its own curve; it takes no signal and no scale beside it",
            at_key=True,
            remedy="remove either 'sensor', or 'signal' and 'scale'",
        )
        return None
    try:
        if channel.sensor:
            return _sensor_measurement(channel, channel.sensor, datasheet, path, findings)
        if channel.signal == CONTACT:
            return _contact_measurement(channel, datasheet, path, findings)
        if channel.signal or channel.scale:
            return _signal_measurement(channel, datasheet, path, findings)
    except QuantityError as error:
        place = (*path, "scale" if channel.scale else "signal")
        valid, remedy = error.valid, error.remedy
        findings.error("bad-scale", place, error.message, valid=valid, remedy=remedy)
        return None
    # What is there but could not be read has its finding already.
    if not any(findings.mentions((*path, key)) for key in ("sensor", "signal", "scale")):
        findings.error(
            "nothing-wired",
            path,
            "the channel does not say what is wired to the terminal",
            at_key=True,
            valid="sensor: Pt100, 4-wire; signal: 4..20 mA; scale: {4 mA: 0 %, 20 mA: 100 %}",
        )
    return None


def _sensor_measurement(
    channel: Channel, sensor: Sensor, datasheet: Datasheet, path: Path, findings: Findings
) -> Measurement | None:
    if sensor.name not in datasheet.sensors:
        findings.error(
            "unknown-sensor",
            (*path, "sensor"),
            f"{datasheet.model} does not measure {sensor.name}",
            valid=", ".join(datasheet.sensors),
        )
        return None
    unit = parse_unit(sensor.unit)
    if channel.unit is not None and channel.unit != unit:
        same = channel.unit.dimension == unit.dimension
        what = f"shows {sensor.name} in {unit}" if same else f"{sensor.name} measures in {unit}"
        findings.error(
            "wrong-unit",
            (*path, "unit"),
            f"{datasheet.model} {what}, not in {channel.unit}" if same else
            f"{what}; {channel.unit} is a unit of {channel.unit.dimension}",
            valid=str(unit),
        )  # fmt: skip
    _report_useless(channel, ("states",), "is for contacts only", path, findings)
    return Measurement(
        kind=sensor.name,
        input=datasheet.inputs[sensor.quantity],
        unit=unit,
        sensor=sensor,
        span=sensor.span,
    )


def _contact_measurement(
    channel: Channel, datasheet: Datasheet, path: Path, findings: Findings
) -> Measurement | None:
    kind = datasheet.inputs.get(CONTACT)
    if kind is None:
        message = f"{datasheet.model} has no input for a contact"
        findings.error("unknown-signal", (*path, "signal"), message)
        return None
    useless = ("range", "scale", "unit")
    _report_useless(channel, useless, "means nothing for a contact", path, findings)
    return Measurement(kind=CONTACT, input=kind, unit=parse_unit(""))


def _report_useless(
    channel: Channel, keys: tuple[str, ...], why: str, path: Path, findings: Findings
) -> None:
    for key in keys:
        if getattr(channel, key) is not None:
            message = f"{key!r} {why}"
            findings.error("useless-key", (*path, key), message, at_key=True, remedy="remove it")


def _signal_measurement(
    channel: Channel, datasheet: Datasheet, path: Path, findings: Findings
) -> Measurement | None:
    signal = channel.signal if isinstance(channel.signal, Span) else None
    signal_unit = signal.unit if signal else None
    if channel.scale:
        signal_unit = signal_unit or channel.scale.points[1][0].unit
    place = (*path, "signal" if signal else "scale")
    kind = datasheet.inputs.get(signal_unit.dimension) if signal_unit else None
    if kind is None or kind.quantity == CONTACT:
        what = f"a signal in {signal_unit}" if signal_unit else "a signal without a unit"
        valid = ", ".join(f"{i.quantity} ({i.unit})" for i in datasheet.inputs.values() if i.ranges)
        message = f"{datasheet.model} does not take {what}"
        findings.error("unknown-signal", place, message, valid=valid)
        return None
    _report_useless(channel, ("states",), "is for contacts only", path, findings)
    if channel.scale:
        scale, unit = _typed_scale(channel, kind, path, findings)
    else:
        assert signal is not None
        unit = channel.unit or signal.unit or kind.unit
        low, high = signal.ends_in(kind.unit)
        scale = TwoPoint(low, high, convert(low, kind.unit, unit), convert(high, kind.unit, unit))
    if signal is not None:
        _check_signal_covers(signal, scale, kind, place, findings)
    ends = sorted((scale.value_low, scale.value_high))
    return Measurement(
        kind=kind.quantity, input=kind, unit=unit, scale=scale, span=(ends[0], ends[1])
    )


def _typed_scale(
    channel: Channel, kind: Input, path: Path, findings: Findings
) -> tuple[TwoPoint, Unit]:
    assert channel.scale is not None
    (signal_1, value_1), (signal_2, value_2) = channel.scale.points
    typed_unit = value_2.unit or value_1.unit
    unit = channel.unit or typed_unit or parse_unit("")
    if typed_unit is not None and typed_unit.dimension != unit.dimension:
        findings.error(
            "wrong-unit",
            (*path, "unit"),
            f"the scale leads to {typed_unit}, the channel is in {unit}",
            valid=f"a unit of {typed_unit.dimension}, such as {typed_unit}",
        )
        unit = typed_unit
    scale = TwoPoint(
        signal_1.value_in(kind.unit),
        signal_2.value_in(kind.unit),
        value_1.value_in(unit),
        value_2.value_in(unit),
    )
    return scale, unit


def _check_signal_covers(
    signal: Span, scale: TwoPoint, kind: Input, place: Path, findings: Findings
) -> None:
    low, high = sorted(signal.ends_in(kind.unit))
    ends = sorted((scale.signal_low, scale.signal_high))
    slack = 1e-9 * (high - low)
    if ends[0] < low - slack or ends[1] > high + slack:
        needed = Span(ends[0], ends[1], kind.unit)
        findings.error(
            "scale-outside-signal",
            place,
            f"the scale needs {needed}, the signal is said to be {signal}",
            remedy="make the two agree: one of them is a slip",
        )


def _expected(
    channel: Channel, measurement: Measurement, path: Path, findings: Findings
) -> tuple[float, float] | None:
    expect = channel.expect
    place = (*path, "expect")
    if expect is None:
        return None
    if measurement.kind == CONTACT:
        states = _states(channel)
        if expect in states:
            return float(states.index(str(expect))), 0.0
        message = f"{expect} is none of the contact's two states"
        findings.error("wrong-state", place, message, valid=" or ".join(states))
        return None
    if not isinstance(expect, Expected):
        valid = f"value ± tolerance in {measurement.unit}"
        message = f"{expect!r} is a state, and this is no contact"
        findings.error("wrong-state", place, message, valid=valid)
        return None
    try:
        value, tolerance = expect.value_in(measurement.unit)
    except QuantityError as error:
        message = f"expect: {error.message}"
        findings.error("wrong-unit", place, message, valid=error.valid)
        return None
    low, high = measurement.span
    if not low <= value <= high:
        span = Span(low, high, measurement.unit)
        message = f"{expect} is outside what the channel can show"
        findings.error("expected-outside-span", place, message, valid=str(span))
    return value, tolerance


def _states(channel: Channel) -> tuple[str, str]:
    named = channel.states or {}
    return named.get("open", STATES[0]), named.get("closed", STATES[1])


def _no_alarms(channel: Channel, path: Path, findings: Findings) -> Iterator[AlarmPoint]:
    if channel.alarms:
        message = "a contact has no trip point; alarms on states are not known yet"
        findings.error("useless-key", (*path, "alarms"), message, at_key=True, remedy="remove them")
    yield from ()


def _range(
    channel: Channel,
    measurement: Measurement,
    expected: tuple[float, float] | None,
    alarms: tuple[AlarmPoint, ...],
    path: Path,
    findings: Findings,
) -> Range | None:
    if measurement.kind == CONTACT:
        return None
    used = [point for alarm in alarms for point in (alarm.trip, alarm.clear)]
    if expected is not None:
        used += [expected[0] - expected[1], expected[0] + expected[1]]
    low, high = measurement.span
    used = [min(max(value, low), high) for value in used]
    m = measurement
    return choose_range(
        channel.range, m.input, m.scale or m.sensor, m.unit, used, (*path, "range"), findings
    )
