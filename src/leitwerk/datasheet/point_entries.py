"""From the entries of a datasheet to points: one family for each entry."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import TypeAlias

from leitwerk.datasheet.entries import (
    LAST_REGISTER,
    DatasheetFile,
    PointEntry,
    QueryEntry,
    parse_code,
)
from leitwerk.datasheet.points import BIT_TABLES, INDEX, TIMES, Point, PointFamily
from leitwerk.datasheet.queries import DIALECTS, Dialect, Query
from leitwerk.datasheet.registers import FLOATS, INTEGER_SPANS
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings
from leitwerk.parsing.quantities import Quantity, parse_quantity

Groups: TypeAlias = Mapping[str, Mapping[str, PointFamily]]


_INDEX_SPAN = re.compile(r"\{([a-z]+) +(\d{1,6})\.\.(\d{1,6})\}")


def _family(name: str, entry: PointEntry | QueryEntry, protocol: str) -> tuple[str, PointFamily]:
    if isinstance(entry, QueryEntry):
        return _query_family(name, entry, protocol)
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
        needs=entry.needs,
        adjusts=entry.adjusts == "yes",
        offset=entry.offset or 0.0,
        low_word_first=entry.words == "low first",
        bytes_swapped=entry.bytes == "swapped",
        bits=entry.bits,
        limits=None if entry.span is None else (entry.span.low, entry.span.high),
        special=tuple((_signed(parse_code(c), kind), name) for c, name in entry.special.items()),
        substitute=entry.without_sensor,
    )
    _check_point(point)
    last = entry.at.start + entry.at.stride * (indices[-1] if indices else 0) + words - 1
    if last > LAST_REGISTER:
        raise QuantityError(f"{name!r} ends at register {last}", valid=f"0..{LAST_REGISTER}")
    return template, PointFamily(point, indices, entry.at.stride)


def _query_family(name: str, entry: QueryEntry, protocol: str) -> tuple[str, PointFamily]:
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
        special=tuple((_special(code), name) for code, name in entry.special.items()),
        substitute=entry.without_sensor,
        columns=entry.columns,
        dialect=DIALECTS.get(protocol, Dialect()),
        read_only=not entry.tell,
        role=entry.role,
        needs=entry.needs,
        adjusts=entry.adjusts == "yes",
    )
    return template, PointFamily(query, indices)


def _special(text: str) -> float:
    return parse_quantity(text).value


def _check_overlaps(file: DatasheetFile, groups: Groups, findings: Findings) -> None:
    """Two points on one register, unless they are fields of it that leave each other alone."""
    owners: dict[tuple[str, int], list[tuple[str, str, int]]] = {}
    for group, families in groups.items():
        # The file writes a block's name with its span, {n 1..10}; findings point to it.
        written = {_INDEX_SPAN.sub(r"{\1}", name): name for name in getattr(file, group)}
        for name, family in families.items():
            clash = _first_clash(family, owners)
            if clash is not None:
                address, (other_group, other, _) = clash
                findings.error(
                    "overlap",
                    (group, written[name], "at"),
                    f"{name} and {other} ({other_group}) both lie on {family.template.table} "
                    f"{address}",
                    valid="a register for one point, or bits of it for several",
                    remedy="compare both with the manual: is one a register off, or too long?",
                )
            for point in _in_registers(family):
                for address in range(point.start, point.end):
                    place = owners.setdefault((point.table, address), [])
                    place.append((group, name, point.mask))


def _in_registers(family: PointFamily) -> list[Point]:
    return [point for point in family.points() if isinstance(point, Point)]


def _first_clash(
    family: PointFamily, owners: Mapping[tuple[str, int], list[tuple[str, str, int]]]
) -> tuple[int, tuple[str, str, int]] | None:
    for point in _in_registers(family):
        for address in range(point.start, point.end):
            for owner in owners.get((point.table, address), ()):
                if owner[2] & point.mask:
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
