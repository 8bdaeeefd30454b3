"""What a datasheet file holds: the way each text is written, and the groups of keys.

Each type carries its part of the JSON Schema, so that editors complete and check the same texts.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import Field, WithJsonSchema

from leitwerk.datasheet.points import INDEX
from leitwerk.datasheet.register_points import BCD_VERSION, TABLES
from leitwerk.datasheet.registers import NUMBER_TYPES
from leitwerk.datasheet.text_points import FIELD_BY_INDEX, MAX_TEXT
from leitwerk.datasheet.times import UNIX_TIME, USUAL_TIME, register_layout, time_form
from leitwerk.errors import QuantityError
from leitwerk.parsing.models import Model, YesNo, reader, text_of
from leitwerk.parsing.quantities import Quantity, Span, parse_quantity, parse_span
from leitwerk.parsing.units import Unit, parse_unit
from leitwerk.power.system import SYSTEMS

VERSION = "1"
GROUPS = ("identity", "status", "readings", "settings", "secrets", "recordings", "access")
LAST_REGISTER = 65535  # MODBUS Application Protocol V1.1b3, 4.4: data addresses have 16 bits
_AT = re.compile(r"(\w+) +(\d{1,5})(?: *\+ *(\d{1,5}) *([a-z]+))?")
_BCD_TYPE = re.compile(r"bcd +(4|8|12|16)")
_BITS = re.compile(r"(\d{1,2})(?:\.\.(\d{1,2}))?")
_COLUMNS = re.compile(r"(\d{1,3})(?:\.\.(\d{1,3}))?")
_TEXT_TYPE = re.compile(r"text +(\d{1,3})")


@dataclass(frozen=True, slots=True)
class At:
    """Where a point lives: ``holding 60 + 40 n``."""

    table: str
    start: int
    stride: int
    index: str


def _at(value: object) -> At:
    valid = "table and register, such as holding 16 or input 101 + 3 n"
    match = _AT.fullmatch(text_of(value, valid))
    if match is None or match[1] not in TABLES or int(match[2]) > LAST_REGISTER:
        message = f"{value!r} is not a place of a point"
        raise QuantityError(message, valid=f"{valid}; tables: {', '.join(TABLES)}")
    return At(match[1], int(match[2]), int(match[3] or 0), match[4] or "")


def _kind(value: object) -> tuple[str, int]:
    text = text_of(value, "a type")
    if text in NUMBER_TYPES:
        return text, NUMBER_TYPES[text][1]
    if match := _TEXT_TYPE.fullmatch(text):
        return "text", (int(match[1]) + 1) // 2
    if match := _BCD_TYPE.fullmatch(text):
        return "bcd", int(match[1]) // 4
    if text == UNIX_TIME:
        return text, 2
    if layout := register_layout(text):
        return text, len(layout.groups)
    if text == BCD_VERSION:
        return text, 1
    if text == "bit":
        return "u16", 1
    times = (USUAL_TIME, "bcd YYYY MMDD hhmm ss", UNIX_TIME)
    valid = ", ".join((*NUMBER_TYPES, "bit", "bcd 8", BCD_VERSION, *times, "text 16"))
    raise QuantityError(f"{text!r} is not a type", valid=valid)


def _layout(value: object) -> str:
    text = text_of(value, "the layout of a time")
    if not time_form(text):
        valid = "YYYY,MM,DD; hh:mm:ss; YYYY-MM-DD hh:mm:ss"
        raise QuantityError(f"{text!r} is not the layout of a date, a time or both", valid=valid)
    return text


def _bits(value: object) -> tuple[int, int]:
    valid = "the lowest and the highest bit of a field, such as 4..7, or one bit, 3"
    text = text_of(value, valid)
    match = _BITS.fullmatch(text)
    low, high = (int(match[1]), int(match[2] or match[1])) if match else (1, 0)
    if not low <= high <= 15:
        raise QuantityError(f"{text!r} are not bits of a register", valid=valid)
    return low, high


def _columns(value: object) -> tuple[int, int]:
    valid = "the first and the last column, such as 3..10"
    text = text_of(value, valid)
    match = _COLUMNS.fullmatch(text)
    low, high = (int(match[1]), int(match[2] or match[1])) if match else (1, 0)
    if not 1 <= low <= high:
        raise QuantityError(f"{text!r} are not columns of an answer", valid=valid)
    return low, high


def parse_code(text: str) -> int:
    """A code as it stands in a manual: 32768, or 0x8000.

    Raises
    ------
    QuantityError
        The text is neither.

    """
    try:
        return int(text, 16) if text.lower().startswith("0x") else int(text)
    except ValueError:
        raise QuantityError(f"{text[:20]!r} is not a code", valid="32768, or 0x8000") from None


def _number(value: object) -> float:
    quantity = parse_quantity(text_of(value, "a number"))
    if quantity.unit is not None:
        raise QuantityError(f"{value!r} has a unit", valid="a number in the point's own unit")
    return quantity.value


def _count(value: object) -> int:
    text = text_of(value, "a whole number")
    if not text.isdecimal() or len(text) > 9:
        raise QuantityError(f"{text!r} is not a whole number", valid="0, 1, 2, …")
    return int(text)


def _field(value: object) -> int:
    if isinstance(value, str) and INDEX.fullmatch(value):
        return FIELD_BY_INDEX
    return _count(value)


def _version(value: object) -> str:
    if value != VERSION:
        raise QuantityError(f"version {value!r} is not known", valid=VERSION)
    return VERSION


def _shape(description: str, *examples: Any) -> WithJsonSchema:
    kinds = ["string", "number", "integer"]
    return WithJsonSchema({"type": kinds, "description": description, "examples": list(examples)})


Version = Annotated[
    str, reader((), _version), WithJsonSchema({"const": 1, "description": "Version of this format"})
]
Text = Annotated[str, Field(min_length=1, max_length=200)]
Count = Annotated[int, reader(int, _count), _shape("A whole number", 8)]
FieldField = Annotated[
    int,
    reader(int, _field),
    WithJsonSchema(
        {
            "type": ["integer", "string"],
            "description": "The number of a field of an answer; of a family, {w}: that of its index",
            "examples": [2, "{w}"],
        }
    ),
]
Amount = Annotated[
    Quantity,
    reader(Quantity, lambda v: parse_quantity(text_of(v, "a step"))),
    _shape("The value of one step of the stored number", "0.1 s", 0.001),
]
Ends = Annotated[
    Span,
    reader(Span, lambda v: parse_span(text_of(v, "a span"))),
    _shape("From the lowest to the highest", "0.5 s .. 24 h", "12..15.5"),
]
UnitName = Annotated[
    Unit, reader(Unit, lambda v: parse_unit(text_of(v, "a unit"))), _shape("A unit", "mV", "Ω")
]
AtField = Annotated[
    At,
    reader(At, _at),
    _shape("Table and register, counted from 0", "holding 16", "input 101 + 3 n"),
]
BitsField = Annotated[
    tuple[int, int], reader(tuple, _bits), _shape("A field inside one register", "4..7", 3)
]
CodeField = Annotated[
    int,
    reader(int, lambda v: parse_code(text_of(v, "a code"))),
    _shape("A code or an address as in a manual", 4, "0x4000"),
]
NumberField = Annotated[float, reader(float, _number), _shape("A number in the point's unit", 25.0)]
LayoutField = Annotated[
    str,
    reader(str, _layout),
    _shape("How a time is written: YYYY, MM, DD, hh, mm, ss with what is between them", "hh:mm:ss"),
]
LogOutField = Annotated[
    str,
    reader(str, lambda v: v if v == "" else text_of(v, "what ends a login")),
    _shape("What is written to the login to end it; nothing if not given", 0, ""),
]
KindField = Annotated[
    tuple[str, int], reader(tuple, _kind), _shape("How it is stored", "u16", "f32", "text 16")
]


LinkName = Annotated[
    str,
    Field(pattern=r"^[a-z][a-z0-9]{0,19}$"),
    WithJsonSchema(
        {
            "type": "string",
            "description": "What the device speaks; packages may add protocols",
            "examples": ["modbus", "scpi", "sdi12", "text", "talk", "mqtt", "drive"],
        }
    ),
]
# IEC 60529: IP and two digits, against solids and against water; X where it is not stated.
Protection = Annotated[
    str,
    Field(pattern=r"^IP[0-6X][0-9X]$"),
    WithJsonSchema({"type": "string", "description": "Degree of protection", "examples": ["IP65"]}),
]
ColumnsField = Annotated[
    tuple[int, int],
    reader(tuple, _columns),
    _shape("First and last column of a part of the answer, from 1", "3..10"),
]


class InputEntry(Model):
    """A kind of input."""

    unit: UnitName | None = None
    bits: Count = 0
    noise_free_bits: Count = 0
    ranges: list[Text] = Field(default_factory=list)
    ends: Ends | None = Field(
        None,
        description="The signals that the settings value_low and value_high of a channel stand for, "
        "if fixed",
    )


class TerminalEntry(Model):
    """One or several terminals."""

    takes: list[Text]
    slot: Count


class PointEntry(Model):
    """What every value of a device has in common, over every link."""

    step: Amount | None = None
    unit: str = ""
    span: Ends | None = None
    special: dict[str, Text] = Field(default_factory=dict)
    value_if_sensor_missing: NumberField | None = None
    unit_by: str = Field("", description="The setting whose choice is the unit of this reading")
    decimals_by: str = Field("", description="The setting with the decimals of this reading")
    role: str = ""
    needs: Literal["", "stopped", "restart"] = ""
    self_adjusting: YesNo = "no"
    requires: dict[str, str] = Field(
        default_factory=dict,
        description="What the status must say before this is written or commanded: {mode: measuring}",
    )
    span_by: str = Field("", description="The setting whose choice decides the span of this one")
    spans: dict[str, Ends] = Field(
        default_factory=dict, description="The spans for the choices of that setting"
    )
    set_shown_by: str = Field(
        "", description="For a secret: the point of the status that says 'set' or 'not set'"
    )


class TextEntry(PointEntry):
    """A value that is queried and written in a text."""

    query: str = Field("", description="What the device is asked")
    write: str = Field("", description="How a value is written, with {} in its place")
    field: FieldField = Field(0, description="Of an answer of several, which one")
    columns: ColumnsField | None = None
    type: Literal["number", "text", "block"] = "number"
    layout: LayoutField | None = None
    choices: dict[str, str] = Field(default_factory=dict)
    max_length: Count = MAX_TEXT


class RegisterEntry(PointEntry):
    """A value in registers."""

    at: AtField
    type: KindField
    offset: NumberField | None = None
    choices: dict[str, CodeField] = Field(default_factory=dict)
    characters: Literal["ascii", "latin-1"] = "ascii"
    filled_with: Literal["zeros", "spaces"] = "zeros"
    read_only: YesNo = "no"
    words: Literal["high first", "low first"] = "high first"
    bytes: Literal["in order", "swapped"] = "in order"
    bits: BitsField | None = None


# How points are described, by the protocol of the link. What packages add speaks in texts.
ENTRIES: dict[str, type[PointEntry]] = {
    "modbus": RegisterEntry,
    "scpi": TextEntry,
    "sdi12": TextEntry,
    "text": TextEntry,
    "mqtt": TextEntry,
    "drive": TextEntry,
    "talk": TextEntry,
}


class Lines(Model):
    """How a device that speaks in texts ends and divides its lines, confirms and refuses."""

    end: Literal["lf", "cr", "cr lf"] = "lf"
    separator: Literal[",", ";", ":", "/", "|", "tab", "space"] = Field(
        ",", description="What stands between two fields of an answer"
    )
    confirms: str = ""
    refuses: str = ""


class OutputEntry(Model):
    """One or several terminals that the device drives: what they give, and what drives a loop."""

    signal: Text = Field(description="relay, or the span of an analog signal: 3.5..22 mA")
    slot: Count
    ends: Ends | None = Field(
        None, description="The signals that its settings low and high stand for, if fixed"
    )
    compliance: Amount | None = Field(
        None, description="What the output itself needs of the supply"
    )


class LimitsEntry(Model):
    """How much the device can do."""

    interval: Ends | None = Field(None, description="Not for devices that have none to set")
    channels: Count
    alarms: Count


class Environment(Model):
    """What surroundings the device stands."""

    temperature: Ends | None = None
    protection: Protection | None = None


class Memory(Model):
    """How much the device keeps by itself: rows, or bytes with what a row and a value take."""

    rows: Count = 0
    bytes: Count = 0
    row: Count = 0
    value: Count = 0


class Timing(Model):
    """How long things take: to measure one channel of a scan, and to answer a request."""

    settling: Amount | None = None
    integration: list[Text] = Field(default_factory=list)
    switching: Amount | None = None
    response_time: Amount | None = None


class Battery(Model):
    """What is in the battery, and what costs how much of it."""

    capacity: Amount
    idle: Amount | None = None
    sample: Amount | None = None
    report: Amount | None = None


class Report(Model):
    """How large a report is: for itself, and for each value in it, in bytes."""

    bytes: Count
    value: Count


class Program(Model):
    """The image of a board that is programmed by a file."""

    address: CodeField
    registers: Annotated[int, reader(int, _count), Field(ge=1, le=4096), _shape("How many", 40)]
    version: Annotated[int, reader(int, _count), Field(ge=0, le=65535), _shape("Of the layout", 2)]


class Transfer(Model):
    """How settings are written."""

    max_gap: Count = Field(0, description="Unused registers that may be read between two points")
    roles: list[Text] = Field(
        default_factory=list,
        description="Who may write settings, by password; each may do all that those before it may",
    )
    log_out: LogOutField | None = None
    login_lasts: Amount | None = Field(None, description="The time after which a login lapses")
    login_writes: Count = Field(0, description="The write requests after which a login lapses")
    requires_stopped: YesNo = "no"
    minimum_to_write: dict[str, Amount] = Field(
        default_factory=dict, description="Readings of its status that must be this large"
    )


class RecordTableEntry(Model):
    """A table of settings that setups fill: what a row in use holds besides, and one that is not."""

    used: dict[str, Text] = Field(default_factory=dict)
    cleared: dict[str, Text] = Field(default_factory=dict)


def _system_name(value: object) -> str:
    text = text_of(value, "; ".join(SYSTEMS))
    if text not in SYSTEMS:
        raise QuantityError(f"{text[:40]!r} is no kind of wiring", valid="; ".join(SYSTEMS))
    return text


SystemName = Annotated[str, reader((), _system_name), WithJsonSchema({"enum": list(SYSTEMS)})]


Campaign = Literal["trends", "events", "transients", "inrush", "alarms"]


class DatasheetFile(Model):
    """The whole file."""

    datasheet: Version
    model: Text
    maker: Text
    summary: Text
    link: LinkName
    inputs: dict[str, InputEntry] = Field(default_factory=dict)
    terminals: dict[str, TerminalEntry] = Field(default_factory=dict)
    limits: LimitsEntry | None = None
    transfer: Transfer | None = None
    lines: Lines | None = None
    program: Program | None = None
    environment: Environment | None = None
    outputs: dict[str, Count] = Field(default_factory=dict)
    output_terminals: dict[str, OutputEntry] = Field(default_factory=dict)
    memory: Memory | None = None
    timing: Timing | None = None
    battery: Battery | None = None
    report: Report | None = None
    clock: Literal["local", "utc"] = "local"
    cold_junction: Literal["reading", "inside"] = Field(
        "reading", description="Whether thermocouples need the reading cold_junction"
    )
    refusals: dict[str, Text] = Field(default_factory=dict)
    identity: dict[str, Any]
    status: dict[str, Any] = Field(default_factory=dict)
    readings: dict[str, Any]
    settings: dict[str, Any] = Field(default_factory=dict)
    secrets: dict[str, Any] = Field(
        default_factory=dict,
        description="Settings that are written and never read: passwords, PINs",
    )
    records: dict[str, RecordTableEntry] = Field(
        default_factory=dict, description="Tables that setups fill row by row, by their names"
    )
    wirings: dict[SystemName, dict[str, Text]] = Field(
        default_factory=dict,
        description="How it can be wired to a net: for each kind, what goes to each terminal",
    )
    telegrams: Any = Field(
        None, description="The telegrams of wireless transmitters, as a receiver passes them on"
    )
    campaigns: dict[Campaign, Count] = Field(
        default_factory=dict,
        description="What it can store by itself: how many rows of memory a row or an event takes",
    )
    recordings: dict[str, Any] = Field(default_factory=dict)
    access: dict[str, Any] = Field(default_factory=dict)


def datasheet_schema() -> Mapping[str, Any]:
    """The JSON Schema (2020-12) of datasheet files, for editors."""
    known: dict[str, Any] = {}
    for model in (
        DatasheetFile,
        InputEntry,
        TerminalEntry,
        OutputEntry,
        RegisterEntry,
        TextEntry,
        LimitsEntry,
        Transfer,
        Lines,
        Environment,
        Memory,
        Timing,
        Battery,
        Report,
        Program,
    ):
        schema = model.model_json_schema(ref_template="#/$defs/{model}")
        known |= schema.pop("$defs", {})
        known[model.__name__] = schema
    whole = known.pop("DatasheetFile")
    entry = {"anyOf": [{"$ref": "#/$defs/RegisterEntry"}, {"$ref": "#/$defs/TextEntry"}]}
    for group in GROUPS:
        whole["properties"][group] = {"type": "object", "additionalProperties": entry}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **whole,
        "title": "Leitwerk datasheet",
        "$defs": known,
    }
