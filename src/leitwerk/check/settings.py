"""The settings that a setup asks for: setting names of the shared vocabulary, with their values.

A setup says nothing about the rest; those settings stay as they are in the device.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from leitwerk.check.assignment import Assignment
from leitwerk.check.outputs import assign_outputs, ends_at
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored, setting_value
from leitwerk.datasheet.vocabulary import BUS_UNIT
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.setup.model import Setup
from leitwerk.signals.linear import TwoPoint

_TIMED = ("storage.interval", "sample.integration", "memory.when_full")


class Wanted(NamedTuple):
    """One setting: its family and index there, the value, and the place that asks for it."""

    family: str
    slot: int | None
    value: Stored
    path: KeyPath
    unit: str = ""


def wanted_settings(
    setup: Setup, datasheet: Datasheet, assignments: Sequence[Assignment]
) -> Iterator[Wanted]:
    """Every setting that a setup determines on a device model."""
    yield Wanted("title", None, setup.title, ("title",))
    if setup.sample is not None:
        yield Wanted("sample.interval", None, setup.sample.seconds, ("sample",), "s")
    yield from _timing(setup, datasheet)
    used = set()
    for assignment in assignments:
        if assignment.reading is None:
            used.add(assignment.slot)
            yield from _channel(assignment)
    for terminal in datasheet.terminals.values():
        if terminal.slot not in used:
            yield Wanted("channel.{n}.sensor", terminal.slot, "off", ())
    yield from _alarms(datasheet, assignments)
    yield from _bands(datasheet, assignments)
    yield from _outputs(setup, datasheet, assignments)
    yield from _contacts(setup, datasheet)


def read_settings(
    setup: Setup, datasheet: Datasheet, assignments: Sequence[Assignment], findings: Findings
) -> list[Wanted]:
    """The further settings of a setup, by their names in the datasheet; what is wrong is a finding."""
    if not setup.settings:
        return []
    taken = {
        family.point(w.slot).name: w
        for w in wanted_settings(setup, datasheet, assignments)
        if (family := datasheet.family("settings", w.family)) is not None
    }
    found = []
    for name, text in setup.settings.items():
        path = ("settings", name)
        point = datasheet.settings.get(name)
        if point is None:
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
        elif name == BUS_UNIT:
            findings.error(
                "bus-address",
                path,
                "an upload does not change the address at which it reaches the device",
                at_key=True,
                remedy="remove it; 'leitwerk readdress' changes it safely",
            )
        elif name in taken:
            place = ".".join(taken[name].path)
            message = f"{name} is set by {place or 'the channels'} already"
            findings.error("set-twice", path, message, at_key=True, remedy="remove it here")
        else:
            found += _setting(point, text, datasheet, path, findings)
    return found


def _setting(
    point: Point, text: str, datasheet: Datasheet, path: KeyPath, findings: Findings
) -> list[Wanted]:
    try:
        value = setting_value(point, text)
    except QuantityError as error:
        message = f"{path[-1]}: {error.message}"
        findings.error("bad-value", path, message, valid=error.valid, remedy=error.remedy)
        return []
    family, index = datasheet.setting_families[point.name]
    return [Wanted(family, index, value, path, point.unit)]


def _timing(setup: Setup, datasheet: Datasheet) -> Iterator[Wanted]:
    """Intervals beside the sampling one, and what becomes of a full memory."""
    has = {name for name in _TIMED if datasheet.family("settings", name) is not None}
    store = setup.store or setup.sample
    if store is not None and (setup.store is not None or "storage.interval" in has):
        yield Wanted(
            "storage.interval", None, store.seconds, ("store",) if setup.store else (), "s"
        )
    if setup.report is not None:
        yield Wanted("report.interval", None, setup.report.seconds, ("report",), "s")
    usual = datasheet.timing.integration_s[:1]
    integration = setup.integration.seconds if setup.integration else (usual[0] if usual else None)
    if integration is not None and (setup.integration or "sample.integration" in has):
        path = ("integration",) if setup.integration else ()
        yield Wanted("sample.integration", None, 1e3 * integration, path, "ms")
    if "memory.when_full" in has or setup.when_full != "stop":
        yield Wanted("memory.when_full", None, setup.when_full, ("when_full",))


def _channel(a: Assignment) -> Iterator[Wanted]:
    path = ("channels", a.name)
    yield Wanted("channel.{n}.sensor", a.slot, a.measurement.kind, (*path, "sensor"))
    yield Wanted("channel.{n}.range", a.slot, a.range.name if a.range else "none", (*path, "range"))
    shown_unit = "" if a.is_contact else a.measurement.shown_unit.symbol
    yield Wanted("channel.{n}.unit", a.slot, shown_unit, (*path, "unit"))
    yield Wanted("channel.{n}.label", a.slot, a.label, (*path, "label"))
    if isinstance(scale := a.measurement.shown, TwoPoint):
        place = (*path, "scale")
        signal_unit = a.measurement.input.unit.symbol
        for name, value, unit in (
            ("signal_low", scale.signal_low, signal_unit),
            ("signal_high", scale.signal_high, signal_unit),
            ("value_low", scale.value_low, shown_unit),
            ("value_high", scale.value_high, shown_unit),
        ):
            yield Wanted(f"channel.{{n}}.scale.{name}", a.slot, value, place, unit)


def _alarms(datasheet: Datasheet, assignments: Sequence[Assignment]) -> Iterator[Wanted]:
    number = 0
    for a in assignments:
        for alarm in a.device_alarms:
            number += 1
            if number > datasheet.alarms_at_most:
                return
            path = ("channels", a.name, "alarms", alarm.name)
            condition = alarm.side
            trip, clear = alarm.point
            unit = a.measurement.shown_unit.symbol
            yield Wanted("alarm.{k}.channel", number, float(a.slot), path)
            yield Wanted("alarm.{k}.condition", number, condition, path)
            yield Wanted("alarm.{k}.trip", number, trip, (*path, condition), unit)
            yield Wanted("alarm.{k}.clear", number, clear, (*path, "clear"), unit)
            yield Wanted("alarm.{k}.delay", number, alarm.delay_s, (*path, "after"), "s")
            yield Wanted("alarm.{k}.severity", number, alarm.severity, (*path, "severity"))
            clear_delay = alarm.clear_delay_s
            if clear_delay or datasheet.family("settings", "alarm.{k}.clear_delay"):
                place = (*path, "clears_after")
                yield Wanted("alarm.{k}.clear_delay", number, clear_delay, place, "s")
            if alarm.latch or datasheet.family("settings", "alarm.{k}.latch"):
                latch = "yes" if alarm.latch else "no"
                yield Wanted("alarm.{k}.latch", number, latch, (*path, "latch"))
    for unused in range(number + 1, datasheet.alarms_at_most + 1):
        yield Wanted("alarm.{k}.condition", unused, "off", ())


def _contacts(setup: Setup, datasheet: Datasheet) -> Iterator[Wanted]:
    """Contacts with a number for text messages, on devices that notify by themselves."""
    family = datasheet.family("settings", "contact.{k}.number")
    if family is None or not setup.contacts:
        return
    reached = [(n, c.text_message) for n, c in setup.contacts.items() if c.text_message]
    for number in family.indices:
        name, phone = reached[number - 1] if number <= len(reached) else ("", "")
        path = ("contacts", name) if name else ()
        yield Wanted("contact.{k}.name", number, name, path)
        yield Wanted("contact.{k}.number", number, phone, path)


def _bands(datasheet: Datasheet, assignments: Sequence[Assignment]) -> Iterator[Wanted]:
    """The bands of the first channel that has some; a device shows those of one reading."""
    family = datasheet.family("settings", "band.{k}.end")
    banded = [a for a in assignments if a.bands is not None]
    if family is None or not banded:
        return
    a = banded[0]
    assert a.bands is not None
    path = ("channels", a.name, "bands")
    yield Wanted("band.reading", None, a.measurement.kind, path)
    hysteresis = (*path[:2], "band_hysteresis")
    yield Wanted("band.hysteresis", None, a.bands.hysteresis, hysteresis, a.unit.symbol)
    for number, part in enumerate(a.bands.parts[: len(family.indices)], start=1):
        place = (*path, part.name)
        # The last one is open at its top, which is as far as the device can count.
        end = min(part.end, family.template.span()[1])
        yield Wanted("band.{k}.end", number, end, (*place, "to"), a.unit.symbol)
        yield Wanted("band.{k}.color", number, part.color or "grey", (*place, "color"))
        yield Wanted("band.{k}.text", number, part.text, (*place, "text"))
    for unused in range(len(a.bands.parts) + 1, len(family.indices) + 1):
        yield Wanted("band.{k}.color", unused, "off", ())


def _outputs(
    setup: Setup, datasheet: Datasheet, assignments: Sequence[Assignment]
) -> Iterator[Wanted]:
    """Relays with the alarms that they follow, and what analog outputs carry."""
    if not setup.outputs:
        return
    number = {
        f"{a.name}.{alarm.name}": k
        for k, (a, alarm) in enumerate((a, alarm) for a in assignments for alarm in a.device_alarms)
    }
    # What is wrong with an output has its finding elsewhere.
    for output in assign_outputs(setup, datasheet, assignments, Findings("")):
        path = ("outputs", output.name)
        slot = output.terminal.slot
        if (switch := output.switch) is not None:
            mask = sum(1 << number[name] for name in output.follows)
            yield Wanted("relay.{r}.alarms", slot, float(mask), (*path, "follows"))
            yield Wanted("relay.{r}.normal", slot, switch.normal, (*path, "normal"))
            yield Wanted("relay.{r}.safe", slot, switch.safe, (*path, "safe"))
            yield Wanted("relay.{r}.least_on", slot, switch.least_on_s, (*path, "least_on"), "s")
            yield Wanted("relay.{r}.least_off", slot, switch.least_off_s, (*path, "least_off"), "s")
            yield Wanted("relay.{r}.limit", slot, switch.limit_s or 0.0, (*path, "limit"), "s")
        elif (loop := output.loop) is not None:
            channel = next(a for a in assignments if a.name == loop.channel)
            low, high = ends_at(loop, output.terminal.between)
            yield Wanted("output.{n}.shows", slot, channel.measurement.kind, (*path, "shows"))
            place = (*path, "span")
            yield Wanted("output.{n}.low", slot, low, place, channel.unit.symbol)
            yield Wanted("output.{n}.high", slot, high, place, channel.unit.symbol)
            yield Wanted("output.{n}.bad", slot, loop.bad or 0.0, (*path, "bad"), loop.unit)
