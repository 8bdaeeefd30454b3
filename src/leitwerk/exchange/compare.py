"""Two ends held together: where what one says is not what the other waits for."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from leitwerk.exchange.characters import name_characters
from leitwerk.exchange.definition import Direction, Exchange, Form, LineForm, Part
from leitwerk.exchange.terms import Kind, Manner
from leitwerk.findings import KeyPath


class Difference(NamedTuple):
    """What the two ends have differently; the way to its key at either end, below its exchange."""

    here: KeyPath
    there: KeyPath
    message: str


_LABELS = {
    "separator": "divides values by",
    "end": "ends lines with",
    "start": "begins lines with",
    "encoding": "encodes in",
    "decimal": "has the decimal sign",
    "quotes": "puts texts in",
}
_KEYS = {"decimal": "decimal_sign"}
_FORM = ("unit", "before", "after", "bad", "layout", "text", "states")
_NUMBERS = {Kind.NUMBER, Kind.INTEGER, Kind.COUNTER}


def compare(here: Exchange, there: Exchange) -> list[Difference]:
    """The differences of two descriptions, each as its own end sees it; empty when they fit."""
    found = []
    if Manner.GUARDED in {here.manner, there.manner} and here.manner is not there.manner:
        message = f"this end is for {here.manner}, the other for {there.manner}"
        found.append(Difference(("manner",), ("manner",), message))
    if str(here.wire) != str(there.wire):
        message = f"this end's line is {here.wire}, the other's {there.wire}"
        found.append(Difference(("line",), ("line",), message))
    if here.address != there.address:
        message = f"{_shown(here.address)} stands before lines here, {_shown(there.address)} there"
        found.append(Difference(("address",), ("address",), message))
    found += _way(
        here.says, there.understands, ("this end", "the other end"), ("messages", "keywords")
    )
    found += [
        Difference(d.there, d.here, d.message)
        for d in _way(
            there.says, here.understands, ("the other end", "this end"), ("messages", "keywords")
        )
    ]
    return found


def _way(
    said: Direction, heard: Direction, who: tuple[str, str], groups: tuple[str, str]
) -> Iterator[Difference]:
    """One direction: ``here`` is the end that says."""
    speaker, listener = who
    for name, label in _LABELS.items():
        one, other = getattr(said, name), getattr(heard, name)
        if one != other:
            key = _KEYS.get(name, name)
            message = f"{speaker} {label} {_shown(one)}, {listener} waits for {_shown(other)}"
            yield Difference(("says", key), ("understands", key), message)
    if said.longest > heard.longest:
        message = (
            f"{speaker} says up to {said.longest} bytes in a line, {listener} takes {heard.longest}"
        )
        yield Difference(("says", "longest"), ("understands", "longest"), message)
    known = {line.keyword: line for line in heard.lines}
    for line in said.lines:
        place = ("says", groups[0], line.name)
        other_line = known.pop(line.keyword, None)
        if other_line is None:
            message = f"{speaker} says {_shown(line.keyword)}, {listener} does not know it"
            yield Difference(place, ("understands",), message)
        else:
            yield from _line(
                line, other_line, place, ("understands", groups[1], other_line.name), who
            )
    for line in known.values():
        message = f"{listener} waits for {_shown(line.keyword)}, {speaker} never says it"
        yield Difference(("says",), ("understands", groups[1], line.name), message)


def _line(
    said: LineForm, heard: LineForm, here: KeyPath, there: KeyPath, who: tuple[str, str]
) -> Iterator[Difference]:
    one, other = len(said.parts), len(heard.parts)
    if one != other:
        message = (
            f"{who[0]} says {one} values behind {_shown(said.keyword)}, {who[1]} takes {other}"
        )
        yield Difference(here, there, message)
        return
    for number, (part, waited) in enumerate(zip(said.parts, heard.parts, strict=True)):
        places = (*here, "fields", str(number)), (*there, "values", str(number))
        for message in _part(part, waited, who):
            yield Difference(
                *places, f"value {number + 1} behind {_shown(said.keyword)}: {message}"
            )


def _part(said: Part, heard: Part, who: tuple[str, str]) -> Iterator[str]:
    one, other = said.form, heard.form
    if other.kind is Kind.TEXT and one.kind is not Kind.TEXT:
        return  # whatever is said is a text, too
    if one.kind is not other.kind and not {one.kind, other.kind} <= _NUMBERS:
        yield f"{who[0]} says a {one.kind.value}, {who[1]} waits for a {other.kind.value}"
        return
    if (said.least, said.most) != (heard.least, heard.most):
        said_times, heard_times = (f"{p.least} to {p.most}" for p in (said, heard))
        yield f"{who[0]} says it {said_times} times, {who[1]} waits for {heard_times}"
    if said.unit and heard.unit and said.unit != heard.unit:
        yield f"{who[0]} says it in {said.unit}, {who[1]} takes it for {heard.unit}"
    for name in _FORM:
        if _of(one, name) != _of(other, name):
            yield f"{who[0]} has {name} {_shown(_of(one, name))}, {who[1]} {_shown(_of(other, name))}"
    if one.kind is Kind.TEXT and one.longest > other.longest:
        yield f"{who[0]} says up to {one.longest} characters, {who[1]} takes {other.longest}"


def _of(form: Form, name: str) -> str:
    value = getattr(form, name)
    return (
        ", ".join(f"{n}: {t}" for n, t in sorted(value)) if isinstance(value, tuple) else str(value)
    )


def _shown(text: str) -> str:
    return f"'{name_characters(text)}'" if text else "nothing"
