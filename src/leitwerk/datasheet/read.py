"""How a datasheet file is read. The file's form is told on the page docs/guide/datasheets.md."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TypeVar

from leitwerk.datasheet.entries import (
    ENTRIES,
    GROUPS,
    Battery,
    DatasheetFile,
    Environment,
    InputEntry,
    Limits,
    Lines,
    Memory,
    OutputEntry,
    Program,
    QueryEntry,
    Report,
    TerminalEntry,
    Timing,
    Transfer,
)
from leitwerk.datasheet.model import (
    Datasheet,
    Input,
    OutputTerminal,
    ProgramLayout,
    Range,
    ScanTiming,
    Store,
    Supply,
    Terminal,
)
from leitwerk.datasheet.point_entries import Groups, _check_overlaps, _family, _in_registers
from leitwerk.datasheet.queries import Replies
from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.models import Model, validate
from leitwerk.parsing.quantities import parse_quantity, parse_span
from leitwerk.parsing.units import parse_unit
from leitwerk.parsing.yaml_text import Map, parse_yaml

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


def _each(entries: Map, model: type[Model], path: KeyPath, findings: Findings) -> dict[str, Model]:
    found = {}
    for name, content in entries.items():
        if not isinstance(content, Map):
            findings.error("bad-value", (*path, name), f"{name} is a group of keys")
        elif (entry := validate(model, content, (*path, name), findings)) is not None:
            found[name] = entry
    return found


T = TypeVar("T")


def _build(file: DatasheetFile, findings: Findings) -> Datasheet | None:
    def attempt(path: KeyPath, make: Callable[[], T]) -> T | None:
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
