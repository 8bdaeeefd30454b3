"""Assigning channels to a device's inputs: what each becomes there, or why it cannot."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from leitwerk.alarms.bands import Bands
from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.check.alarm_doubts import Scope, check_chatter, check_doubt, may_chatter
from leitwerk.check.alarms import alarm_points, device_alarm
from leitwerk.check.bands import channel_bands
from leitwerk.check.calibration import check_reach, correction_of, upkeep_links
from leitwerk.check.measurement import Measurement, read_measurement, report_useless
from leitwerk.check.ranges import choose_range, needed_signal, ranging
from leitwerk.datasheet.model import Datasheet, Input, Range, Terminal
from leitwerk.datasheet.points import Point
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import Expected, Span, format_value
from leitwerk.parsing.units import Unit, parse_unit
from leitwerk.setup.fields import CONTACT
from leitwerk.setup.model import Channel, Setup

STATES = ("open", "closed")  # as numbers 0 and 1


@dataclass(frozen=True, slots=True)
class Assignment:
    """A channel on one device's input, with everything in the units that are used there.

    ``alarms`` are in the channel's unit, ``device_alarms`` the same in what the device shows; one
    that the device cannot have is missing there. ``reading`` is for what the device measures by
    itself: such a channel has no terminal and no slot (0).
    """

    name: str
    label: str
    terminal: str
    slot: int
    reading: Point | None
    measurement: Measurement
    range: Range | None
    expected: tuple[float, float] | None
    states: tuple[str, str]
    alarms: tuple[AlarmDefinition, ...]
    device_alarms: tuple[AlarmDefinition, ...]
    bands: Bands | None = None

    @property
    def unit(self) -> Unit:
        """The unit of the channel's values."""
        return self.measurement.unit

    @property
    def is_contact(self) -> bool:
        """Whether the values are states: 0 open, 1 closed."""
        return self.measurement.kind == CONTACT

    def words(self, value: float | None) -> str:
        """A value of this channel for people: with its unit, or as its state."""
        if value is None or math.isnan(value):
            return "no reading"
        if self.is_contact:
            return self.states[round(value)]
        return format_value(float(f"{value:.5g}"), self.unit)


def assign_channels(setup: Setup, datasheet: Datasheet, findings: Findings) -> list[Assignment]:
    """The channels of a setup on the inputs of a device; findings take what does not fit.

    A channel with an error may be missing from the result.
    """
    assigned = []
    taken: dict[str, str] = {}
    every = tuple(setup.channels)
    for name, channel in setup.channels.items():
        path = ("channels", name)
        if channel.reading is not None:
            assigned += own_reading(name, channel, datasheet, path, findings, every)
            continue
        if channel.terminal is None:
            _report_nowhere(datasheet, path, findings)
            continue
        terminal = _terminal(channel.terminal, datasheet, taken, path, findings)
        taken.setdefault(channel.terminal, name)
        measurement = read_measurement(channel, datasheet, path, findings)
        if measurement is None:
            continue
        if terminal is not None and measurement.input.quantity not in terminal.takes:
            _report_wrong_terminal(channel, terminal, measurement, datasheet, path, findings)
        expected = _expected(channel, measurement, path, findings)
        scope = Scope(
            measurement.unit,
            measurement.span,
            expected,
            every,
            _states(channel) if measurement.kind == CONTACT else None,
        )
        alarms = tuple(alarm_points(channel, scope, path, findings))
        if alarms:
            correction = correction_of(measurement.host)
            known = (correction.expanded if correction else None) or 0.0
            check_doubt(alarms, scope, known, path, findings)
        if terminal is not None:
            assigned.append(
                Assignment(
                    name=name,
                    label=channel.label or name,
                    terminal=terminal.name,
                    slot=terminal.slot,
                    reading=None,
                    measurement=measurement,
                    range=_range(channel, measurement, expected, alarms, path, findings),
                    expected=expected,
                    states=_states(channel),
                    alarms=alarms,
                    device_alarms=tuple(_on_device(alarms, measurement, path, findings)),
                    bands=channel_bands(channel, measurement.unit, path, findings),
                )
            )
    return assigned


def _terminal(
    name: str, datasheet: Datasheet, taken: dict[str, str], path: KeyPath, findings: Findings
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
        findings.error(
            "unknown-terminal",
            place,
            f"{datasheet.model} has no terminal {name}",
            valid=_names(datasheet.terminals),
        )
    return terminal


def _report_nowhere(datasheet: Datasheet, path: KeyPath, findings: Findings) -> None:
    if findings.mentions((*path, "terminal")):
        return  # it could not be read, and has its finding
    where = [f"terminal: {name}" for name in list(datasheet.terminals)[:1]]
    where += [f"reading: {name}" for name in list(datasheet.own_readings)[:1]]
    findings.error(
        "missing-key",
        path,
        "the channel does not say where its values come from",
        at_key=True,
        valid=", or ".join(where),
        remedy="add a line 'terminal: …' or 'reading: …'",
    )


def own_reading(
    name: str,
    channel: Channel,
    datasheet: Datasheet,
    path: KeyPath,
    findings: Findings,
    channels: Sequence[str] = (),
) -> list[Assignment]:
    """A channel of what the device measures by itself; empty when there is no such reading."""
    assert channel.reading is not None
    point = datasheet.own_readings.get(channel.reading)
    if point is None:
        near = difflib.get_close_matches(channel.reading, datasheet.own_readings, n=1)
        message = f"{datasheet.model} has no reading {channel.reading!r} of its own"
        remedy = f"did you mean {near[0]!r}?" if near else ""
        valid = _names(datasheet.own_readings)
        place = (*path, "reading")
        findings.error("unknown-reading", place, message, valid=valid, remedy=remedy)
        return []
    wired = ("terminal", "sensor", "signal", "range", "shunt", "leads", "scale", "states")
    report_useless(
        channel, wired, "is for terminals; the device measures this itself", path, findings
    )
    unit = parse_unit(point.unit)
    if channel.unit is not None and channel.unit != unit:
        message = f"{datasheet.model} gives {point.name} in {unit}, not in {channel.unit}"
        findings.error("wrong-unit", (*path, "unit"), message, valid=str(unit))
    host = upkeep_links(channel, unit, path, findings)
    low, high = host.value(point.span()).tolist()
    measurement = Measurement(
        kind=point.name,
        input=Input(point.name, unit),
        unit=unit,
        shown_unit=unit,
        host=host,
        span=(min(low, high), max(low, high)),
    )
    expected = _expected(channel, measurement, path, findings)
    scope = Scope(unit, measurement.span, expected, channels)
    alarms = tuple(alarm_points(channel, scope, path, findings))
    if alarms:
        names = ", ".join(alarm.name for alarm in alarms)
        message = (
            f"the device has no alarms on what it measures itself; only Leitwerk watches {names}"
        )
        place = (*path, "alarms") if findings.mentions((*path, "alarms")) else (*path, "limits")
        findings.warning("not-kept", place, message, at_key=True)
    return [
        Assignment(
            name=name,
            label=channel.label or name,
            terminal="",
            slot=0,
            reading=point,
            measurement=measurement,
            range=None,
            expected=expected,
            states=STATES,
            alarms=alarms,
            device_alarms=(),
            bands=channel_bands(channel, unit, path, findings),
        )
    ]


def _names(names: object) -> str:
    every = list(names)  # type: ignore[call-overload]
    return ", ".join(every[:20]) + (", …" if len(every) > 20 else "")


def _report_wrong_terminal(
    channel: Channel,
    terminal: Terminal,
    measurement: Measurement,
    datasheet: Datasheet,
    path: KeyPath,
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


def _expected(
    channel: Channel, measurement: Measurement, path: KeyPath, findings: Findings
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


def _range(
    channel: Channel,
    measurement: Measurement,
    expected: tuple[float, float] | None,
    alarms: tuple[AlarmDefinition, ...],
    path: KeyPath,
    findings: Findings,
) -> Range | None:
    if measurement.kind == CONTACT:
        return None
    used = judged_values(expected, alarms)
    check_reach(correction_of(measurement.host), used, measurement.unit, path, findings)
    chosen = choose_range(channel.range, measurement, used, (*path, "range"), findings)
    close = [alarm for alarm in alarms if may_chatter(alarm, measurement.span)]
    if chosen is not None and close and chosen.holds(*needed_signal(measurement, used)):
        step = ranging(measurement, used).fit(chosen).noise_free
        check_chatter(close, step, measurement.unit, path, findings)
    return chosen


def _on_device(
    alarms: tuple[AlarmDefinition, ...], measurement: Measurement, path: KeyPath, findings: Findings
) -> Iterator[AlarmDefinition]:
    for alarm in alarms:
        stored = device_alarm(alarm, measurement.host)
        if stored is not None:
            yield stored
        elif not alarm.side or alarm.only_while is not None:
            message = "the device has no alarms of this kind; only Leitwerk watches it"
            findings.note("not-kept", (*path, "alarms", alarm.name), message)
        elif measurement.span[0] <= alarm.point[0] <= measurement.span[1]:
            findings.warning(
                "not-kept",
                (*path, "alarms", alarm.name),
                "the device cannot have this alarm, as its point stands for no single reading "
                "there; only Leitwerk will watch it",
            )


def judged_values(
    expected: tuple[float, float] | None, alarms: tuple[AlarmDefinition, ...]
) -> list[float]:
    """Values that a channel must be able to show: expectation with its tolerance, alarm points."""
    used = [point for alarm in alarms if alarm.watch is Watch.VALUE for point in alarm.points]
    if expected is not None:
        used += [expected[0] - expected[1], expected[0] + expected[1]]
    return used
