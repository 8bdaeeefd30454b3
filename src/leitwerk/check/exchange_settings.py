"""The settings that an exchange needs in a device that runs it: each entry, or a finding that it cannot."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from leitwerk.check.exchanges import CheckedExchange
from leitwerk.check.settings import Wanted, cleared_parts
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.vocabulary import (
    KEYWORD_ANSWER,
    KEYWORD_ERRORS,
    KEYWORD_VALUES,
    KEYWORD_WORD,
    MESSAGE_EVERY,
    MESSAGE_FIELDS,
    MESSAGE_KEY,
    MESSAGE_PAUSE,
    MESSAGE_WORD,
    TALK_ADDRESS,
    TALK_BAUD,
    TALK_BITS,
    TALK_FLOW,
    TALK_MANNER,
    TALK_WAYS,
    TALK_WIRES,
    KnownPoint,
)
from leitwerk.exchange.characters import name_characters
from leitwerk.exchange.definition import Direction, Form, LineForm, Part
from leitwerk.exchange.terms import AnswerKind, Flow, Kind, Wires
from leitwerk.findings import Findings, KeyPath
from leitwerk.rules.definition import Trigger
from leitwerk.setup.exchanges import MessageEntry

_FORM = Form(Kind.NUMBER)
_WAY = Direction()


def exchange_settings(
    checked: CheckedExchange | None, datasheet: Datasheet, findings: Findings
) -> Iterator[Wanted]:
    """What a device with a talking port is to hold; without an exchange for it, the port is silent."""
    if checked is None:
        if datasheet.has(TALK_MANNER):
            yield Wanted(TALK_MANNER, None, "off", ())
            yield from _unused(datasheet, 0, 0)
        return
    if not datasheet.has(TALK_MANNER):
        return  # has its finding
    exchange, path = checked.exchange, ("exchanges", checked.name)
    yield Wanted(TALK_MANNER, None, exchange.manner.value, (*path, "manner"))
    wire = exchange.wire
    line = (*path, "line")
    yield Wanted(TALK_BAUD, None, float(wire.baud), line, "")
    yield Wanted(TALK_BITS, None, f"{wire.data_bits}{wire.parity}{wire.stop_bits}", line)
    yield from _unless(
        TALK_FLOW, None, wire.flow.value, Flow.NONE.value, (*path, "flow"), datasheet
    )
    yield from _unless(
        TALK_WIRES, None, wire.wires.value, Wires.RS232.value, (*path, "wires"), datasheet
    )
    yield from _unless(TALK_ADDRESS, None, exchange.address, "", (*path, "address"), datasheet)
    for name, way in (("says", exchange.says), ("understands", exchange.understands)):
        yield from _direction(way, TALK_WAYS[name], (*path, name), datasheet)
    most = _most(MESSAGE_WORD, datasheet), _most(KEYWORD_WORD, datasheet)
    messages, keywords = exchange.says.lines, exchange.understands.lines
    _check_count(len(messages), most[0], (*path, "says", "messages"), datasheet, findings)
    _check_count(len(keywords), most[1], (*path, "understands", "keywords"), datasheet, findings)
    for number, message in enumerate(messages[: most[0]], start=1):
        place = (*path, "says", "messages", message.name)
        entry = checked.entry.says.messages[message.name]
        yield from _message(message, entry, number, place, datasheet, findings)
    order = {message.name: k for k, message in enumerate(messages, start=1)}
    for number, keyword in enumerate(keywords[: most[1]], start=1):
        place = (*path, "understands", "keywords", keyword.name)
        yield from _keyword(keyword, number, order, place, datasheet, findings)
    yield from _unused(datasheet, len(messages), len(keywords))


def _unused(datasheet: Datasheet, messages: int, keywords: int) -> Iterator[Wanted]:
    for known, used in ((MESSAGE_WORD, messages), (KEYWORD_WORD, keywords)):
        yield from cleared_parts(known, range(used + 1, _most(known, datasheet) + 1), datasheet)


def _most(known: KnownPoint, datasheet: Datasheet) -> int:
    family = datasheet.family(known)
    return len(family.indices) if family else 0


def _check_count(
    count: int, most: int, path: KeyPath, datasheet: Datasheet, findings: Findings
) -> None:
    if count > most:
        message = f"{datasheet.model} keeps {most} {path[-1]}, this exchange has {count}"
        findings.error("too-many-lines", path, message, at_key=True, valid=f"at most {most}")


def _unless(
    known: KnownPoint,
    number: int | None,
    value: Stored,
    usual: Stored,
    path: KeyPath,
    datasheet: Datasheet,
) -> Iterator[Wanted]:
    """A setting that many devices lack: only asked for where it is there, or where the usual is not meant."""
    if value != usual or datasheet.has(known):
        yield Wanted(known, number, value, path)


def _direction(
    way: Direction, known: Mapping[str, KnownPoint], path: KeyPath, datasheet: Datasheet
) -> Iterator[Wanted]:
    for key, point in known.items():
        value, usual = getattr(way, key), getattr(_WAY, key)
        place = (*path, "decimal_sign" if key == "decimal" else key)
        if key in {"separator", "end", "start", "quotes"}:
            value, usual = (name_characters(text) if text else "none" for text in (value, usual))
        elif key == "longest":
            value, usual = float(value), float(usual)
        yield from _unless(
            point, None, value if isinstance(value, float) else str(value), usual, place, datasheet
        )


def _message(
    message: LineForm,
    entry: MessageEntry,
    number: int,
    path: KeyPath,
    datasheet: Datasheet,
    findings: Findings,
) -> Iterator[Wanted]:
    if not message.keyword:
        text = f"{datasheet.model} tells its messages by their keywords"
        findings.error("cannot-do", path, text, at_key=True, remedy="add 'keyword: …'")
    yield Wanted(MESSAGE_WORD, number, message.keyword, (*path, "keyword"))
    every, key = 0.0, "none"
    for trigger in entry.when:
        if trigger.every_s is not None:
            every = trigger.every_s
        elif trigger.event.startswith("key "):
            key = trigger.event.removeprefix("key ")
        else:
            text = f"{datasheet.model} says messages on a timer, at a key and when asked; not on '{trigger}'"
            findings.error(
                "cannot-do",
                (*path, "when"),
                text,
                remedy="remove it, or let Leitwerk be this end: at",
            )
    _check_once(entry.when, path, datasheet, findings)
    yield Wanted(MESSAGE_EVERY, number, every, (*path, "when"), "s")
    yield from _unless(MESSAGE_KEY, number, key, "none", (*path, "when"), datasheet)
    yield from _unless(
        MESSAGE_PAUSE, number, entry.at_most or 0.0, 0.0, (*path, "at_most"), datasheet
    )
    if entry.enabled == "no":
        text = f"{datasheet.model} cannot switch a message off"
        findings.error("cannot-do", (*path, "enabled"), text, remedy="remove it")
    for k, part in enumerate(message.parts):
        place = (*path, "fields", str(k))
        if k >= len(MESSAGE_FIELDS):
            findings.error(
                "cannot-do", place, f"{datasheet.model} says fewer fields", remedy="remove it"
            )
            return
        yield from _field(part, MESSAGE_FIELDS[k], number, place, datasheet)
    # The fields behind the last one carry nothing.
    for known in MESSAGE_FIELDS[len(message.parts) :]:
        if datasheet.has(known["shows"]):
            yield Wanted(known["shows"], number, "none", ())


def _check_once(
    when: tuple[Trigger, ...], path: KeyPath, datasheet: Datasheet, findings: Findings
) -> None:
    kinds = [
        "every" if t.every_s is not None else "key"
        for t in when
        if t.every_s or t.event.startswith("key ")
    ]
    if len(set(kinds)) < len(kinds):
        text = f"{datasheet.model} has one timer and one key for each message"
        findings.error("cannot-do", (*path, "when"), text, remedy="keep one of each")


def _field(
    part: Part, known: Mapping[str, KnownPoint], number: int, path: KeyPath, datasheet: Datasheet
) -> Iterator[Wanted]:
    form = part.form
    if part.is_constant:
        yield Wanted(known["shows"], number, "text", path)
        yield Wanted(known["text"], number, form.text, (*path, "text"))
        return
    what, _, name = part.of.partition(" ")
    yield Wanted(known["shows"], number, part.shows or name or what, path)
    usual: dict[str, tuple[Stored, Stored]] = {
        "decimals": (float(form.decimals or 0), 0.0),
        "digits": (float(form.digits or 0), 0.0),
        "unit": ("yes" if form.unit else "no", "no"),
        "width": (float(form.width), 0.0),
        "pad": (
            "zeros" if form.pad == "0" else "spaces",
            "zeros" if form.kind is Kind.COUNTER else "spaces",
        ),
        "before": (form.before, ""),
        "after": (form.after, ""),
        "bad": (form.bad, _FORM.bad),
    }
    for key, (value, default) in usual.items():
        yield from _unless(known[key], number, value, default, (*path, key), datasheet)


def _keyword(
    keyword: LineForm,
    number: int,
    order: Mapping[str, int],
    path: KeyPath,
    datasheet: Datasheet,
    findings: Findings,
) -> Iterator[Wanted]:
    if not keyword.keyword:
        text = f"{datasheet.model} tells lines by their keywords"
        findings.error("cannot-do", path, text, at_key=True, remedy="add 'keyword: …'")
    yield Wanted(KEYWORD_WORD, number, keyword.keyword, (*path, "keyword"))
    answer = keyword.answer
    said = answer.kind.value
    if answer.kind is AnswerKind.MESSAGE:
        said = f"message {order[answer.message]}"
    yield Wanted(KEYWORD_ANSWER, number, said, (*path, "answer"))
    yield Wanted(KEYWORD_ERRORS, number, "yes" if answer.tells_errors else "no", (*path, "errors"))
    for k, part in enumerate(keyword.parts):
        place = (*path, "values", str(k))
        if k >= len(KEYWORD_VALUES):
            findings.error(
                "cannot-do", place, f"{datasheet.model} takes fewer values", remedy="remove it"
            )
            return
        yield from _value(part, KEYWORD_VALUES[k], number, place, datasheet)
    for known in KEYWORD_VALUES[len(keyword.parts) :]:
        if datasheet.has(known["kind"]):
            yield Wanted(known["kind"], number, "none", ())


def _value(
    part: Part, known: Mapping[str, KnownPoint], number: int, path: KeyPath, datasheet: Datasheet
) -> Iterator[Wanted]:
    form = part.form
    yield Wanted(known["kind"], number, form.kind.value, path)
    yield Wanted(known["to"], number, part.of.partition(" ")[2] or "kept", (*path, "to"))
    if form.kind is Kind.TEXT:
        yield Wanted(known["longest"], number, float(form.longest), (*path, "text"))
    yield from _unless(
        known["unit"], number, "yes" if form.unit else "no", "no", (*path, "unit"), datasheet
    )
    yield from _unless(known["bad"], number, form.bad, _FORM.bad, (*path, "bad"), datasheet)
    if part.span is not None and datasheet.has(known["low"]):
        yield Wanted(known["low"], number, part.span[0], (*path, "span"))
        yield Wanted(known["high"], number, part.span[1], (*path, "span"))
