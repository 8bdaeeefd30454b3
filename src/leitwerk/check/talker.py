"""A device that is known only by what it says: its readings, from the exchange of the setup."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from leitwerk.check.exchanges import draft_exchange
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, PointFamily
from leitwerk.datasheet.text_points import TextPoint
from leitwerk.exchange.definition import Exchange, Kind, Part
from leitwerk.findings import Findings
from leitwerk.setup.exchanges import ValueEntry
from leitwerk.setup.model import Setup

TALK = "talk"  # the link of such a device


def with_exchange(setup: Setup, datasheet: Datasheet, findings: Findings) -> Datasheet:
    """The datasheet with the readings that a setup's exchange gives, for a device that only talks."""
    if datasheet.link != TALK:
        return datasheet
    own = [(name, entry) for name, entry in setup.exchanges.items() if entry.at is None]
    if len(own) != 1:
        path = ("exchanges",) if setup.exchanges else ("device", "model")
        message = f"a {datasheet.model} is known by one exchange, and here are {len(own)}"
        findings.error("no-exchange", path, message, valid="one exchange without 'at'")
        return datasheet
    name, entry = own[0]
    exchange = draft_exchange(name, entry, setup, datasheet)
    readings: dict[str, PointFamily[Point]] = {}
    for line in exchange.understands.lines:
        values = [v for v in entry.understands.keywords[line.name].values if v.constant is None]
        for number, part in enumerate(line.values, start=1):
            unit = _unit(values[number - 1]) if number <= len(values) else ""
            name = f"{line.name}.{part.name}"
            point = TextPoint(name, query=line.name, field=number, unit=unit)
            readings[name] = PointFamily(_looking_like(part, point), ())
    if not any(readings_of_serial(exchange)):
        findings.note(
            "identity-not-known",
            ("exchanges", name),
            "nothing in this exchange says which device it is: the readings may be those of another",
            at_key=True,
            remedy="let the device say its serial number in a line",
        )
    groups = {**datasheet.groups, "readings": readings}
    return replace(datasheet, groups=groups, exchange=exchange)


def readings_of_serial(exchange: Exchange) -> Iterator[tuple[str, str]]:
    """The lines, and in each the value, by which the device says its serial number."""
    for line in exchange.understands.lines:
        yield from ((line.name, part.name) for part in line.values if part.name == "serial")


def _unit(value: ValueEntry) -> str:
    return "" if value.number in {None, "1"} else str(value.number)


def _looking_like(part: Part, point: TextPoint) -> TextPoint:
    form = part.form
    if form.kind is Kind.STATE:
        return replace(point, choices=tuple(form.states))
    if form.kind is Kind.TEXT:
        return replace(point, kind="text")
    if form.kind is not Kind.NUMBER:
        return replace(point, step=1.0)
    is_fixed = form.decimals is not None and not form.exponent
    return replace(point, step=10.0 ** -(form.decimals or 0) if is_fixed else 0.0)
