"""Assigning channels to a device's inputs: what each becomes there, or why it cannot."""

from __future__ import annotations

import difflib
from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from leitwerk.alarms.bands import Bands
from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.calibration.record import Uncorrected
from leitwerk.check.alarm_doubts import Scope, check_chatter, check_doubt, may_chatter
from leitwerk.check.alarms import check_alarms, device_alarm, input_alarms
from leitwerk.check.bands import channel_bands
from leitwerk.check.calibration import (
    calibration_record,
    calibration_stages,
    check_reach,
    check_residuals,
    correction_of,
)
from leitwerk.check.channels import (
    CheckedChannel,
    ContactChannel,
    CounterChannel,
    ReadingChannel,
    SignalChannel,
)
from leitwerk.check.measurement import (
    CONTACT_USELESS,
    Measurement,
    has_two_scales,
    read_measurement,
    report_useless,
    unit_stage,
)
from leitwerk.check.ranges import choose_range, needed_signal, ranging
from leitwerk.datasheet.model import Datasheet, Range, Terminal
from leitwerk.datasheet.vocabulary import CHANNEL_VALUE
from leitwerk.errors import QuantityError, UnitError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import Expected, Span
from leitwerk.parsing.units import Unit, convert_difference, parse_unit
from leitwerk.setup.fields import CONTACT, COUNTER
from leitwerk.setup.model import Channel, Pulses, Setup
from leitwerk.signals.angles import full_turn
from leitwerk.signals.pulse_inputs import PULSED
from leitwerk.signals.scale import Chain, Labelled
from leitwerk.signals.states import StateNames


def assign_channels(
    setup: Setup, datasheet: Datasheet, findings: Findings
) -> Iterator[CheckedChannel]:
    """The channels of a setup on the inputs of a device; findings take what does not fit.

    A channel with an error may be missing from the result.
    """
    taken: dict[str, str] = {}
    every = tuple(setup.channels)
    bodies = _Bodies(every, datasheet)
    for name, channel in setup.channels.items():
        path = ("channels", name)
        found: CheckedChannel | None
        if channel.computed is not None:
            continue
        report_useless(channel, ("inputs",), "is for computed channels", path, findings)
        if channel.reading is not None:
            found = own_reading(name, channel, datasheet, every, findings)
        elif channel.terminal is None:
            _report_nowhere(datasheet, path, findings)
            continue
        elif has_two_scales(channel, path, findings):
            continue
        else:
            terminal = _terminal(channel.terminal, datasheet, taken, path, findings)
            taken.setdefault(channel.terminal, name)
            if channel.signal == CONTACT:
                found = _contact(name, channel, terminal, datasheet, every, findings)
            elif channel.signal == COUNTER:
                found = _counter(name, channel, terminal, datasheet, every, findings)
            else:
                found = _signal(name, channel, terminal, datasheet, findings, bodies)
        if found is not None:
            yield found


# ---------------------------------------------------------------------- one for each kind


def _signal(
    name: str,
    channel: Channel,
    terminal: Terminal | None,
    datasheet: Datasheet,
    findings: Findings,
    bodies: _Bodies,
) -> SignalChannel | None:
    """A sensor or a signal at a terminal."""
    body = bodies.of(name, channel, findings)
    if body is None or terminal is None:
        return None
    m = body.measurement
    _check_takes(terminal, m.input.quantity, datasheet, ("channels", name), findings)
    takes_pulses = m.input.quantity in PULSED
    if not takes_pulses:
        report_useless(channel, ("pulses",), "is for pulses only", ("channels", name), findings)
    return SignalChannel(
        name=name,
        label=channel.label or name,
        kind=m.kind,
        unit=m.unit,
        span=m.span,
        host=m.host,
        states=None,
        terminal=terminal,
        measurement=m,
        sensor_uncertainty=_sensor_uncertainty(channel, m.unit),
        expected=body.expected,
        alarms=body.alarms,
        device_alarms=body.device_alarms,
        bands=body.bands,
        turn=body.turn,
        range=body.range,
        uncorrected=body.uncorrected,
        pulses=(channel.pulses or Pulses()) if takes_pulses else None,
    )


def _sensor_uncertainty(channel: Channel, unit: Unit) -> float:
    """The expanded uncertainty (k = 2) of a sensor of one's own; 0 where a calibration replaces it.

    Only a calibration that corrects, and says how well it is known, does that; else it stays.
    """
    own, held = channel.own_sensor, channel.calibration
    if own is None or own.uncertainty is None:
        return 0.0
    if held is not None and held.correct != "none" and (held.uncertainty or held.found.expanded):
        return 0.0
    given = own.uncertainty
    try:
        return (
            given.value if given.unit is None else convert_difference(given.value, given.unit, unit)
        )
    except UnitError:
        return 0.0  # the channel is in a unit of another kind: it has a scale of its own


def _uncorrected(channel: Channel, unit: Unit) -> Uncorrected | None:
    """What its calibration found and does not correct; what is wrong in it has its findings already."""
    record = calibration_record(channel, unit, (), Findings(""))
    return None if record is None else record.uncorrected


class _SignalBody(NamedTuple):
    """What a signal channel is but for its name, its label and its terminal."""

    measurement: Measurement
    expected: tuple[float, float] | None
    alarms: tuple[AlarmDefinition, ...]
    device_alarms: tuple[AlarmDefinition, ...]
    bands: Bands | None
    range: Range | None
    turn: float
    uncorrected: Uncorrected | None


def _signal_body(
    channel: Channel, datasheet: Datasheet, every: Sequence[str], path: KeyPath, findings: Findings
) -> _SignalBody | None:
    m = read_measurement(channel, datasheet, path, findings)
    if m is None:
        return None
    expected = _expected_number(channel, m.unit, m.span, path, findings)
    turn = _turn(channel, m.unit, path, findings)
    scope = Scope(m.unit, m.span, expected, every, turn=turn)
    alarms = check_alarms(channel, scope, path, findings)
    correction = correction_of(m.host)
    if alarms:
        check_doubt(alarms, scope, (correction and correction.expanded) or 0.0, path, findings)
    used = judged_values(expected, alarms)
    check_reach(correction, used, m.unit, path, findings)
    check_residuals(correction, m.unit, path, findings)
    chosen = choose_range(channel.range, m, used, (*path, "range"), findings)
    _check_noise(chosen, alarms, m, used, path, findings)
    device_alarms = _on_device(alarms, m.host, datasheet)
    bands = channel_bands(channel, m.unit, path, findings)
    return _SignalBody(
        m, expected, alarms, device_alarms, bands, chosen, turn, _uncorrected(channel, m.unit)
    )


class _Bodies:
    """The bodies of signal channels; of those that are alike, it is worked out once.

    Only a body without findings is kept: a finding belongs to its place.
    """

    def __init__(self, names: Sequence[str], datasheet: Datasheet) -> None:
        self._names, self._datasheet = names, datasheet
        self._known: dict[Hashable, _SignalBody] = {}

    def of(self, name: str, channel: Channel, findings: Findings) -> _SignalBody | None:
        """The body of a channel, None where it has an error that leaves nothing."""
        body = self._known.get(channel.body)
        if body is None:
            before = len(findings)
            body = _signal_body(channel, self._datasheet, self._names, ("channels", name), findings)
            if body is not None and channel.body is not None and len(findings) == before:
                self._known[channel.body] = body
        return body


def _contact(
    name: str,
    channel: Channel,
    terminal: Terminal | None,
    datasheet: Datasheet,
    every: Sequence[str],
    findings: Findings,
) -> ContactChannel | None:
    """A contact at a terminal."""
    path = ("channels", name)
    if CONTACT not in datasheet.inputs:
        message = f"{datasheet.model} has no input for a contact"
        findings.error("unknown-signal", (*path, "signal"), message)
        return None
    report_useless(
        channel, (*CONTACT_USELESS, "pulses"), "means nothing for a contact", path, findings
    )
    if terminal is not None:
        _check_takes(terminal, CONTACT, datasheet, path, findings)
    named = channel.states or {}
    states = StateNames(((0.0, named.get("open", "open")), (1.0, named.get("closed", "closed"))))
    unit, span = parse_unit(""), (0.0, 1.0)
    judged = judged_by(channel, unit, span, states, every, findings, path)
    if terminal is None:
        return None
    return ContactChannel(
        name=name,
        label=channel.label or name,
        kind=CONTACT,
        unit=unit,
        span=span,
        host=Chain(),
        states=states,
        expected=judged.expected,
        alarms=judged.alarms,
        device_alarms=_on_device(judged.alarms, Chain(), datasheet),
        bands=judged.bands,
        turn=judged.turn,
        terminal=terminal,
    )


def _counter(
    name: str,
    channel: Channel,
    terminal: Terminal | None,
    datasheet: Datasheet,
    every: Sequence[str],
    findings: Findings,
) -> CounterChannel | None:
    """A counter of pulses at a terminal."""
    path = ("channels", name)
    if COUNTER not in datasheet.inputs:
        message = f"{datasheet.model} has no input that counts pulses"
        findings.error("unknown-signal", (*path, "signal"), message)
        return None
    useless = (*CONTACT_USELESS, "states", "time_constant")
    report_useless(channel, useless, "means nothing for a counter", path, findings)
    if terminal is None:
        return None
    _check_takes(terminal, COUNTER, datasheet, path, findings)
    unit, span = parse_unit(""), datasheet.point(CHANNEL_VALUE, terminal.slot).span()
    judged = judged_by(channel, unit, span, None, every, findings, path)
    return CounterChannel(
        name=name,
        label=channel.label or name,
        kind=COUNTER,
        unit=unit,
        span=span,
        host=Chain(),
        states=None,
        expected=judged.expected,
        alarms=judged.alarms,
        device_alarms=_on_device(judged.alarms, Chain(), datasheet),
        bands=judged.bands,
        turn=judged.turn,
        terminal=terminal,
        pulses=channel.pulses or Pulses(),
    )


def own_reading(
    name: str,
    channel: Channel,
    datasheet: Datasheet,
    every: Sequence[str],
    findings: Findings,
) -> ReadingChannel | None:
    """What the device measures by itself."""
    path = ("channels", name)
    assert channel.reading is not None
    readings = {
        name: point
        for name, point in datasheet.own_readings.items()
        if not (point.is_text or point.is_time)
    }
    point = readings.get(channel.reading)
    if point is None:
        near = difflib.get_close_matches(channel.reading, readings, n=1)
        is_text = channel.reading in datasheet.own_readings
        message = (
            f"the reading {channel.reading!r} of {datasheet.model} is a text or a time, and no number"
            if is_text
            else f"{datasheet.model} has no reading {channel.reading!r} of its own"
        )
        remedy = f"did you mean {near[0]!r}?" if near else ""
        valid = _names(readings)
        place = (*path, "reading")
        findings.error("unknown-reading", place, message, valid=valid, remedy=remedy)
        return None
    useless = (
        "terminal",
        "pulses",
        "sensor",
        "signal",
        "range",
        "scale",
        "shunt",
        "leads",
        "states",
    )
    why = "means nothing where the device measures this itself"
    report_useless(channel, useless, why, path, findings)
    states, unit, converted = None, parse_unit(point.unit), Chain()
    if point.choice_numbers:
        states = StateNames(tuple((number, word) for word, number in point.choice_numbers))
        why = "means nothing for a reading that has states"
        report_useless(channel, ("unit", "calibration", "tare"), why, path, findings)
    elif channel.unit is not None and channel.unit != unit:
        if channel.unit.dimension == unit.dimension:
            stage = Labelled(f"{unit} to {channel.unit}", unit_stage(unit, channel.unit))
            unit, converted = channel.unit, Chain((stage,))
        else:
            message = f"{datasheet.model} gives {point.name} in {unit}, not in {channel.unit}"
            valid = f"a unit of {unit.dimension}, such as {unit}"
            findings.error("wrong-unit", (*path, "unit"), message, valid=valid)
    host = converted.then(calibration_stages(channel, unit, path, findings))
    low, high = host.value(point.span()).tolist()
    span = (min(low, high), max(low, high))
    judged = judged_by(channel, unit, span, states, every, findings, path)
    return ReadingChannel(
        name=name,
        label=channel.label or name,
        kind=point.name,
        unit=unit,
        span=span,
        host=host,
        states=states,
        expected=judged.expected,
        alarms=judged.alarms,
        device_alarms=(),
        bands=judged.bands,
        turn=judged.turn,
        point=point,
    )


# ---------------------------------------------------------------------- what several share


def _terminal(
    name: str,
    datasheet: Datasheet,
    taken: Mapping[str, str],
    path: KeyPath,
    findings: Findings,
) -> Terminal | None:
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
        message = f"{datasheet.model} has no terminal {name}"
        findings.error("unknown-terminal", place, message, valid=_names(datasheet.terminals))
    return terminal


def _report_nowhere(datasheet: Datasheet, path: KeyPath, findings: Findings) -> None:
    if findings.mentions((*path, "terminal")):
        return  # it could not be read, and has its finding
    if findings.mentions((*path, "computed")):
        return
    if any(f.is_error and f.path and f.path.split(".")[0] in {"wiring", "sound"} for f in findings):
        return  # it may be one that follows from this section, which has its finding
    where = [f"terminal: {name}" for name in list(datasheet.terminals)[:1]]
    where += [f"reading: {name}" for name in list(datasheet.own_readings)[:1]]
    findings.error(
        "missing-key",
        path,
        "the channel does not say where its values come from",
        at_key=True,
        valid=", or ".join(where),
        remedy="add a line 'terminal: …', 'reading: …' or 'computed: …'",
    )


def _check_takes(
    terminal: Terminal, quantity: str, datasheet: Datasheet, path: KeyPath, findings: Findings
) -> None:
    if quantity in terminal.takes:
        return
    fitting = [t.name for t in datasheet.terminals.values() if quantity in t.takes]
    findings.error(
        "wrong-terminal",
        (*path, "terminal"),
        f"terminal {terminal.name} takes {' or '.join(terminal.takes)}, not {quantity}",
        valid=f"for {quantity}: {_names(fitting)}" if fitting else "",
    )


class Judged(NamedTuple):
    """What the values of a channel are held against."""

    expected: tuple[float, float] | None
    alarms: tuple[AlarmDefinition, ...]
    bands: Bands | None
    turn: float


def judged_by(
    channel: Channel,
    unit: Unit,
    span: tuple[float, float],
    states: StateNames | None,
    every: Sequence[str],
    findings: Findings,
    path: KeyPath,
) -> Judged:
    """Expectation, alarms and bands of a channel in its unit."""
    if states is None:
        expected = _expected_number(channel, unit, span, path, findings)
    else:
        expected = _expected_state(channel, states, path, findings)
    turn = _turn(channel, unit, path, findings)
    scope = Scope(unit, span, expected, every, states, turn)
    alarms = check_alarms(channel, scope, path, findings)
    return Judged(expected, alarms, channel_bands(channel, unit, path, findings), turn)


def _turn(channel: Channel, unit: Unit, path: KeyPath, findings: Findings) -> float:
    """A full turn in the unit of a channel that is an angle and begins again after it; else 0."""
    turn = full_turn(unit)
    if channel.circular is not None and not turn:
        report_useless(channel, ("circular",), "is for angles only", path, findings)
    return 0.0 if channel.circular == "no" else turn


def _expected_number(
    channel: Channel,
    unit: Unit,
    span: tuple[float, float],
    path: KeyPath,
    findings: Findings,
) -> tuple[float, float] | None:
    """Value and tolerance that are expected, in the channel's unit."""
    expect, place = channel.expect, (*path, "expect")
    if expect is None:
        return None
    if not isinstance(expect, Expected):
        message = f"{expect!r} is a state, and this channel has numbers"
        findings.error("wrong-state", place, message, valid=f"value ± tolerance in {unit}")
        return None
    try:
        value, tolerance = expect.value_in(unit)
    except QuantityError as error:
        message = f"expect: {error.message}"
        findings.error("wrong-unit", place, message, valid=error.valid)
        return None
    if not span[0] <= value <= span[1]:
        message = f"{expect} is outside what the channel can show"
        findings.error("expected-outside-span", place, message, valid=str(Span(*span, unit)))
    return value, tolerance


def _expected_state(
    channel: Channel, states: StateNames, path: KeyPath, findings: Findings
) -> tuple[float, float] | None:
    """The state that is expected, as its number, without a tolerance."""
    if channel.expect is None:
        return None
    if channel.expect in states.names:
        return states.number(str(channel.expect)), 0.0
    message = f"{channel.expect} is not one of the states of this channel"
    findings.error("wrong-state", (*path, "expect"), message, valid=" or ".join(states.names))
    return None


def _check_noise(
    chosen: Range | None,
    alarms: Sequence[AlarmDefinition],
    m: Measurement,
    used: Sequence[float],
    path: KeyPath,
    findings: Findings,
) -> None:
    """Alarms that trip and clear within what the input's own noise does."""
    close = [alarm for alarm in alarms if may_chatter(alarm, m.span)]
    if chosen is not None and close and chosen.holds(*needed_signal(m, used)):
        step = ranging(m, used).fit(chosen).noise_free
        check_chatter(close, step, m.unit, path, findings)


def _on_device(
    alarms: Iterable[AlarmDefinition], host: Chain, datasheet: Datasheet
) -> tuple[AlarmDefinition, ...]:
    """The alarms that the device can watch itself, in terms of what it shows."""
    if datasheet.alarms_by_input:
        return input_alarms(alarms, host, datasheet)
    turned = (device_alarm(alarm, host, datasheet) for alarm in alarms)
    return tuple(alarm for alarm in turned if alarm is not None)


def judged_values(
    expected: tuple[float, float] | None, alarms: Iterable[AlarmDefinition]
) -> list[float]:
    """Values that a channel must be able to show: expectation with its tolerance, alarm points."""
    used = [point for alarm in alarms if alarm.watch is Watch.VALUE for point in alarm.points]
    if expected is not None:
        used += [expected[0] - expected[1], expected[0] + expected[1]]
    return used


def _names(names: Iterable[str]) -> str:
    every = list(names)
    return ", ".join(every[:20]) + (", …" if len(every) > 20 else "")
