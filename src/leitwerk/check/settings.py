"""The settings that a setup asks for, and those by which it gives up what it does not use.

Parts of a device that setups assign (channels, alarms, relays, outputs, contacts, bands) belong to the
last setup alone: what this one does not use is cleared, by the value that the vocabulary names, or it
stays as it was where the model has no such value; the account says which. All other settings of the
device stay as they are.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from leitwerk.check.channels import (
    CheckedChannel,
    SignalChannel,
    WiredChannel,
    measured,
)
from leitwerk.check.outputs import AnalogOutput, CheckedOutput, RelayOutput, ends_at
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.vocabulary import (
    ALARM_CHANNEL,
    ALARM_CLEAR,
    ALARM_CLEAR_DELAY,
    ALARM_CONDITION,
    ALARM_DELAY,
    ALARM_LATCH,
    ALARM_SEVERITY,
    ALARM_TRIP,
    BAND_COLOR,
    BAND_END,
    BAND_HYSTERESIS,
    BAND_READING,
    BAND_TEXT,
    BUS_UNIT,
    CHANNEL_LABEL,
    CHANNEL_RANGE,
    CHANNEL_SENSOR,
    CHANNEL_UNIT,
    CONTACT_NAME,
    CONTACT_NUMBER,
    INPUT_ALARM_DELAY,
    INPUT_ALARM_HIGH,
    INPUT_ALARM_HYSTERESIS,
    INPUT_ALARM_LOW,
    OUTPUT_BAD,
    OUTPUT_HIGH,
    OUTPUT_LOW,
    OUTPUT_SHOWS,
    PULSE_FILTER,
    PULSE_GATE,
    PULSE_MISSING,
    PULSE_MISSING_AFTER,
    RELAY_ALARMS,
    RELAY_LEAST_OFF,
    RELAY_LEAST_ON,
    RELAY_LIMIT,
    RELAY_NORMAL,
    RELAY_SAFE,
    REPORT_INTERVAL,
    SAMPLE_INTEGRATION,
    SAMPLE_INTERVAL,
    SIGNAL_HIGH,
    SIGNAL_LOW,
    STORAGE_INTERVAL,
    TITLE,
    VALUE_HIGH,
    VALUE_LOW,
    WHEN_FULL,
    KnownPoint,
)
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.setup.fields import secret_variable
from leitwerk.setup.model import Pulses, Setup
from leitwerk.signals.linear import TwoPoint


class Wanted(NamedTuple):
    """One setting that a setup asks for: which, its index, the value, and the key that asks for it.

    ``path`` is empty where no key asks: a part that is cleared, or what follows from other keys.
    """

    known: KnownPoint
    number: int | None
    value: Stored
    path: KeyPath
    unit: str = ""

    @property
    def clears(self) -> bool:
        """Whether this gives up a part of the device that the setup does not use."""
        return not self.path and self.known.cleared is not None and self.value == self.known.cleared


def wanted_settings(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    outputs: Sequence[CheckedOutput],
) -> Iterator[Wanted]:
    """Every setting of the vocabulary that a setup determines, whether the model has it or not."""
    yield Wanted(TITLE, None, setup.title, ("title",))
    yield from _timing(setup, datasheet)
    used = [c for c in channels if isinstance(c, WiredChannel)]
    for channel in used:
        yield from _channel(channel)
    slots = {t.slot for t in datasheet.terminals.values()} - {c.slot for c in used}
    yield from cleared_parts(CHANNEL_SENSOR, sorted(slots), datasheet)
    idle = slots
    if datasheet.alarms_by_input:
        for channel in used:
            yield from _input_alarms(channel, datasheet)
    else:
        yield from _alarms(datasheet, used)
        idle = slots | {c.slot for c in used}  # a model with both kinds uses its list only
    for known in (INPUT_ALARM_HIGH, INPUT_ALARM_LOW):
        yield from cleared_parts(known, sorted(idle), datasheet)
    yield from _bands(datasheet, channels)
    yield from _outputs(datasheet, channels, outputs)
    yield from _contacts(setup, datasheet)


def cleared_parts(
    known: KnownPoint, indices: Iterable[int], datasheet: Datasheet
) -> Iterator[Wanted]:
    """What gives up the parts with these indices; nothing where the model has no value for that."""
    if not can_clear(known, datasheet):
        return
    assert known.cleared is not None
    for index in indices:
        yield Wanted(known, index, known.cleared, ())


def can_clear(known: KnownPoint, datasheet: Datasheet) -> bool:
    """Whether a model can store the value by which a part is given up."""
    family = datasheet.family(known)
    if family is None or known.cleared is None:
        return False
    try:
        return family.storable(known.cleared) == known.cleared
    except QuantityError:
        return False


def _timing(setup: Setup, datasheet: Datasheet) -> Iterator[Wanted]:
    """Intervals, and what happens when the memory is full."""
    if setup.sample is not None:
        yield Wanted(SAMPLE_INTERVAL, None, setup.sample.seconds, ("sample",), "s")
    store = setup.store or setup.sample
    if store is not None and (setup.store is not None or datasheet.has(STORAGE_INTERVAL)):
        key = "store" if setup.store else "sample"
        yield Wanted(STORAGE_INTERVAL, None, store.seconds, (key,), "s")
    if setup.report is not None:
        yield Wanted(REPORT_INTERVAL, None, setup.report.seconds, ("report",), "s")
    usual = datasheet.timing.integration_s[:1]
    integration = setup.integration.seconds if setup.integration else (usual[0] if usual else None)
    if integration is not None and (setup.integration or datasheet.has(SAMPLE_INTEGRATION)):
        path = ("integration",) if setup.integration else ()
        yield Wanted(SAMPLE_INTEGRATION, None, 1e3 * integration, path, "ms")
    if datasheet.has(WHEN_FULL) or setup.when_full != "stop":
        yield Wanted(WHEN_FULL, None, setup.when_full, ("when_full",))


def _channel(c: WiredChannel) -> Iterator[Wanted]:
    path = ("channels", c.name)
    has_sensor = isinstance(c, SignalChannel) and c.measurement.sensor is not None
    key = "sensor" if has_sensor else "signal"
    yield Wanted(CHANNEL_SENSOR, c.slot, c.kind, (*path, key))
    yield Wanted(CHANNEL_LABEL, c.slot, c.label, (*path, "label"))
    if c.pulses is not None:
        yield from _pulses(c.pulses, c.slot, path)
    if not isinstance(c, SignalChannel):
        yield Wanted(CHANNEL_RANGE, c.slot, "none", ())
        yield Wanted(CHANNEL_UNIT, c.slot, "", ())
        return
    range_ = c.range.name if c.range else "none"
    yield Wanted(CHANNEL_RANGE, c.slot, range_, (*path, "range"))
    shown_unit = c.measurement.shown_unit.symbol
    yield Wanted(CHANNEL_UNIT, c.slot, shown_unit, (*path, "unit"))
    if isinstance(scale := c.measurement.shown, TwoPoint):
        signal_unit = c.measurement.input.unit.symbol
        if c.measurement.input.ends is None:
            yield Wanted(SIGNAL_LOW, c.slot, scale.signal_low, (*path, "scale"), signal_unit)
            yield Wanted(SIGNAL_HIGH, c.slot, scale.signal_high, (*path, "scale"), signal_unit)
        yield Wanted(VALUE_LOW, c.slot, scale.value_low, (*path, "scale"), shown_unit)
        yield Wanted(VALUE_HIGH, c.slot, scale.value_high, (*path, "scale"), shown_unit)


def _pulses(pulses: Pulses, slot: int, path: KeyPath) -> Iterator[Wanted]:
    """How an input counts pulses: what is not typed is set as well, so that nothing is left of before."""
    wanted: tuple[tuple[str, KnownPoint, Stored, str], ...] = (
        ("gate", PULSE_GATE, pulses.gate.seconds, "s"),
        ("filter", PULSE_FILTER, round(1e3 * pulses.filter.seconds, 9), "ms"),
        ("missing", PULSE_MISSING, pulses.missing, ""),
        ("after", PULSE_MISSING_AFTER, pulses.after.seconds, "s"),
    )
    for key, known, value, unit in wanted:
        typed = key in pulses.model_fields_set
        yield Wanted(known, slot, value, (*path, "pulses", key) if typed else (), unit)


def _input_alarms(c: WiredChannel, datasheet: Datasheet) -> Iterator[Wanted]:
    """The alarms of an input that belong to it: one above, one below, with what both have in common."""
    unit = c.measurement.shown_unit.symbol if isinstance(c, SignalChannel) else ""
    by_side = {alarm.side: alarm for alarm in c.device_alarms}
    for side, known in (("above", INPUT_ALARM_HIGH), ("below", INPUT_ALARM_LOW)):
        if (alarm := by_side.get(side)) is None:
            yield from cleared_parts(known, (c.slot,), datasheet)
            continue
        path = ("channels", c.name, "alarms", alarm.name)
        yield Wanted(known, c.slot, alarm.point[0], (*path, side), unit)
    for alarm in c.device_alarms[:1]:
        path = ("channels", c.name, "alarms", alarm.name)
        trip, clear = alarm.point
        yield Wanted(INPUT_ALARM_DELAY, c.slot, alarm.delay_s, (*path, "after"), "s")
        yield Wanted(INPUT_ALARM_HYSTERESIS, c.slot, abs(trip - clear), (*path, "clear"), unit)


def _alarms(datasheet: Datasheet, channels: Sequence[WiredChannel]) -> Iterator[Wanted]:
    number = 0
    for c in channels:
        unit = c.measurement.shown_unit.symbol if isinstance(c, SignalChannel) else ""
        for alarm in c.device_alarms:
            number += 1
            if number > datasheet.limits.alarms:
                return
            path = ("channels", c.name, "alarms", alarm.name)
            trip, clear = alarm.point
            yield Wanted(ALARM_CHANNEL, number, float(c.slot), path)
            yield Wanted(ALARM_CONDITION, number, alarm.side, path)
            yield Wanted(ALARM_TRIP, number, trip, (*path, alarm.side), unit)
            yield Wanted(ALARM_CLEAR, number, clear, (*path, "clear"), unit)
            yield Wanted(ALARM_DELAY, number, alarm.delay_s, (*path, "after"), "s")
            yield Wanted(ALARM_SEVERITY, number, alarm.severity, (*path, "severity"))
            yield Wanted(
                ALARM_CLEAR_DELAY, number, alarm.clear_delay_s, (*path, "clears_after"), "s"
            )
            yield Wanted(ALARM_LATCH, number, "yes" if alarm.latch else "no", (*path, "latch"))
    yield from cleared_parts(
        ALARM_CONDITION, range(number + 1, datasheet.limits.alarms + 1), datasheet
    )


def _bands(datasheet: Datasheet, channels: Sequence[CheckedChannel]) -> Iterator[Wanted]:
    """The bands of the first channel that has some; a device shows those of one reading."""
    family = datasheet.family(BAND_END)
    if family is None:
        return
    number = 0
    c = next((c for c in measured(channels) if c.bands is not None), None)
    if c is not None and c.bands is not None:
        path = ("channels", c.name, "bands")
        yield Wanted(BAND_READING, None, c.kind, path)
        hysteresis = (*path[:2], "band_hysteresis")
        yield Wanted(BAND_HYSTERESIS, None, c.bands.hysteresis, hysteresis, c.unit.symbol)
        for number, part in enumerate(c.bands.parts[: len(family.indices)], start=1):
            place = (*path, part.name)
            # The last one is open at its top, which is as far as the device can count.
            end = min(part.end, family.template.span()[1])
            yield Wanted(BAND_END, number, end, (*place, "to"), c.unit.symbol)
            yield Wanted(BAND_COLOR, number, part.color or "grey", (*place, "color"))
            yield Wanted(BAND_TEXT, number, part.text, (*place, "text"))
    yield from cleared_parts(BAND_COLOR, family.indices[number:], datasheet)


def _outputs(
    datasheet: Datasheet, channels: Sequence[CheckedChannel], outputs: Sequence[CheckedOutput]
) -> Iterator[Wanted]:
    """Relays with the alarms that they follow, and what analog outputs carry."""
    names = [f"{c.name}.{alarm.name}" for c in channels for alarm in c.device_alarms]
    number = {name: k for k, name in enumerate(names)}
    relays, analog = set[int](), set[int]()
    for output in outputs:
        path, slot = ("outputs", output.name), output.terminal.slot
        if isinstance(output, RelayOutput):
            relays.add(slot)
            switch = output.switch
            mask = sum(1 << number[name] for name in output.follows)
            yield Wanted(RELAY_ALARMS, slot, float(mask), (*path, "follows"))
            yield Wanted(RELAY_NORMAL, slot, switch.normal, (*path, "normal"))
            yield Wanted(RELAY_SAFE, slot, switch.safe, (*path, "safe"))
            yield Wanted(RELAY_LEAST_ON, slot, switch.least_on_s, (*path, "least_on"), "s")
            yield Wanted(RELAY_LEAST_OFF, slot, switch.least_off_s, (*path, "least_off"), "s")
            yield Wanted(RELAY_LIMIT, slot, switch.limit_s or 0.0, (*path, "limit"), "s")
        elif isinstance(output, AnalogOutput):
            analog.add(slot)
            channel = next(c for c in channels if c.name == output.loop.channel)
            low, high = ends_at(output.loop, output.terminal.ends)
            yield Wanted(OUTPUT_SHOWS, slot, channel.kind, (*path, "shows"))
            place = (*path, "span")
            yield Wanted(OUTPUT_LOW, slot, low, place, channel.unit.symbol)
            yield Wanted(OUTPUT_HIGH, slot, high, place, channel.unit.symbol)
            yield Wanted(OUTPUT_BAD, slot, output.loop.bad or 0.0, (*path, "bad"), output.loop.unit)
    for known, used in ((RELAY_ALARMS, relays), (OUTPUT_SHOWS, analog)):
        family = datasheet.family(known)
        every = family.indices if family else ()
        yield from cleared_parts(known, [k for k in every if k not in used], datasheet)


def _contacts(setup: Setup, datasheet: Datasheet) -> Iterator[Wanted]:
    """Contacts with a number for text messages, on devices that notify by themselves."""
    family = datasheet.family(CONTACT_NUMBER)
    if family is None:
        return
    reached = [(name, c.text_message) for name, c in setup.contacts.items() if c.text_message]
    used = list(zip(family.indices, reached, strict=False))
    for index, (name, phone) in used:
        yield Wanted(CONTACT_NAME, index, name, ("contacts", name))
        yield Wanted(CONTACT_NUMBER, index, phone, ("contacts", name, "text_message"))
    for known in (CONTACT_NAME, CONTACT_NUMBER):
        yield from cleared_parts(known, family.indices[len(used) :], datasheet)


# ---------------------------------------------------------------------- by their own names


def further_settings(
    setup: Setup, datasheet: Datasheet, wanted: Iterable[Wanted], findings: Findings
) -> Iterator[Wanted]:
    """The settings that a setup names as the datasheet does; what is wrong is a finding."""
    if not setup.settings:
        return
    taken = {}
    for w in wanted:
        if (family := datasheet.family(w.known)) is not None:
            taken[family.name_at(w.number)] = w
    for name, text in setup.settings.items():
        is_from_set = setup.settings_from is not None and not findings.mentions(("settings", name))
        path = ("settings_from",) if is_from_set else ("settings", name)
        point = datasheet.settings.get(name)
        if name in datasheet.secrets:
            findings.error(
                "secret-in-file",
                path,
                f"{name} is a secret: its value does not belong in a file",
                at_key=True,
                valid=f"secrets: [{name}]",
                remedy="remove it here; whoever read this file knows the value: take another, and give it "
                f"at the upload, which asks for it or takes it from {secret_variable(name)}",
            )
        elif point is None:
            near = difflib.get_close_matches(name[:80], datasheet.settings, n=1)
            findings.error(
                "unknown-setting",
                path,
                f"{datasheet.model} has no setting {name[:80]!r}",
                at_key=True,
                valid=", ".join(list(datasheet.settings)[:12]) + ", …",
                remedy=f"did you mean {near[0]!r}?" if near else "",
            )
        elif point.read_only:
            message = f"{name} can be read and not written"
            findings.error("read-only", path, message, at_key=True, remedy="remove it")
        elif name == BUS_UNIT.name:
            findings.error(
                "bus-address",
                path,
                "an upload does not change the address at which it reaches the device",
                at_key=True,
                remedy="remove it; 'leitwerk readdress' changes it safely",
            )
        elif name in taken and not taken[name].clears:
            place = ".".join(taken[name].path)
            message = f"{name} is set by {place or 'the channels'} already"
            findings.error("set-twice", path, message, at_key=True, remedy="remove it here")
        else:
            yield from one_setting(point, text, datasheet, path, findings)


def check_secrets(setup: Setup, datasheet: Datasheet, findings: Findings) -> None:
    """Whether the device has the secrets that a setup names."""
    for number, name in enumerate(setup.secrets):
        path = ("secrets", str(number))
        if name in datasheet.secrets:
            continue
        if name in datasheet.settings:
            message = f"{name} is a setting that can be read, and no secret of {datasheet.model}"
            remedy = "write it with its value under 'settings'"
        else:
            message, remedy = f"{datasheet.model} has no secret {name[:80]!r}", ""
        valid = ", ".join(datasheet.secrets) or "none: remove the key 'secrets'"
        findings.error("unknown-secret", path, message, valid=valid, remedy=remedy)


def one_setting(
    point: Point,
    text: str,
    datasheet: Datasheet,
    path: KeyPath,
    findings: Findings,
    *,
    where: str = "",
) -> Iterator[Wanted]:
    """A setting from the text of its value; ``where`` says more about its place than the path."""
    try:
        value = point.value_of(text)
        if where:
            point.storable(value)
    except QuantityError as error:
        name = f"{where}, {point.name.rpartition('.')[2]}" if where else path[-1]
        message = f"{name}: {error.message}"
        findings.error("bad-value", path, message, valid=error.valid, remedy=error.remedy)
        return
    family, index = datasheet.setting_places[point.name]
    yield Wanted(KnownPoint("settings", family, ""), index, value, path, point.unit)
