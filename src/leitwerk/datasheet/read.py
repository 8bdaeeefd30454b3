"""How a datasheet file is read. The file's form is told on the page docs/datasheets.md."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Annotated, Any, Literal, TypeVar

from pydantic import Field, WithJsonSchema

from leitwerk.datasheet.coding import FLOATS, INTEGER_SPANS, NUMBER_TYPES
from leitwerk.datasheet.model import Datasheet, Input, Range, Terminal
from leitwerk.datasheet.points import BIT_TABLES, INDEX, TABLES, TIMES, Point, PointFamily
from leitwerk.datasheet.queries import MAX_TEXT, Query
from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Findings
from leitwerk.places import Map
from leitwerk.quantities import Quantity, Span, parse_quantity, parse_span
from leitwerk.reading import Model, reader, text_of, validate
from leitwerk.units import Unit, parse_unit
from leitwerk.yamltext import parse_yaml

VERSION = "1"
_GROUPS = ("identity", "status", "readings", "settings", "access")
_AT = re.compile(r"(\w+) +(\d{1,5})(?: *\+ *(\d{1,5}) *([a-z]+))?")
_BCD_TYPE = re.compile(r"bcd +(4|8|12|16)")
_BITS = re.compile(r"(\d{1,2})(?:\.\.(\d{1,2}))?")
_TEXT_TYPE = re.compile(r"text +(\d{1,3})")
_INDEX_SPAN = re.compile(r"\{([a-z]+) +(\d{1,6})\.\.(\d{1,6})\}")
_NAMES = re.compile(r"([A-Za-z]*)(\d{1,6})\.\.\1(\d{1,6})")
_ANY_NUMBER = 1_000_000  # of channels: a device that measures by itself does not count them
_LAST_REGISTER = 65535  # MODBUS Application Protocol V1.1b3, 4.4: data addresses have 16 bits


@dataclass(frozen=True, slots=True)
class _At:
    """Where a point lives: ``holding 60 + 40 n``."""

    table: str
    start: int
    stride: int
    index: str


def _at(value: object) -> _At:
    valid = "table and register, such as holding 16 or input 101 + 3 n"
    match = _AT.fullmatch(text_of(value, valid))
    if match is None or match[1] not in TABLES or int(match[2]) > _LAST_REGISTER:
        message = f"{value!r} is no place of a point"
        raise QuantityError(message, valid=f"{valid}; tables: {', '.join(TABLES)}")
    return _At(match[1], int(match[2]), int(match[3] or 0), match[4] or "")


def _kind(value: object) -> tuple[str, int]:
    text = text_of(value, "a type")
    if text in NUMBER_TYPES:
        return text, NUMBER_TYPES[text][1]
    if match := _TEXT_TYPE.fullmatch(text):
        return "text", (int(match[1]) + 1) // 2
    if match := _BCD_TYPE.fullmatch(text):
        return "bcd", int(match[1]) // 4
    if text in TIMES:
        return text, 3 if text == "bcd date-time" else 2
    if text == "bit":
        return "u16", 1
    valid = ", ".join((*NUMBER_TYPES, "bit", "bcd 8", *TIMES, "text 16"))
    raise QuantityError(f"{text!r} is no type", valid=valid)


def _bits(value: object) -> tuple[int, int]:
    valid = "the lowest and the highest bit of a field, such as 4..7, or one bit, 3"
    text = text_of(value, valid)
    match = _BITS.fullmatch(text)
    low, high = (int(match[1]), int(match[2] or match[1])) if match else (1, 0)
    if not low <= high <= 15:
        raise QuantityError(f"{text!r} are no bits of a register", valid=valid)
    return low, high


def _code(text: str) -> int:
    try:
        return int(text, 16) if text.lower().startswith("0x") else int(text)
    except ValueError:
        raise QuantityError(f"{text[:20]!r} is no code", valid="32768, or 0x8000") from None


def _number(value: object) -> float:
    quantity = parse_quantity(text_of(value, "a number"))
    if quantity.unit is not None:
        raise QuantityError(f"{value!r} has a unit", valid="a number in the point's own unit")
    return quantity.value


def _count(value: object) -> int:
    text = text_of(value, "a whole number")
    if not text.isdecimal() or len(text) > 9:
        raise QuantityError(f"{text!r} is no whole number", valid="0, 1, 2, …")
    return int(text)


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
# YAML 1.1, which many editors follow, makes a truth value of a bare yes.
YesNo = Annotated[Literal["yes", "no"], WithJsonSchema({"enum": [True, False, "yes", "no"]})]
Text = Annotated[str, Field(min_length=1, max_length=200)]
Count = Annotated[int, reader(int, _count), _shape("A whole number", 8)]
Amount = Annotated[
    Quantity,
    reader(Quantity, lambda v: parse_quantity(text_of(v, "a step"))),
    _shape("What one step of the stored number comes to", "0.1 s", 0.001),
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
    _At,
    reader(_At, _at),
    _shape("Table and register, counted from 0", "holding 16", "input 101 + 3 n"),
]
BitsField = Annotated[
    tuple[int, int], reader(tuple, _bits), _shape("A field inside one register", "4..7", 3)
]
NumberField = Annotated[float, reader(float, _number), _shape("A number in the point's unit", 25.0)]
KindField = Annotated[
    tuple[str, int], reader(tuple, _kind), _shape("How it is stored", "u16", "f32", "text 16")
]


class _InputEntry(Model):
    unit: UnitName | None = None
    bits: Count = 0
    noise_free_bits: Count = 0
    ranges: list[Text] = Field(default_factory=list)


class _TerminalEntry(Model):
    takes: list[Text]
    slot: Count


class _QueryEntry(Model):
    ask: str = ""
    tell: str = ""
    field: Count = 0
    type: Literal["number", "text"] = "number"
    step: Amount | None = None
    unit: str = ""
    choices: dict[str, str] = Field(default_factory=dict)
    span: Ends | None = None
    longest: Count = MAX_TEXT
    role: str = ""


class _PointEntry(Model):
    at: AtField
    type: KindField
    step: Amount | None = None
    offset: NumberField | None = None
    unit: str = ""
    choices: dict[str, Count] = Field(default_factory=dict)
    characters: Literal["ascii", "latin-1"] = "ascii"
    read_only: YesNo = "no"
    role: str = ""
    words: Literal["high first", "low first"] = "high first"
    bytes: Literal["in order", "swapped"] = "in order"
    bits: BitsField | None = None
    span: Ends | None = None
    special: dict[str, Text] = Field(default_factory=dict)
    without_sensor: NumberField | None = None


class _Limits(Model):
    interval: Ends
    channels: Count
    alarms: Count


class _Transfer(Model):
    bridge: Count
    role: Text


class _File(Model):
    datasheet: Version
    model: Text
    maker: Text
    summary: Text
    link: Literal["modbus", "scpi"]
    inputs: dict[str, _InputEntry] = Field(default_factory=dict)
    terminals: dict[str, _TerminalEntry] = Field(default_factory=dict)
    limits: _Limits | None = None
    transfer: _Transfer | None = None
    refusals: dict[str, Text] = Field(default_factory=dict)
    identity: dict[str, Any]
    status: dict[str, Any] = Field(default_factory=dict)
    readings: dict[str, Any]
    settings: dict[str, Any] = Field(default_factory=dict)
    access: dict[str, Any] = Field(default_factory=dict)


def parse_datasheet(text: str | bytes, *, file: str = "datasheet") -> Datasheet:
    """The datasheet that a text holds.

    Raises
    ------
    SetupError
        The text holds no complete datasheet; ``findings`` says what is wrong and where.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    datasheet = None if root is None else _read(root, findings)
    if datasheet is None or findings.has_errors:
        raise SetupError(file, findings.sorted())
    return datasheet


def _read(root: Map, findings: Findings) -> Datasheet | None:
    raw: dict[str, object] = dict(root)
    point: type[Model] = _QueryEntry if root.get("link") == "scpi" else _PointEntry
    sections: tuple[tuple[str, type[Model]], ...] = (
        ("inputs", _InputEntry),
        ("terminals", _TerminalEntry),
        *((group, point) for group in _GROUPS),
    )
    for section, model in sections:
        if isinstance(entries := root.get(section), Map):
            raw[section] = _each(entries, model, (section,), findings)
    for section, single in (("limits", _Limits), ("transfer", _Transfer)):
        if isinstance(entry := root.get(section), Map):
            raw[section] = validate(single, entry, (section,), findings)
    if findings.has_errors:
        return None
    file = validate(_File, raw, (), findings)
    return None if file is None else _build(file, findings)


def datasheet_schema() -> Mapping[str, Any]:
    """The JSON Schema (2020-12) of datasheet files, for editors."""
    known: dict[str, Any] = {}
    for model in (_File, _InputEntry, _TerminalEntry, _PointEntry, _QueryEntry, _Limits, _Transfer):
        schema = model.model_json_schema(ref_template="#/$defs/{model}")
        known |= schema.pop("$defs", {})
        known[model.__name__] = schema
    whole = known.pop("_File")
    entry = {"anyOf": [{"$ref": "#/$defs/_PointEntry"}, {"$ref": "#/$defs/_QueryEntry"}]}
    for group in _GROUPS:
        whole["properties"][group] = {"type": "object", "additionalProperties": entry}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **whole,
        "title": "Leitwerk datasheet",
        "$defs": known,
    }


def _each(
    entries: Map, model: type[Model], path: tuple[str, ...], findings: Findings
) -> dict[str, Model]:
    found = {}
    for name, content in entries.items():
        if not isinstance(content, Map):
            findings.error("bad-value", (*path, name), f"{name} is a group of keys")
        elif (entry := validate(model, content, (*path, name), findings)) is not None:
            found[name] = entry
    return found


T = TypeVar("T")


def _build(file: _File, findings: Findings) -> Datasheet | None:
    def attempt(path: tuple[str, ...], make: Callable[[], T]) -> T | None:
        try:
            return make()
        except QuantityError as error:
            valid, remedy = error.valid, error.remedy
            findings.error("bad-value", path, error.message, valid=valid, remedy=remedy)
            return None

    inputs = {
        name: attempt(("inputs", name), lambda n=name, e=entry: _input(n, e))  # type: ignore[misc]
        for name, entry in file.inputs.items()
    }
    groups = {
        group: dict(
            filter(
                None,
                (
                    attempt((group, name), lambda n=name, e=entry: _family(n, e))  # type: ignore[misc]
                    for name, entry in getattr(file, group).items()
                ),
            )
        )
        for group in _GROUPS
    }
    if file.link == "modbus":
        _check_overlaps(groups, findings)
    limits, interval = file.limits, None
    if limits is not None:
        ends, second = limits.interval, parse_unit("s")
        interval = attempt(("limits", "interval"), lambda: ends.ends_in(second))
    if findings.has_errors:
        return None
    return Datasheet(
        model=file.model,
        maker=file.maker,
        summary=file.summary,
        link=file.link,
        inputs={name: found for name, found in inputs.items() if found is not None},
        terminals=dict(_terminals(file.terminals)),
        interval_s=interval,
        channels_at_most=limits.channels if limits else _ANY_NUMBER,
        alarms_at_most=limits.alarms if limits else 0,
        bridge=file.transfer.bridge if file.transfer else 0,
        role=file.transfer.role if file.transfer else "",
        refusals={
            int(code): text
            for code, text in file.refusals.items()
            if code.removeprefix("-").isdecimal()
        },
        groups=groups,
    )


def _input(name: str, entry: _InputEntry) -> Input:
    unit = entry.unit or parse_unit("")
    ranges = []
    for text in entry.ranges:
        low, high = parse_span(text).ends_in(unit)
        ranges.append(Range(text, low, high))
    ranges.sort(key=lambda r: r.width)
    return Input(name, unit, tuple(ranges), entry.bits, entry.noise_free_bits)


def _terminals(entries: Mapping[str, _TerminalEntry]) -> Iterator[tuple[str, Terminal]]:
    for names, entry in entries.items():
        match = _NAMES.fullmatch(names)
        single = match is None
        prefix, low, high = (names, 0, 0) if single else (match[1], int(match[2]), int(match[3]))  # type: ignore[index]
        for number in range(low, high + 1):
            name = names if single else f"{prefix}{number}"
            yield name, Terminal(name, entry.slot + number - low, tuple(entry.takes))


def _family(name: str, entry: _PointEntry | _QueryEntry) -> tuple[str, PointFamily]:
    if isinstance(entry, _QueryEntry):
        return _query_family(name, entry)
    match = _INDEX_SPAN.search(name)
    indices = range(int(match[2]), int(match[3]) + 1) if match else range(0)
    template = _INDEX_SPAN.sub(r"{\1}", name)
    if (match[1] if match else "") != entry.at.index or INDEX.findall(template)[1:]:
        raise QuantityError(
            f"{name!r} and its place do not name the same index",
            valid="channel.{n 1..8}.range at holding 60 + 40 n",
        )
    kind, words = entry.type
    step = entry.step or Quantity(1.0)
    point = Point(
        name=template,
        table=entry.at.table,
        start=entry.at.start,
        words=words,
        kind=kind,
        step=step.value,
        unit=step.unit.symbol if step.unit else entry.unit,
        choices=tuple(entry.choices.items()),
        characters=entry.characters,
        read_only=entry.read_only == "yes" or entry.at.table in {"input", "discrete"},
        role=entry.role,
        offset=entry.offset or 0.0,
        low_word_first=entry.words == "low first",
        bytes_swapped=entry.bytes == "swapped",
        bits=entry.bits,
        limits=None if entry.span is None else (entry.span.low, entry.span.high),
        special=tuple((_signed(_code(c), kind), name) for c, name in entry.special.items()),
        substitute=entry.without_sensor,
    )
    _check_point(point)
    last = entry.at.start + entry.at.stride * (indices[-1] if indices else 0) + words - 1
    if last > _LAST_REGISTER:
        raise QuantityError(f"{name!r} ends at register {last}", valid=f"0..{_LAST_REGISTER}")
    return template, PointFamily(point, indices, entry.at.stride)


def _query_family(name: str, entry: _QueryEntry) -> tuple[str, PointFamily]:
    match = _INDEX_SPAN.search(name)
    indices = range(int(match[2]), int(match[3]) + 1) if match else range(0)
    template = _INDEX_SPAN.sub(r"{\1}", name)
    if not entry.ask and not entry.tell:
        raise QuantityError(f"{name!r} is neither asked for nor told", valid='ask: "MEAS:LEV?"')
    if entry.tell and not entry.choices and "{}" not in entry.tell:
        valid = f'tell: "{entry.tell} {{}}"'
        raise QuantityError(f"{entry.tell!r} has no place for the value", valid=valid)
    if "\n" in entry.ask + entry.tell:
        raise QuantityError("a command is one line", valid="a text without line breaks")
    step = entry.step or Quantity(0.0)
    query = Query(
        name=template,
        ask=entry.ask,
        tell=entry.tell,
        field=entry.field,
        kind=entry.type,
        step=step.value,
        unit=step.unit.symbol if step.unit else entry.unit,
        choices=tuple(entry.choices.items()),
        limits=None if entry.span is None else (entry.span.low, entry.span.high),
        longest=entry.longest,
        read_only=not entry.tell,
        role=entry.role,
    )
    return template, PointFamily(query, indices)


def _check_overlaps(groups: Mapping[str, Mapping[str, PointFamily]], findings: Findings) -> None:
    """Two points on one register, unless they are fields that share it; or one name in two places."""
    owners: dict[tuple[str, int], tuple[str, str, int]] = {}
    for group, families in groups.items():
        for name, family in families.items():
            clash = _first_clash(family, owners)
            if clash is not None:
                address, (other_group, other, _) = clash
                findings.error(
                    "overlap",
                    (group, name, "at"),
                    f"{name} and {other} ({other_group}) both lie on {family.template.table} "
                    f"{address}",
                    valid="a register for one point, or bits of it for several",
                    remedy="compare both with the manual: is one a register off, or too long?",
                )
            for point in family.points():
                for address in range(point.start, point.end):
                    owners.setdefault((point.table, address), (group, name, point.mask))


def _first_clash(
    family: PointFamily, owners: Mapping[tuple[str, int], tuple[str, str, int]]
) -> tuple[int, tuple[str, str, int]] | None:
    for point in family.points():
        for address in range(point.start, point.end):
            owner = owners.get((point.table, address))
            if owner is not None and owner[2] & point.mask:
                return address, owner
    return None


def _signed(code: int, kind: str) -> int:
    """A code as it stands in a manual (0x8000), as the number that it is in a signed type."""
    low, high = INTEGER_SPANS.get(kind, (0, 0))
    return code - (high - low + 1) if low < 0 and code > high else code


def _check_point(point: Point) -> None:
    """What no device can mean."""
    if point.table in BIT_TABLES and (point.words != 1 or point.bits is not None):
        message = f"a {point.table} holds one bit"
        raise QuantityError(message, valid=f"type: bit at {point.table} {point.start}")
    if point.bits is not None and point.kind != "u16":
        raise QuantityError("bits are fields of one register", valid="type: u16")
    if point.step <= 0.0:
        raise QuantityError(f"a step of {point.step:g} is none", valid="above 0")
    if point.kind in FLOATS and (point.step != 1.0 or point.offset):
        raise QuantityError("a floating point number has no step", valid="a unit instead")
    low, high = point.limits or (0.0, 1.0)
    if low >= high:
        raise QuantityError(f"the span {low:g}..{high:g} stands upside down", valid="low..high")
    if point.limits is None or point.is_text or point.kind in TIMES:
        return
    possible = Point.span(replace(point, limits=None))
    if not possible[0] <= low <= high <= possible[1]:
        raise QuantityError(
            f"the span {low:g}..{high:g} is more than {point.kind} can hold",
            valid=f"within {possible[0]:g}..{possible[1]:g}",
        )
