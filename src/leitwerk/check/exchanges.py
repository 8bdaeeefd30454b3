"""Exchanges of a setup on a device: what each field carries, where each value goes, and what is wrong."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from leitwerk.check.channels import CheckedChannel
from leitwerk.check.exchange_lines import check_lines
from leitwerk.check.exchange_parts import Nameable, field_part, value_part
from leitwerk.check.outputs import CheckedOutput
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import TALK_MANNER
from leitwerk.exchange.definition import Answer, Direction, Exchange, LineForm, Wire
from leitwerk.exchange.saying import longest_bytes
from leitwerk.exchange.terms import AnswerKind
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.address import LinkAddress
from leitwerk.rules.definition import Action, Say, Trigger
from leitwerk.setup.exchanges import (
    DirectionEntry,
    ExchangeEntry,
    KeywordEntry,
    MessageEntry,
)
from leitwerk.setup.model import Setup

MOST_LINES, MOST_VALUES = 200, 100  # messages or keywords of an exchange; values of one
_HEAVY, _FULL = 0.7, 1.0  # of what a line can carry


@dataclass(frozen=True)
class CheckedExchange:
    """An exchange on one device. ``at`` is where Leitwerk is this end; None: the device itself is."""

    exchange: Exchange
    at: LinkAddress | None
    entry: ExchangeEntry
    load: float  # the part of the line's time that is taken by messages on a timer

    @property
    def name(self) -> str:
        """Its name in the setup."""
        return self.exchange.name


def check_exchanges(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    outputs: Sequence[CheckedOutput],
    findings: Findings,
) -> list[CheckedExchange]:
    """The exchanges of a setup; findings take what does not fit."""
    known = Nameable(
        setup,
        datasheet,
        {c.name: c for c in channels},
        {o.name: o for o in outputs},
        frozenset(name for c in channels for name, _ in c.named_alarms()),
    )
    found = []
    for name, entry in setup.exchanges.items():
        path = ("exchanges", name)
        if _is_too_large(entry, path, findings):
            continue
        exchange = _exchange(name, entry, known, path, findings)
        check_lines(exchange, path, findings)
        load = _check_line_load(exchange, entry, setup, path, findings)
        _check_where(entry, known, path, findings)
        _check_use(exchange, entry, setup, datasheet, path, findings)
        found.append(CheckedExchange(exchange, entry.at, entry, load))
    in_device = [c for c in found if c.at is None]
    if len(in_device) > 1:
        message = f"{datasheet.model} has one talking port, and here are {len(in_device)} exchanges for it"
        findings.error("no-talking-port", ("exchanges", in_device[1].name), message, at_key=True,
                       remedy="add 'at: …' where Leitwerk is this end")  # fmt: skip
    return found


def _is_too_large(entry: ExchangeEntry, path: KeyPath, findings: Findings) -> bool:
    found = False
    for place, lines in (
        ((*path, "says", "messages"), {n: len(m.fields) for n, m in entry.says.messages.items()}),
        (
            (*path, "understands", "keywords"),
            {n: len(k.values) for n, k in entry.understands.keywords.items()},
        ),
    ):
        if len(lines) > MOST_LINES:
            message = f"{len(lines):,} {place[-1]} are too many"
            findings.error(
                "too-many-lines", place, message, at_key=True, valid=f"at most {MOST_LINES}"
            )
            found = True
        for name, count in lines.items():
            if count > MOST_VALUES:
                message = f"{name} has {count:,} values"
                findings.error(
                    "too-many-lines", (*place, name), message, valid=f"at most {MOST_VALUES}"
                )
                found = True
    return found


def draft_exchange(name: str, entry: ExchangeEntry, setup: Setup, datasheet: Datasheet) -> Exchange:
    """An exchange before the channels are known; what is wrong in it is found later."""
    known = Nameable(setup, datasheet, {}, {}, frozenset())
    return _exchange(name, entry, known, ("exchanges", name), Findings(setup.source.file))


def _exchange(
    name: str, entry: ExchangeEntry, known: Nameable, path: KeyPath, findings: Findings
) -> Exchange:
    says, understands = (*path, "says", "messages"), (*path, "understands", "keywords")
    messages = tuple(
        LineForm(
            line,
            message.keyword or "",
            tuple(
                part
                for k, field in enumerate(message.fields)
                if (part := field_part(field, known, (*says, line, "fields", str(k)), findings))
            ),
            asks=_asked(message, entry, (*says, line), findings),
        )
        for line, message in entry.says.messages.items()
    )
    keywords = tuple(
        LineForm(
            line,
            keyword.keyword or "",
            tuple(
                part
                for k, value in enumerate(keyword.values)
                if (
                    part := value_part(
                        value, known, (*understands, line, "values", str(k)), findings
                    )
                )
            ),
            _answer(keyword, entry, (*understands, line), findings),
        )
        for line, keyword in entry.understands.keywords.items()
    )
    return Exchange(
        name,
        entry.manner,
        _wire(entry, path, findings),
        entry.address,
        replace(_direction(entry.says), lines=messages),
        replace(_direction(entry.understands), lines=keywords),
        entry.partner or "the other end",
    )


def _asked(message: MessageEntry, entry: ExchangeEntry, path: KeyPath, findings: Findings) -> str:
    if message.asks is not None and message.asks not in entry.understands.keywords:
        text = f"there is no line {message.asks[:40]!r} that is understood"
        valid = ", ".join(entry.understands.keywords)
        findings.error("unknown-name", (*path, "asks"), text, valid=valid)
        return ""
    return message.asks or ""


def _direction(entry: DirectionEntry) -> Direction:
    return Direction(
        entry.separator, entry.end, entry.start or "", entry.encoding, entry.decimal_sign, entry.longest,
        entry.spaces, entry.quotes or "", entry.values == "one", entry.confirms, entry.refuses,
    )  # fmt: skip


def _wire(entry: ExchangeEntry, path: KeyPath, findings: Findings) -> Wire:
    line = entry.line or (entry.at.line if entry.at is not None and entry.at.is_serial else None)
    if (
        entry.line is not None
        and entry.at is not None
        and entry.at.is_serial
        and entry.line != entry.at.line
    ):
        message = f"'line' is {entry.line}, 'at' says {entry.at.line}"
        findings.error("set-twice", (*path, "line"), message, remedy="remove 'line' here")
    if entry.turn_around is not None and entry.wires != "RS-485":
        message = "'turn_around' is a matter of two wires"
        findings.error(
            "useless-key", (*path, "turn_around"), message, at_key=True, valid="wires: RS-485"
        )
    turn = entry.turn_around.seconds if entry.turn_around else 0.0
    if line is None:
        return Wire(flow=entry.flow, wires=entry.wires, turn_around_s=turn)
    return Wire(
        line.baud, line.data_bits, line.parity, line.stop_bits, entry.flow, entry.wires, turn
    )


def _answer(
    entry: KeywordEntry, exchange: ExchangeEntry, path: KeyPath, findings: Findings
) -> Answer:
    tells = entry.errors == "yes"
    word, _, name = entry.answer.partition(" ")
    if word == "message" and name.strip() in exchange.says.messages:
        return Answer(AnswerKind.MESSAGE, name.strip(), tells)
    if entry.answer in {"nothing", "confirmation"}:
        return Answer(AnswerKind(entry.answer), "", tells)
    messages = ", ".join(f"message {m}" for m in exchange.says.messages)
    findings.error(
        "unknown-name",
        (*path, "answer"),
        f"{entry.answer[:40]!r} is no answer",
        valid=", ".join(x for x in ("nothing", "confirmation", messages) if x),
    )
    return Answer()


# ---------------------------------------------------------------------- the whole


def _check_where(entry: ExchangeEntry, known: Nameable, path: KeyPath, findings: Findings) -> None:
    if exchange_is_link(entry, known.datasheet):
        _check_link(entry, path, findings)
        return
    if entry.at is None and not known.datasheet.has(TALK_MANNER):
        findings.error(
            "no-talking-port",
            path,
            f"{known.datasheet.model} runs no exchange of its own",
            at_key=True,
            valid="at: text+serial:///dev/ttyUSB1?line=9600,8N1, where Leitwerk is this end",
        )
    if entry.at is None:
        for name, keyword in entry.understands.keywords.items():
            if keyword.do:
                place = (*path, "understands", "keywords", name, "do")
                message = f"{known.datasheet.model} does no actions; Leitwerk does, as this end"
                findings.error("cannot-do", place, message, remedy="remove 'do', or add 'at'")
    elif entry.at == known.setup.device.at:
        message = "this port programs the device; an exchange goes over another"
        findings.error("programming-port", (*path, "at"), message, valid="the talking port")


def _check_link(entry: ExchangeEntry, path: KeyPath, findings: Findings) -> None:
    """A device that is known by what it says: it is asked, and nothing is done or said by itself."""
    for name, message in entry.says.messages.items():
        if message.when:
            text = f"{name} is said when it is asked for, or by 'leitwerk exchange say'"
            findings.error(
                "cannot-do", (*path, "says", "messages", name, "when"), text, remedy="remove it"
            )
    for name, keyword in entry.understands.keywords.items():
        if keyword.do:
            text = f"{name} gives readings, and does nothing"
            place = (*path, "understands", "keywords", name, "do")
            findings.error(
                "cannot-do", place, text, remedy="remove it; a rule on a channel can act"
            )


def exchange_is_link(entry: ExchangeEntry, datasheet: Datasheet) -> bool:
    """Whether the device is known by this exchange alone, and Leitwerk is the other end."""
    return entry.at is None and datasheet.exchange is not None


def _check_use(
    exchange: Exchange,
    entry: ExchangeEntry,
    setup: Setup,
    datasheet: Datasheet,
    path: KeyPath,
    findings: Findings,
) -> None:
    """Messages that nothing says, keywords that do nothing, and what is named and is not there."""
    if exchange_is_link(entry, datasheet):
        return  # what is heard are readings; what is said is asked for, or given by hand
    answers = {line.answer.message for line in exchange.understands.lines}
    acts = list(_actions(setup))
    said = {a.message for a in acts if isinstance(a, Say)}
    heard = {r.when.event for r in setup.rules.values()}
    for name, message in entry.says.messages.items():
        full = f"{exchange.name}.{name}"
        if not (message.when or message.asks or name in answers or full in said):
            findings.warning(
                "never-said",
                (*path, "says", "messages", name),
                f"nothing says {name}",
                at_key=True,
                remedy=f"add 'when: every 10 s', or a keyword with 'answer: message {name}'",
            )
        if not message.keyword and not message.fields:
            findings.error(
                "empty-line", (*path, "says", "messages", name), f"{name} is empty", at_key=True
            )
    for line in exchange.understands.lines:
        keyword = entry.understands.keywords[line.name]
        stores = any(part.of for part in line.parts)
        full = f"{exchange.name}.{line.name}."
        stores |= any((c.reading or "").startswith(full) for c in setup.channels.values())
        if (
            not stores
            and not keyword.do
            and not line.answer.message
            and (f"heard {exchange.name}.{line.name}" not in heard)
        ):
            findings.warning(
                "nothing-done",
                (*path, "understands", "keywords", line.name),
                f"{line.name} is understood, and nothing is done with it",
                at_key=True,
                remedy="say where its values go ('to'), what is done ('do'), or a message as its answer",
            )


def _actions(setup: Setup) -> Iterator[Action]:
    for rule in setup.rules.values():
        yield from (*rule.do, *rule.escalate)
    for exchange in setup.exchanges.values():
        for keyword in exchange.understands.keywords.values():
            yield from keyword.do


def _check_line_load(
    exchange: Exchange, entry: ExchangeEntry, setup: Setup, path: KeyPath, findings: Findings
) -> float:
    """The part of the line's time that messages on a timer take; a line that is too long, too."""
    way, load = exchange.says, 0.0
    for line in way.lines:
        length = longest_bytes(line, way, exchange)
        place = (*path, "says", "messages", line.name)
        if length > way.longest:
            message = (
                f"{line.name} may be {length} bytes long, {exchange.partner} takes {way.longest}"
            )
            findings.error("line-too-long", place, message, at_key=True, valid=f"longest: {length}")
        every = [
            t.every_s for t in _triggers_of(exchange.name, line.name, entry, setup) if t.every_s
        ]
        took = (
            exchange.wire.seconds(length + len(way.end) + len(way.start))
            + exchange.wire.turn_around_s
        )
        load += sum(took / every_s for every_s in every)
    for line in exchange.understands.lines:
        if (
            length := longest_bytes(line, exchange.understands, exchange)
        ) > exchange.understands.longest:
            place = (*path, "understands", "keywords", line.name)
            message = f"{line.name} may be {length} bytes long"
            findings.error("line-too-long", place, message, at_key=True, valid=f"longest: {length}")
    is_serial = entry.at is None or entry.at.is_serial
    if is_serial and load > _HEAVY:
        report = findings.error if load > _FULL else findings.warning
        what = "more than the line can carry" if load > _FULL else "little is left for answers"
        message = f"messages on a timer take {load:.0%} of the line at {exchange.wire}: {what}"
        report("line-load", path, message, at_key=True, remedy="longer intervals, or a faster line")
    return load if is_serial else 0.0


def _triggers_of(exchange: str, line: str, entry: ExchangeEntry, setup: Setup) -> Iterator[Trigger]:
    yield from entry.says.messages[line].when
    for rule in setup.rules.values():
        if Say(f"{exchange}.{line}") in rule.do:
            yield rule.when
