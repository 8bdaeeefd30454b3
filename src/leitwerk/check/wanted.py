"""The settings that a setup asks for: setting names of the shared vocabulary, with their values.

A setup says nothing about the rest; those settings stay as they are in the device.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from leitwerk.check.assignment import Assignment
from leitwerk.datasheet import Datasheet, Stored
from leitwerk.quantities import Quantity
from leitwerk.setup import Setup
from leitwerk.signals import TwoPoint
from leitwerk.units import convert, parse_unit

_CONDITIONS = {True: "above", False: "below"}


class Wanted(NamedTuple):
    """One setting: its family and index there, the value, and the place that asks for it."""

    family: str
    slot: int | None
    value: Stored
    path: tuple[str, ...]
    unit: str = ""


def wanted_settings(
    setup: Setup, datasheet: Datasheet, assignments: Sequence[Assignment]
) -> Iterator[Wanted]:
    """Every setting that a setup determines on a device model."""
    yield Wanted("title", None, setup.title, ("title",))
    yield Wanted("sample.interval", None, _seconds(setup.sample), ("sample",), "s")
    used = set()
    for assignment in assignments:
        used.add(assignment.slot)
        yield from _channel(assignment)
    for terminal in datasheet.terminals.values():
        if terminal.slot not in used:
            yield Wanted("channel.{n}.sensor", terminal.slot, "off", ())
    yield from _alarms(datasheet, assignments)


def _seconds(interval: Quantity) -> float:
    assert interval.unit is not None
    return convert(interval.value, interval.unit, parse_unit("s"))


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
            condition = _CONDITIONS[alarm.above]
            unit = a.measurement.shown_unit.symbol
            yield Wanted("alarm.{k}.channel", number, float(a.slot), path)
            yield Wanted("alarm.{k}.condition", number, condition, path)
            yield Wanted("alarm.{k}.trip", number, alarm.trip, (*path, condition), unit)
            yield Wanted("alarm.{k}.clear", number, alarm.clear, (*path, "clear"), unit)
            yield Wanted("alarm.{k}.delay", number, alarm.delay_s, (*path, "after"), "s")
            yield Wanted("alarm.{k}.severity", number, alarm.severity, (*path, "severity"))
    for unused in range(number + 1, datasheet.alarms_at_most + 1):
        yield Wanted("alarm.{k}.condition", unused, "off", ())
