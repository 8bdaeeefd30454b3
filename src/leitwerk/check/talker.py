"""Readings that are heard: of a device that is known only by what it says, and beside those of a device."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from leitwerk.check.exchanges import MOST_LINES, draft_exchange
from leitwerk.datasheet.model import Datasheet, HeardExchange
from leitwerk.datasheet.points import Point, PointFamily
from leitwerk.datasheet.text_points import HeardPoint, TextPoint
from leitwerk.datasheet.vocabulary import TALK
from leitwerk.exchange.definition import Exchange, Part
from leitwerk.exchange.terms import Kind
from leitwerk.findings import Findings
from leitwerk.setup.model import Setup


def with_exchange(setup: Setup, datasheet: Datasheet, findings: Findings) -> Datasheet:
    """The datasheet with the readings that a setup's exchange gives, for a device that only talks."""
    if datasheet.link != TALK:
        return _with_heard(setup, datasheet)
    own = [(name, entry) for name, entry in setup.exchanges.items() if entry.at is None]
    if len(own) != 1:
        path = ("exchanges",) if setup.exchanges else ("device", "model")
        message = f"a {datasheet.model} is known by one exchange, and here are {len(own)}"
        findings.error("no-exchange", path, message, valid="one exchange without 'at'")
        return datasheet
    name, entry = own[0]
    exchange = draft_exchange(name, entry, setup, datasheet)
    readings: dict[str, PointFamily[Point]] = {
        point.name: PointFamily(point, ()) for point in _points(exchange)
    }
    if exchange.serial_place is None:
        findings.note(
            "identity-not-known",
            ("exchanges", name),
            "nothing in this exchange says which device it is: the readings may be those of another",
            at_key=True,
            remedy="let the device say its serial number in a line",
        )
    groups = {**datasheet.groups, "readings": readings}
    return replace(datasheet, groups=groups, exchange=exchange)


def _with_heard(setup: Setup, datasheet: Datasheet) -> Datasheet:
    """The datasheet with what other ends say as further readings: ``panel.readings.air``."""
    readings, heard = dict(datasheet.groups["readings"]), {}
    for name, entry in setup.exchanges.items():
        if entry.at is None or len(entry.understands.keywords) > MOST_LINES:
            continue
        exchange = draft_exchange(name, entry, setup, datasheet)
        heard[name] = HeardExchange(exchange, entry.at)
        for point in _points(exchange):
            full = f"{name}.{point.name}"
            further = HeardPoint(
                full, unit=point.unit, query=point.query, field=point.field, kind=point.kind,
                step=point.step, choices=point.choices, exchange=name,
            )  # fmt: skip
            readings.setdefault(full, PointFamily(further, ()))
    if not heard:
        return datasheet
    groups = {**datasheet.groups, "readings": readings}
    return replace(datasheet, groups=groups, heard=heard)


def _points(exchange: Exchange) -> Iterator[TextPoint]:
    """A point for each value that is understood, ``LINE.VALUE``."""
    for line in exchange.understands.lines:
        for number, part in enumerate(line.values, start=1):
            point = TextPoint(
                f"{line.name}.{part.name}", query=line.name, field=number, unit=part.unit
            )
            yield _looking_like(part, point)


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
