"""From the entries of a datasheet to points: one family for each entry."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TypeAlias

from leitwerk.datasheet.entries import (
    LAST_REGISTER,
    PointEntry,
    RegisterEntry,
    TextEntry,
    parse_code,
)
from leitwerk.datasheet.points import INDEX, Point, PointFamily
from leitwerk.datasheet.register_points import BIT_TABLES, RegisterPoint
from leitwerk.datasheet.registers import FLOATS, INTEGER_SPANS
from leitwerk.datasheet.text_points import DIALECTS, FIELD_BY_INDEX, Dialect, TextPoint
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.quantities import parse_quantity

MAX_INDICES = 10_000  # of one entry: more points of a kind has no device
Groups: TypeAlias = Mapping[str, Mapping[str, PointFamily[Point]]]
_INDEX_SPAN = re.compile(r"\{([a-z]+) +(\d{1,6}(?:\.\.\d{1,6})?(?:, *\d{1,6}(?:\.\.\d{1,6})?)*)\}")
# Registers, by table and address -> the points on them: group, name, and the bits that are theirs.
_Owner: TypeAlias = tuple[str, str, int]
_Owners: TypeAlias = dict[tuple[str, int], list[_Owner]]


def family_name(name: str) -> str:
    """The name of a family as code knows it: ``channel.{n 1..8}.range`` is ``channel.{n}.range``."""
    return _INDEX_SPAN.sub(r"{\1}", name)


def read_family(name: str, entry: PointEntry, protocol: str) -> PointFamily[Point]:
    """The points that an entry of a datasheet describes.

    Raises
    ------
    QuantityError
        No device can mean that.

    """
    match = _INDEX_SPAN.search(name)
    indices = _indices(match[2]) if match else range(0)
    if isinstance(entry, TextEntry):
        return PointFamily(_text_point(family_name(name), entry, protocol), indices)
    assert isinstance(entry, RegisterEntry)
    if (match[1] if match else "") != entry.at.index or INDEX.findall(family_name(name))[1:]:
        raise QuantityError(
            f"{name!r} and its place do not name the same index",
            valid="channel.{n 1..8}.range at holding 60 + 40 n",
        )
    point = _register_point(family_name(name), entry)
    last = entry.at.start + entry.at.stride * (indices[-1] if indices else 0) + point.words - 1
    if last > LAST_REGISTER:
        raise QuantityError(f"{name!r} ends at register {last}", valid=f"0..{LAST_REGISTER}")
    return PointFamily(point, indices, entry.at.stride)


def join_families(one: PointFamily[Point], other: PointFamily[Point]) -> PointFamily[Point]:
    """A family whose members lie in two places: ``{n 1..4}`` here, ``{n 5..8}`` there.

    Raises
    ------
    QuantityError
        Both have a member in common, or differ in more than their place.

    """
    name = one.template.name
    if twice := sorted(set(one.indices) & set(other.indices)) or ([0] if not one.indices else []):
        what = f" for {twice[0]}" if one.indices else ""
        raise QuantityError(f"{name} is there twice{what}", valid="each index once")
    first, second = one.template, other.template
    if isinstance(first, RegisterPoint) and isinstance(second, RegisterPoint):
        second = replace(second, table=first.table, start=first.start)
    if first != second:
        raise QuantityError(
            f"the members of {name} differ in more than their place",
            valid="the same type, step, unit and choices for all",
        )
    return replace(one, further=(*one.further, other))


def _indices(text: str) -> Sequence[int]:
    """The numbers of ``1..8`` or ``1, 3..4``."""
    spans = [part.split("..") for part in text.replace(" ", "").split(",")]
    if sum(int(span[-1]) - int(span[0]) + 1 for span in spans) > MAX_INDICES:
        message = f"{text[:40]} are more than {MAX_INDICES} numbers"
        raise QuantityError(message, valid=f"at most {MAX_INDICES}")
    numbers = [k for span in spans for k in range(int(span[0]), int(span[-1]) + 1)]
    if not numbers or sorted(set(numbers)) != numbers:
        raise QuantityError(f"{text} are not rising numbers", valid="1..8, or 1, 3..4")
    if len(spans) == 1:
        return range(numbers[0], numbers[-1] + 1)
    return tuple(numbers)


def _register_point(name: str, entry: RegisterEntry) -> RegisterPoint:
    kind, words = entry.type
    point = RegisterPoint(
        name,
        entry.at.table,
        entry.at.start,
        words,
        kind,
        step=entry.step.value if entry.step else 1.0,
        offset=entry.offset or 0.0,
        choices=tuple((word, _signed(code, kind)) for word, code in entry.choices.items()),
        characters=entry.characters,
        filler=0x20 if entry.filled_with == "spaces" else 0,
        low_word_first=entry.words == "low first",
        bytes_swapped=entry.bytes == "swapped",
        bits=entry.bits,
        unit=_unit(entry),
        limits=None if entry.span is None else (entry.span.low, entry.span.high),
        special=tuple((_special_code(c, kind), word) for c, word in entry.special.items()),
        substitute=entry.value_if_sensor_missing,
        read_only=entry.read_only == "yes" or entry.at.table in {"input", "discrete"},
        role=entry.role,
        needs=entry.needs,
        self_adjusting=entry.self_adjusting == "yes",
        set_shown_by=entry.set_shown_by,
        requires=tuple(entry.requires.items()),
        span_by=entry.span_by,
        spans=tuple((choice, (ends.low, ends.high)) for choice, ends in entry.spans.items()),
        unit_by=entry.unit_by,
        decimals_by=entry.decimals_by,
    )
    _check_register_point(point)
    return point


def _text_point(name: str, entry: TextEntry, protocol: str) -> TextPoint:
    if not entry.query and not entry.write:
        message = f"{name!r} has neither a query nor a way to write it"
        raise QuantityError(message, valid='query: "MEAS:LEV?"')
    if (
        not name.startswith("command")
        and entry.write
        and not entry.choices
        and "{}" not in entry.write
    ):
        valid = f'write: "{entry.write} {{}}"'
        raise QuantityError(f"{entry.write!r} has no place for the value", valid=valid)
    if entry.type == "block" and protocol != "scpi":
        raise QuantityError("only SCPI has blocks of bytes", valid="type: number, type: text")
    if "\n" in entry.query + entry.write:
        raise QuantityError("a command is one line", valid="a text without line breaks")
    if entry.field == FIELD_BY_INDEX and not INDEX.search(name):
        raise QuantityError(
            f"{name!r} has no index, and its field is that of one", valid="field: 2"
        )
    special = [(_text_code(code), word) for code, word in entry.special.items()]
    return TextPoint(
        name,
        entry.query,
        entry.write,
        field=entry.field,
        kind=entry.type,
        step=entry.step.value if entry.step else 0.0,
        choices=tuple(entry.choices.items()),
        max_length=entry.max_length,
        columns=entry.columns,
        layout=entry.layout or "",
        dialect=DIALECTS.get(protocol, Dialect()),
        unit=_unit(entry),
        limits=None if entry.span is None else (entry.span.low, entry.span.high),
        special=tuple((n, word) for n, word in special if isinstance(n, float)),
        codes=tuple((code, word) for code, word in special if isinstance(code, str)),
        substitute=entry.value_if_sensor_missing,
        read_only=not entry.write,
        role=entry.role,
        needs=entry.needs,
        self_adjusting=entry.self_adjusting == "yes",
        set_shown_by=entry.set_shown_by,
        requires=tuple(entry.requires.items()),
        span_by=entry.span_by,
        spans=tuple((choice, (ends.low, ends.high)) for choice, ends in entry.spans.items()),
        unit_by=entry.unit_by,
        decimals_by=entry.decimals_by,
    )


def _text_code(code: str) -> float | str:
    """A code that stands for no value in texts: a number, or a word of the device."""
    try:
        return parse_quantity(code).value
    except QuantityError:
        return code


def _unit(entry: PointEntry) -> str:
    return entry.step.unit.symbol if entry.step and entry.step.unit else entry.unit


def _special_code(text: str, kind: str) -> float:
    """A code that stands for no value: in a floating point register also NaN, or a number."""
    if kind not in FLOATS:
        return _signed(parse_code(text), kind)
    return math.nan if text.casefold() == "nan" else parse_quantity(text).value


def _signed(code: int, kind: str) -> int:
    """A code as it stands in a manual (0x8000), as the number that it is in a signed type."""
    low, high = INTEGER_SPANS.get(kind, (0, 0))
    return code - (high - low + 1) if low < 0 and code > high else code


def _check_register_point(point: RegisterPoint) -> None:
    """Raise a QuantityError for what no device can mean."""
    if point.table in BIT_TABLES and (point.words != 1 or point.bits is not None):
        message = f"a {point.table} holds one bit"
        raise QuantityError(message, valid=f"type: bit at {point.table} {point.start}")
    if point.bits is not None and point.kind != "u16":
        raise QuantityError("bits are fields of one register", valid="type: u16")
    if point.step <= 0.0:
        raise QuantityError(f"a step of {point.step:g} is not valid", valid="above 0")
    if point.kind in FLOATS and (point.step != 1.0 or point.offset):
        raise QuantityError("a floating point number has no step", valid="a unit instead")
    low, high = point.limits or (0.0, 1.0)
    if low >= high:
        message = f"the span {low:g}..{high:g} is reversed"
        raise QuantityError(message, valid=f"{high:g}..{low:g}" if low > high else "low..high")
    if point.limits is None or point.is_text or point.is_time:
        return
    possible = replace(point, limits=None).span()
    if not possible[0] <= low <= high <= possible[1]:
        raise QuantityError(
            f"the span {low:g}..{high:g} is more than {point.kind} can hold",
            valid=f"within {possible[0]:g}..{possible[1]:g}",
        )


# ---------------------------------------------------------------------- against each other


def check_overlaps(
    written: Mapping[str, Mapping[str, object]], groups: Groups, findings: Findings
) -> None:
    """Two points on one register, unless they are fields of it that leave each other alone.

    ``written`` has the names of the entries as they stand in the file; findings point to them.
    """
    owners: _Owners = {}
    for group, families in groups.items():
        names = {family_name(name): name for name in written[group]}
        for name, family in families.items():
            clash = _first_clash(family, owners)
            if clash is not None:
                point, address, (other_group, other, _) = clash
                findings.error(
                    "overlap",
                    (group, names[name], "at"),
                    f"{name} and {other} ({other_group}) both lie on {point.table} {address}",
                    valid="a register for one point, or bits of it for several",
                    remedy="compare both with the manual: is one a register off, or too long?",
                )
            for point in in_registers(family):
                for address in range(point.start, point.end):
                    place = owners.setdefault((point.table, address), [])
                    place.append((group, name, point.mask))


def in_registers(family: PointFamily[Point]) -> Iterator[RegisterPoint]:
    """The points of a family that lie in registers."""
    return (point for point in family.points() if isinstance(point, RegisterPoint))


def _first_clash(
    family: PointFamily[Point], owners: _Owners
) -> tuple[RegisterPoint, int, _Owner] | None:
    for point in in_registers(family):
        for address in range(point.start, point.end):
            for owner in owners.get((point.table, address), ()):
                if owner[2] & point.mask:
                    return point, address, owner
    return None
