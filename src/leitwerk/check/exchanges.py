"""Exchanges of a setup on a device: what each field carries, where each value goes, and what is wrong."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from leitwerk.check.channels import CheckedChannel
from leitwerk.check.exchange_lines import check_lines
from leitwerk.check.outputs import CheckedOutput, RelayOutput
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point
from leitwerk.datasheet.vocabulary import TALK_MANNER
from leitwerk.errors import QuantityError
from leitwerk.exchange.definition import (
    Answer,
    AnswerKind,
    Direction,
    Exchange,
    Form,
    Kind,
    LineForm,
    Part,
    Wire,
)
from leitwerk.exchange.saying import longest_bytes
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.address import LinkAddress
from leitwerk.parsing.quantities import format_number, format_span
from leitwerk.parsing.units import parse_unit
from leitwerk.rules.definition import Action, Say, Trigger
from leitwerk.setup.exchanges import (
    DirectionEntry,
    ExchangeEntry,
    FieldEntry,
    FormEntry,
    KeywordEntry,
    MessageEntry,
    ValueEntry,
)
from leitwerk.setup.model import Setup
from leitwerk.setup.rules import RuleEntry

MOST_LINES, MOST_VALUES = 200, 100  # messages or keywords of an exchange; values of one
_HEAVY, _FULL = 0.7, 1.0  # of what a line can carry
_SOURCES = ("given", "channel", "setting", "state", "device", "text", "time", "counter")
_KINDS = ("number", "integer", "hexadecimal", "text", "state", "time", "constant")
_ON_OFF = (("on", "on"), ("off", "off"))
_ACTIVE = (("active", "active"), ("not active", "not active"))
_DEVICE_TEXT = 40


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


@dataclass(frozen=True)
class _Known:
    """What fields and values may name."""

    setup: Setup
    datasheet: Datasheet
    channels: Mapping[str, CheckedChannel]
    outputs: Mapping[str, CheckedOutput]
    alarms: frozenset[str]


def check_exchanges(
    setup: Setup,
    datasheet: Datasheet,
    channels: Sequence[CheckedChannel],
    outputs: Sequence[CheckedOutput],
    findings: Findings,
) -> list[CheckedExchange]:
    """The exchanges of a setup; findings take what does not fit."""
    known = _Known(
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
    known = _Known(setup, datasheet, {}, {}, frozenset())
    return _exchange(name, entry, known, ("exchanges", name), Findings(setup.source.file))


def _exchange(
    name: str, entry: ExchangeEntry, known: _Known, path: KeyPath, findings: Findings
) -> Exchange:
    says, understands = (*path, "says", "messages"), (*path, "understands", "keywords")
    messages = tuple(
        LineForm(
            line,
            message.keyword or "",
            tuple(
                part
                for k, field in enumerate(message.fields)
                if (part := _field(field, known, (*says, line, "fields", str(k)), findings))
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
                if (part := _value(value, known, (*understands, line, "values", str(k)), findings))
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


# ---------------------------------------------------------------------- fields that are said


def _field(field: FieldEntry, known: _Known, path: KeyPath, findings: Findings) -> Part | None:
    given = [key for key in _SOURCES if getattr(field, key) is not None]
    if len(given) != 1:
        message = f"a field carries one thing, this {', '.join(given) or 'nothing'}"
        findings.error("bad-value", path, message, valid=f"one of {', '.join(_SOURCES)}")
        return None
    key = given[0]
    subject = str(getattr(field, key))
    if key == "text":
        return Part(Form(Kind.CONSTANT, text=subject))
    if key == "given":
        return _given(field, path, findings)
    if key == "time" and field.time is not None:
        return Part(replace(_form(field, Kind.TIME), layout=field.time), "time", "time")
    if key == "counter":
        counted = replace(_form(field, Kind.COUNTER), width=field.counter or 1, pad="0")
        return Part(counted, "counter", "counter")
    if key == "device":
        return Part(
            replace(_form(field, Kind.TEXT), longest=_DEVICE_TEXT), subject, f"device {subject}"
        )
    form_of = {"channel": _channel_form, "setting": _setting_form, "state": _state_form}[key]
    form = form_of(field, subject, known, path, findings)
    channel = known.channels.get(subject) if key == "channel" else None
    point = known.datasheet.settings.get(subject) if key == "setting" else None
    shows = channel.kind if channel is not None else ""
    unit = channel.symbol if channel is not None else point.unit if point is not None else ""
    return None if form is None else Part(form, subject, f"{key} {subject}", shows, unit)


def _given(field: FieldEntry, path: KeyPath, findings: Findings) -> Part:
    """A value that is given when the message is said."""
    kind = Kind(field.given or "number")
    form = replace(_form(field, kind), longest=field.longest or _DEVICE_TEXT, layout=field.layout)
    if kind is Kind.STATE:
        form = replace(form, states=tuple(field.states.items()))
        if not field.states:
            findings.error("missing-key", path, "a state needs its texts", valid="states: {on: ON}")
    least, most = field.times or (1, 1)
    return Part(form, field.name or kind.value, "given", least=least, most=most)


def _form(entry: FormEntry, kind: Kind, unit: str = "") -> Form:
    return Form(
        kind,
        entry.decimals,
        entry.digits,
        entry.exponent == "yes",
        entry.width,
        "0" if entry.pad == "zeros" else " ",
        unit if entry.unit == "yes" else "",
        entry.before,
        entry.after,
        entry.bad,
    )


def _channel_form(
    field: FieldEntry, name: str, known: _Known, path: KeyPath, findings: Findings
) -> Form | None:
    channel = known.channels.get(name)
    if channel is None:
        if name not in known.setup.channels:
            message = f"there is no channel {name[:40]!r}"
            findings.error("unknown-name", path, message, valid=", ".join(known.channels))
        return None
    if channel.states is not None:
        return _states(field, [(n, n) for n in channel.states.names], path, findings)
    if field.hexadecimal == "yes":
        return _form(field, Kind.HEXADECIMAL)
    resolution = channel.value_point(known.datasheet).resolution
    return _number(field, channel.symbol, resolution, name, path, findings)


def _number(
    field: FormEntry, unit: str, resolution: float, name: str, path: KeyPath, findings: Findings
) -> Form:
    form = _form(field, Kind.NUMBER, unit)
    if not 0.0 < resolution < math.inf:
        return form
    fine = max(0, min(9, -math.floor(math.log10(resolution) + 1e-9)))
    if form.decimals is None and form.digits is None and not form.exponent:
        return replace(form, decimals=fine)
    if form.decimals is not None and not form.exponent and form.decimals < fine:
        message = f"{name} is resolved to {format_number(resolution)}, and said with {form.decimals} decimals"
        findings.warning("loses-digits", path, message, valid=f"decimals: {fine}")
    return form


def _setting_form(
    field: FieldEntry, name: str, known: _Known, path: KeyPath, findings: Findings
) -> Form | None:
    point = _setting(name, known, path, findings)
    if point is None:
        return None
    if point.choice_names:
        return _states(field, [(n, n) for n in point.choice_names], path, findings)
    if point.is_text:
        return replace(_form(field, Kind.TEXT), longest=getattr(point, "max_length", _DEVICE_TEXT))
    return _number(field, point.unit, point.resolution, name, path, findings)


def _state_form(
    field: FieldEntry, name: str, known: _Known, path: KeyPath, findings: Findings
) -> Form | None:
    if name in known.alarms:
        return _states(field, _ACTIVE, path, findings)
    if isinstance(known.outputs.get(name), RelayOutput):
        return _states(field, _ON_OFF, path, findings)
    channel = name.partition(".")[0]
    if channel in known.setup.channels and channel not in known.channels:
        return None  # it has a finding of its own
    valid = ", ".join([*sorted(known.alarms)[:8], *known.outputs])
    findings.error("unknown-name", path, f"there is no alarm or output {name[:40]!r}", valid=valid)
    return None


def _states(
    entry: FormEntry, names: Iterable[tuple[str, str]], path: KeyPath, findings: Findings
) -> Form:
    texts = dict(names)
    for name, text in entry.states.items():
        if name not in texts:
            message = f"there is no state {name[:40]!r}"
            findings.error(
                "wrong-state", (*path, "states", name), message, at_key=True, valid=", ".join(texts)
            )
        else:
            texts[name] = text
    return replace(_form(entry, Kind.STATE), states=tuple(texts.items()))


def _setting(name: str, known: _Known, path: KeyPath, findings: Findings) -> Point | None:
    point = known.datasheet.settings.get(name)
    if point is None:
        message = f"{known.datasheet.model} has no setting {name[:60]!r}"
        findings.error(
            "unknown-setting", path, message, valid=", ".join(list(known.datasheet.settings)[:12])
        )
    return point


# ---------------------------------------------------------------------- values that are understood


def _value(entry: ValueEntry, known: _Known, path: KeyPath, findings: Findings) -> Part | None:
    given = [key for key in _KINDS if getattr(entry, key) is not None]
    if len(given) != 1:
        message = f"a value is of one kind, this of {', '.join(given) or 'none'}"
        findings.error("bad-value", path, message, valid=f"one of {', '.join(_KINDS)}")
        return None
    kind = Kind(given[0])
    if kind is Kind.CONSTANT:
        return Part(Form(kind, text=entry.constant or ""))
    unit, form = "", _form(entry, kind)
    if kind is Kind.NUMBER:
        try:
            unit = parse_unit(entry.number or "").symbol
        except QuantityError as error:
            findings.error("bad-value", (*path, "number"), error.message, valid=error.valid)
        form = _form(entry, kind, unit)
    elif kind is Kind.TEXT:
        form = replace(form, longest=entry.text or 0)
    elif kind is Kind.TIME and entry.time is not None:
        form = replace(form, layout=entry.time)
    elif kind is Kind.STATE:
        form = replace(form, states=tuple(entry.states.items()))
        if not entry.states:
            valid = "states: {on: ON, off: OFF}"
            findings.error("missing-key", path, "a state needs its texts", valid=valid)
    least, most = entry.times or (1, 1)
    part = Part(form, entry.name or "", entry.to or "", unit=unit, least=least, most=most)
    part = _with_target(part, entry, unit, known, path, findings)
    return part if part.name else replace(part, name=part.of.partition(" ")[2] or kind.value)


def _with_target(
    part: Part, entry: ValueEntry, unit: str, known: _Known, path: KeyPath, findings: Findings
) -> Part:
    """The value with where it goes, and what is accepted there."""
    span = _span(entry, unit, path, findings)
    if entry.to is None:
        return replace(part, span=span)
    place = (*path, "to")
    what, _, name = entry.to.partition(" ")
    name = name.strip()
    if what == "setting":
        point = _setting(name, known, place, findings)
        if point is None:
            return part
        return _to_setting(part, span, point, unit, place, findings)
    if what == "output":
        output = known.outputs.get(name)
        if not isinstance(output, RelayOutput) or output.follows:
            valid = (
                ", ".join(o.name for o in known.outputs.values() if isinstance(o, RelayOutput))
                or "none"
            )
            findings.error(
                "unknown-output", place, f"there is no switched output {name[:40]!r}", valid=valid
            )
        elif part.form.kind is not Kind.STATE or {n for n, _ in part.form.states} != {"on", "off"}:
            message = f"{name} is switched on or off"
            findings.error(
                "wrong-state", place, message, valid="state: yes, states: {on: ON, off: OFF}"
            )
        return part
    message = f"{entry.to[:40]!r} is nowhere a value can go"
    findings.error("bad-value", place, message, valid="setting bar.high, output valve")
    return part


def _to_setting(
    part: Part,
    span: tuple[float, float] | None,
    point: Point,
    unit: str,
    path: KeyPath,
    findings: Findings,
) -> Part:
    kind = part.form.kind
    if point.read_only:
        findings.error(
            "read-only", path, f"{point.name} can be read and not written", remedy="remove it"
        )
    if point.choice_names:
        unknown = [n for n, _ in part.form.states if n not in point.choice_names]
        if kind is not Kind.STATE or unknown:
            message = f"{point.name} takes one of its choices"
            findings.error("wrong-state", path, message, valid=", ".join(point.choice_names))
    elif point.is_text:
        most = getattr(point, "max_length", _DEVICE_TEXT)
        if kind is not Kind.TEXT:
            findings.error("wrong-kind", path, f"{point.name} takes a text", valid=f"text: {most}")
        elif part.form.longest > most:
            message = f"{point.name} takes {most} characters, {part.form.longest} may come"
            findings.error("too-long", path, message, valid=f"text: {most}")
    elif kind not in {Kind.NUMBER, Kind.INTEGER, Kind.HEXADECIMAL}:
        message = f"{point.name} is a number, and a {kind.value} could come: it would be lost"
        findings.error("text-to-number", path, message, valid="number: " + (point.unit or "1"))
    else:
        return _to_number(part, span, point, unit, path, findings)
    return part


def _to_number(
    part: Part,
    span: tuple[float, float] | None,
    point: Point,
    unit: str,
    path: KeyPath,
    findings: Findings,
) -> Part:
    if point.unit and unit and unit != point.unit:
        message = f"{point.name} is in {point.unit}, the value comes in {unit}"
        findings.error("wrong-unit", path, message, valid=f"number: {point.unit}")
    low, high = point.span()
    if span is not None and not low <= span[0] <= span[1] <= high:
        valid = format_span(low, high, None)
        findings.error(
            "outside-span", (*path[:-1], "span"), f"{point.name} takes {valid}", valid=valid
        )
    return replace(part, span=span or (low, high))


def _span(
    entry: ValueEntry, unit: str, path: KeyPath, findings: Findings
) -> tuple[float, float] | None:
    if entry.span is None:
        return None
    try:
        return entry.span.ends_in(parse_unit(unit))
    except QuantityError as error:
        findings.error("wrong-unit", (*path, "span"), error.message, valid=error.valid)
        return None


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


def _check_where(entry: ExchangeEntry, known: _Known, path: KeyPath, findings: Findings) -> None:
    if exchange_is_link(entry, known.datasheet):
        return  # the device is at the other end
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


def exchange_rules(setup: Setup) -> Iterator[tuple[str, RuleEntry, KeyPath]]:
    """What messages and keywords ask for in terms of rules: the name, the rule, the way to its key."""
    for name, entry in setup.exchanges.items():
        for line, message in entry.says.messages.items():
            full, path = f"{name}.{line}", ("exchanges", name, "says", "messages", line)
            for trigger in message.when:
                yield full, _rule(trigger, (Say(full),), message), path
        for line, keyword in entry.understands.keywords.items():
            full, path = f"{name}.{line}", ("exchanges", name, "understands", "keywords", line)
            if keyword.do:
                yield full, _rule(Trigger(event=f"heard {full}"), keyword.do), path


def _rule(
    trigger: Trigger, actions: tuple[Action, ...], message: MessageEntry | None = None
) -> RuleEntry:
    return RuleEntry(when=trigger, do=actions, at_most=message.at_most if message else None)


def lines_of(setup: Setup) -> dict[str, str]:
    """Every message and keyword by its full name, as actions and events name them: which it is."""
    return {
        f"{name}.{line}": kind
        for name, entry in setup.exchanges.items()
        for group, kind in (
            (entry.says.messages, "message"),
            (entry.understands.keywords, "keyword"),
        )
        for line in group
    }
