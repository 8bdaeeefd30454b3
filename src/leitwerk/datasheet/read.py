"""How a datasheet file is read. The file's form is told on the page docs/guide/datasheets.md."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from typing import TypeAlias, TypeVar

from leitwerk.budget import Store, Supply
from leitwerk.datasheet.coding import FLOATS, INTEGER_SPANS
from leitwerk.datasheet.fields import (
    ENTRIES,
    GROUPS,
    LAST_REGISTER,
    Battery,
    DatasheetFile,
    Environment,
    InputEntry,
    Limits,
    Lines,
    Memory,
    OutputEntry,
    PointEntry,
    Program,
    QueryEntry,
    Report,
    TerminalEntry,
    Timing,
    Transfer,
    parse_code,
)
from leitwerk.datasheet.model import (
    Datasheet,
    Input,
    OutputTerminal,
    ProgramLayout,
    Range,
    ScanTiming,
    Terminal,
)
from leitwerk.datasheet.points import BIT_TABLES, INDEX, TIMES, Point, PointFamily
from leitwerk.datasheet.queries import DIALECTS, Dialect, Query, Replies
from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Findings
from leitwerk.places import Map
from leitwerk.quantities import Quantity, parse_quantity, parse_span
from leitwerk.reading import Model, validate
from leitwerk.units import parse_unit
from leitwerk.yamltext import parse_yaml

_SECTIONS: dict[str, type[Model]] = {
    "limits": Limits,
    "transfer": Transfer,
    "lines": Lines,
    "environment": Environment,
    "memory": Memory,
    "timing": Timing,
    "battery": Battery,
    "report": Report,
    "program": Program,
}
Groups: TypeAlias = Mapping[str, Mapping[str, PointFamily]]

_INDEX_SPAN = re.compile(r"\{([a-z]+) +(\d{1,6})\.\.(\d{1,6})\}")
_NAMES = re.compile(r"([A-Za-z]*)(\d{1,6})\.\.\1(\d{1,6})")
_ANY_NUMBER = 1_000_000  # of channels: a device that measures by itself does not count them


def parse_datasheet(
    text: str | bytes,
    *,
    file: str = "datasheet",
    further: Callable[[], Iterable[str]] = tuple,
) -> Datasheet:
    """The datasheet that a text holds.

    ``further`` gives the names of protocols that packages have added, when one is asked for.

    Raises
    ------
    SetupError
        The text holds no complete datasheet; ``findings`` says what is wrong and where.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    datasheet = None if root is None else _read(root, findings, further)
    if datasheet is None or findings.has_errors:
        raise SetupError(file, findings.sorted())
    return datasheet


def _read(root: Map, findings: Findings, further: Callable[[], Iterable[str]]) -> Datasheet | None:
    raw: dict[str, object] = dict(root)
    protocol = str(root.get("link", "modbus"))
    point: type[Model] = ENTRIES.get(protocol, QueryEntry)
    if protocol not in ENTRIES and protocol not in (added := tuple(further())):
        findings.error(
            "unknown-link",
            ("link",),
            f"nothing here speaks {protocol[:40]!r}",
            valid=", ".join([*ENTRIES, *added]),
        )
        return None
    sections: tuple[tuple[str, type[Model]], ...] = (
        ("inputs", InputEntry),
        ("terminals", TerminalEntry),
        ("output_terminals", OutputEntry),
        *((group, point) for group in GROUPS),
    )
    for section, model in sections:
        if isinstance(entries := root.get(section), Map):
            raw[section] = _each(entries, model, (section,), findings)
    for section, single in _SECTIONS.items():
        if isinstance(entry := root.get(section), Map):
            raw[section] = validate(single, entry, (section,), findings)
    if findings.has_errors:
        return None
    file = validate(DatasheetFile, raw, (), findings)
    return None if file is None else _build(file, findings)


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


def _build(file: DatasheetFile, findings: Findings) -> Datasheet | None:
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
                    attempt((group, name), lambda n=name, e=entry: _family(n, e, file.link))  # type: ignore[misc]
                    for name, entry in getattr(file, group).items()
                ),
            )
        )
        for group in GROUPS
    }
    _check_overlaps(file, groups, findings)
    limits, interval = file.limits, None
    if limits is not None:
        ends, second = limits.interval, parse_unit("s")
        interval = attempt(("limits", "interval"), lambda: ends.ends_in(second))
    environment_c = None
    if file.environment is not None and (stands := file.environment.temperature) is not None:
        place = ("environment", "temperature")
        environment_c = attempt(place, lambda: stands.ends_in(parse_unit("°C")))
    outputs = attempt(("output_terminals",), lambda: list(_outputs(file.output_terminals)))
    timing = attempt(("timing",), lambda: _timing(file.timing)) or ScanTiming()
    battery = attempt(("battery",), lambda: _battery(file.battery))
    program = _program(file, groups, findings)
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
        least={
            name: (amount.value, amount.unit.symbol if amount.unit else "")
            for name, amount in (file.transfer.least if file.transfer else {}).items()
        },
        stopped=file.transfer is not None and file.transfer.stopped == "yes",
        refusals={
            int(code): text
            for code, text in file.refusals.items()
            if code.removeprefix("-").isdecimal()
        },
        replies=_replies(file.lines),
        environment_c=environment_c,
        protection=(file.environment and file.environment.protection) or "",
        outputs=file.outputs,
        drives={o.name: o for o in outputs or ()},
        memory=_memory(file),
        timing=timing,
        battery=battery,
        report_bytes=(file.report.bytes, file.report.value) if file.report else None,
        clock_is_utc=file.clock == "utc",
        program=program,
        groups=groups,
    )


def _outputs(entries: Mapping[str, OutputEntry]) -> Iterator[OutputTerminal]:
    for names, entry in entries.items():
        span = None if entry.gives == "relay" else parse_span(entry.gives)
        volts = entry.compliance.value_in(parse_unit("V")) if entry.compliance else 0.0
        for offset, name in enumerate(_named(names)):
            yield OutputTerminal(name, entry.slot + offset, span, entry.between, volts)


def _memory(file: DatasheetFile) -> Store | None:
    entry = file.memory
    if entry is None:
        return None
    if entry.rows:
        return Store(float(entry.rows), 1.0, 0.0, "rows")
    return Store(float(entry.bytes), float(entry.row), float(entry.value))


def _timing(entry: Timing | None) -> ScanTiming:
    if entry is None:
        return ScanTiming()
    integration = tuple(parse_quantity(text).seconds for text in entry.integration)
    settling, switching, answers = (
        amount.seconds if amount else 0.0
        for amount in (entry.settling, entry.switching, entry.answers)
    )
    return ScanTiming(settling, integration, switching, answers)


def _battery(entry: Battery | None) -> Supply | None:
    if entry is None:
        return None
    joule, watt = parse_unit("J"), parse_unit("W")
    figures = [
        amount.value_in(unit) if amount else 0.0
        for amount, unit in (
            (entry.capacity, joule),
            (entry.idle, watt),
            (entry.sample, joule),
            (entry.report, joule),
        )
    ]
    return Supply(*figures)


def _program(file: DatasheetFile, groups: Groups, findings: Findings) -> ProgramLayout | None:
    entry = file.program
    if entry is None:
        return None
    points = [p for family in groups["settings"].values() for p in _in_registers(family)]
    last = max((point.end for point in points), default=0)
    if last > entry.registers or any(point.table != "holding" for point in points):
        findings.error(
            "program-too-short",
            ("program", "registers"),
            f"the settings need {last} holding registers, the image has {entry.registers}",
            valid=f"at least {last}",
        )
    return ProgramLayout(entry.address, entry.registers, entry.version)


def _replies(lines: Lines | None) -> Replies:
    if lines is None:
        return Replies()
    ends = {"lf": b"\n", "cr": b"\r", "cr lf": b"\r\n"}
    return Replies(ends[lines.end], lines.confirms, lines.refuses)


def _input(name: str, entry: InputEntry) -> Input:
    unit = entry.unit or parse_unit("")
    ranges = []
    for text in entry.ranges:
        low, high = parse_span(text).ends_in(unit)
        ranges.append(Range(text, low, high))
    ranges.sort(key=lambda r: r.width)
    return Input(name, unit, tuple(ranges), entry.bits, entry.noise_free_bits)


def _terminals(entries: Mapping[str, TerminalEntry]) -> Iterator[tuple[str, Terminal]]:
    for names, entry in entries.items():
        for offset, name in enumerate(_named(names)):
            yield name, Terminal(name, entry.slot + offset, tuple(entry.takes))


def _named(names: str) -> list[str]:
    """Each of ``D1..D2``, or the one name that it is."""
    match = _NAMES.fullmatch(names)
    if match is None:
        return [names]
    return [f"{match[1]}{number}" for number in range(int(match[2]), int(match[3]) + 1)]


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
