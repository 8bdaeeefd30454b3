"""Exchanges as a setup file holds them: both directions, messages and keywords with what they carry."""

from __future__ import annotations

import enum
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, WithJsonSchema

from leitwerk.errors import QuantityError
from leitwerk.exchange.characters import parse_characters
from leitwerk.exchange.terms import Flow, Layout, Manner, Spaces, Wires
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.address import LinkAddress, SerialLine, parse_address, parse_line
from leitwerk.parsing.models import Model, YesNo, reader, text_of, validate
from leitwerk.parsing.yaml_text import EMPTY, List, Map
from leitwerk.setup.fields import (
    DurationField,
    Line,
    RangeField,
    text_schema,
    whole_number,
)
from leitwerk.setup.rules import ActionsField, PauseField, TriggersField

_MOST_DECIMALS, _MOST_DIGITS, _MOST_WIDTH, _MOST_LINE, _MOST_TEXT = 9, 15, 40, 4000, 400
_MOST_TIMES = 100


def _characters(value: object) -> str:
    return parse_characters(text_of(value, "one or several characters"))


def _times(value: object) -> tuple[int, int]:
    least, dots, most = text_of(value, "a number such as 3, or 1..4").strip().partition("..")
    ends = (least, most if dots else least)
    if not all(e.isascii() and e.isdigit() and len(e) <= 4 for e in ends):
        raise QuantityError(f"{value!r:.30} is not how often", valid="3, or 1..4")
    found = int(ends[0]), int(ends[1])
    if not found[0] <= found[1] <= _MOST_TIMES or not found[1]:
        raise QuantityError(f"{value!r:.30} is not how often", valid=f"1 to {_MOST_TIMES}, or 1..4")
    return found


def _serial_line(value: object) -> SerialLine:
    return parse_line(text_of(value, "a serial line such as 9600,8N1"))


def _own_end(value: object) -> LinkAddress:
    found = parse_address(text_of(value, "the address of a port"))
    if found.protocol != "text":
        valid = "text+serial:///dev/ttyUSB1?line=9600,8N1 or text+tcp://127.0.0.1:4001"
        raise QuantityError(
            f"an exchange goes over lines of text, not {found.protocol}", valid=valid
        )
    return found


def _word(kind: type[enum.StrEnum]) -> Any:
    words = ", ".join(kind)

    def read(value: object) -> enum.StrEnum:
        text = text_of(value, f"one of {words}").strip()
        if text not in set(kind):
            raise QuantityError(f"{text[:40]!r} is not known here", valid=words)
        return kind(text)

    return reader(kind, read)


def _choice(kind: type[enum.StrEnum]) -> WithJsonSchema:
    return WithJsonSchema({"enum": [str(word) for word in kind]})


LayoutField = Annotated[Layout, _word(Layout), _choice(Layout)]
SpacesField = Annotated[Spaces, _word(Spaces), _choice(Spaces)]
FlowField = Annotated[Flow, _word(Flow), _choice(Flow)]
WiresField = Annotated[Wires, _word(Wires), _choice(Wires)]
MannerField = Annotated[Manner, _word(Manner), _choice(Manner)]
CharactersField = Annotated[
    str,
    reader((), _characters),
    text_schema("Characters, or their names", ";", "CR LF", "STX", "TAB"),
]
SerialLineField = Annotated[
    SerialLine,
    reader(SerialLine, _serial_line),
    text_schema("A serial line", "9600,8N1", "19200,7E1"),
]
OwnEndField = Annotated[
    LinkAddress,
    reader(LinkAddress, _own_end),
    text_schema(
        "The port at which Leitwerk is this end", "text+serial:///dev/ttyUSB1?line=9600,8N1"
    ),
]
TimesField = Annotated[
    tuple[int, int],
    reader(tuple, _times),
    text_schema("How often the last value stands in a line", "3", "1..4", numbers=True),
]
DecimalsField = Annotated[
    int,
    whole_number(_MOST_DECIMALS, "a number of decimals"),
    text_schema("Decimals", "1", numbers=True),
]
DigitsField = Annotated[
    int,
    whole_number(_MOST_DIGITS, "a number of digits"),
    text_schema("Digits that count", "4", numbers=True),
]
WidthField = Annotated[
    int,
    whole_number(_MOST_WIDTH, "a number of characters"),
    text_schema("Least width", "8", numbers=True),
]
LengthField = Annotated[
    int,
    whole_number(_MOST_LINE, "a number of bytes"),
    text_schema("Longest line in bytes", "80", numbers=True),
]
TextLengthField = Annotated[
    int,
    whole_number(_MOST_TEXT, "a number of characters"),
    text_schema("Longest text", "16", numbers=True),
]


# An editor takes the unit 1 for a number.
NumberUnit = Annotated[
    Line, WithJsonSchema({"type": ["string", "number"], "examples": ["°C", "1"]})
]


# A text as it is, with the spaces at its ends.
KeptText = Annotated[
    str,
    reader((), lambda v: "" if v is EMPTY else text_of(v, "a text")),
    text_schema("A text as it is, with the spaces at its ends", "ERR {}", numbers=True),
]


class FormEntry(Model):
    """How a value stands in a line."""

    decimals: DecimalsField | None = None
    digits: DigitsField | None = None
    exponent: YesNo = "no"
    width: WidthField = 0
    pad: Literal["spaces", "zeros"] = "spaces"
    unit: YesNo = Field("no", description="Whether the unit stands behind the number")
    before: KeptText = Field("", description="A text in front of the value")
    after: KeptText = Field("", description="A text behind the value")
    bad: KeptText = Field("---", description="What stands there when there is no good value")
    states: dict[str, str] = Field(default_factory=dict, description="The text of each state")


class FieldEntry(FormEntry):
    """One field of a message: what it carries, and how."""

    channel: Line | None = Field(None, description="The value of a channel")
    setting: Line | None = Field(None, description="A setting of the device")
    state: Line | None = Field(None, description="The state of an alarm or output")
    device: Literal["model", "serial", "firmware"] | None = None
    text: Line | None = Field(None, description="A text that is always the same")
    time: LayoutField | None = Field(None, description="The moment of saying")
    counter: DigitsField | None = Field(None, description="A running number of so many digits")
    hexadecimal: YesNo = "no"
    given: Literal["number", "integer", "hexadecimal", "text", "state", "time"] | None = Field(
        None, description="A value of this kind that is given when the message is said"
    )
    name: Line | None = Field(None, description="What a given value is called")
    longest: TextLengthField | None = Field(None, description="Most characters of a given text")
    layout: LayoutField = Layout.ISO
    times: TimesField | None = None


class MessageEntry(Model):
    """A line that this end says."""

    keyword: Line | None = None
    fields: list[FieldEntry] = Field(default_factory=list)
    when: TriggersField = ()
    at_most: PauseField | None = None
    asks: Line | None = Field(None, description="The line with which the other end answers")
    enabled: YesNo = Field("yes", description="Whether it is said before a rule switches it on")


class ValueEntry(FormEntry):
    """One value that follows a keyword: its kind, and where it goes."""

    number: NumberUnit | None = Field(None, description="A number in this unit; 1 has none")
    integer: YesNo | None = None
    hexadecimal: YesNo | None = None
    text: TextLengthField | None = Field(None, description="A text of at most so many characters")
    state: YesNo | None = Field(None, description="One of the texts under 'states'")
    time: LayoutField | None = None
    constant: Line | None = None
    name: Line | None = Field(None, description="What the value is called")
    to: Line | None = Field(None, description="Where it goes: setting bar.high, output valve")
    span: RangeField | None = Field(None, description="What is accepted")
    times: TimesField | None = None


class KeywordEntry(Model):
    """A line that this end understands."""

    keyword: Line | None = None
    values: list[ValueEntry] = Field(default_factory=list)
    do: ActionsField = ()
    answer: Line = Field(
        "confirmation", description="nothing, confirmation, or message and its name"
    )
    errors: YesNo = Field("yes", description="Whether an error is told to the other end")
    enabled: YesNo = "yes"


class DirectionEntry(Model):
    """How lines look that go one way."""

    separator: CharactersField = ";"
    end: CharactersField = "\r\n"
    start: CharactersField | None = None
    encoding: Literal["ascii", "latin-1", "utf-8", "cp1252"] = "ascii"
    decimal_sign: Literal[".", ","] = "."
    longest: LengthField = 200
    spaces: SpacesField = Spaces.DROP
    quotes: Literal["'", '"'] | None = None
    values: Literal["one", "several"] = Field("several", description="How many values a line has")
    confirms: KeptText = Field("OK", description="What confirms a line")
    refuses: KeptText = Field("ERR {}", description="What refuses one: {} is the reason")


class SaysEntry(DirectionEntry):
    """What this end says."""

    messages: dict[str, MessageEntry] = Field(default_factory=dict)


class UnderstandsEntry(DirectionEntry):
    """What this end understands."""

    keywords: dict[str, KeywordEntry] = Field(default_factory=dict)


class ExchangeEntry(Model):
    """Lines of text that the device, or Leitwerk in its place, says to another end and understands."""

    partner: Line | None = Field(None, description="Who the other end is")
    at: OwnEndField | None = None
    manner: MannerField = Manner.MACHINES
    line: SerialLineField | None = None
    flow: FlowField = Flow.NONE
    wires: WiresField = Wires.RS232
    turn_around: DurationField | None = Field(
        None, description="On two wires: how long the other end takes until it listens again"
    )
    address: KeptText = Field("", description="What stands before each line")
    says: SaysEntry = Field(default_factory=SaysEntry)
    understands: UnderstandsEntry = Field(default_factory=UnderstandsEntry)


# ---------------------------------------------------------------------- read, with every finding


def read_exchange(raw: Map, path: KeyPath, findings: Findings) -> ExchangeEntry | None:
    """An exchange of a setup file; what cannot be read is a finding, and left out."""
    entries: dict[str, Any] = dict(raw)
    if isinstance(way := raw.get("says"), Map):
        content = _lines(way, "messages", MessageEntry, (*path, "says"), findings)
        entries["says"] = validate(SaysEntry, content, (*path, "says"), findings)
    if isinstance(way := raw.get("understands"), Map):
        content = _lines(way, "keywords", KeywordEntry, (*path, "understands"), findings)
        entries["understands"] = validate(
            UnderstandsEntry, content, (*path, "understands"), findings
        )
    return validate(
        ExchangeEntry, {k: v for k, v in entries.items() if v is not None}, path, findings
    )


_PARTS: dict[type[Model], tuple[str, type[Model]]] = {
    MessageEntry: ("fields", FieldEntry),
    KeywordEntry: ("values", ValueEntry),
}


def _lines(
    way: Map, group: str, model: type[Model], path: KeyPath, findings: Findings
) -> dict[str, Any]:
    content: dict[str, Any] = dict(way)
    if isinstance(lines := way.get(group), Map):
        read = {n: _line(text, model, (*path, group, n), findings) for n, text in lines.items()}
        content[group] = {name: line for name, line in read.items() if line is not None}
    return content


def _line(raw: object, model: type[Model], path: KeyPath, findings: Findings) -> Model | None:
    inner, part = _PARTS[model]
    if not isinstance(raw, Map):
        valid = "{keyword: T, fields: [{channel: air, decimals: 1}]}"
        findings.error("bad-value", path, f"{path[-1]} is a group of keys", valid=valid)
        return None
    content: dict[str, Any] = dict(raw)
    if isinstance(parts := raw.get(inner), List):
        content[inner] = []
        for number, text in enumerate(parts):
            place = (*path, inner, str(number))
            if not isinstance(text, Map):
                valid = "{channel: air, decimals: 1}" if inner == "fields" else "{number: °C}"
                findings.error("bad-value", place, "it is a group of keys", valid=valid)
                continue
            read: dict[str, Any] = dict(text)
            if isinstance(states := text.get("states"), Mapping):
                read["states"] = {str(k): str(v) for k, v in states.items()}
            if (found := validate(part, read, place, findings)) is not None:
                content[inner].append(found)
    return validate(model, content, path, findings)
