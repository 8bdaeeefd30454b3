"""How a datasheet file is read. The page docs/guide/datasheets.md describes the file."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace

from leitwerk.datasheet.doubts import check_datasheet
from leitwerk.datasheet.entries import (
    ENTRIES,
    GROUPS,
    Battery,
    DatasheetFile,
    Environment,
    InputEntry,
    LimitsEntry,
    Lines,
    Memory,
    OutputEntry,
    Program,
    Report,
    TerminalEntry,
    TextEntry,
    Timing,
    Transfer,
)
from leitwerk.datasheet.model import (
    Datasheet,
    DeviceLimits,
    Input,
    OutputTerminal,
    ProgramLayout,
    Range,
    RecordTable,
    ScanTiming,
    Store,
    Supply,
    Surroundings,
    Terminal,
    WritingTerms,
)
from leitwerk.datasheet.point_entries import (
    Groups,
    check_overlaps,
    family_name,
    in_registers,
    join_families,
    read_family,
)
from leitwerk.datasheet.points import Point, PointFamily
from leitwerk.datasheet.telegram_entries import TelegramsEntry, received_telegrams
from leitwerk.datasheet.text_points import Replies
from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.models import Model, read_named, validate
from leitwerk.parsing.quantities import parse_quantity, parse_span
from leitwerk.parsing.units import parse_unit
from leitwerk.parsing.yaml_text import Map, parse_yaml

_SECTIONS: dict[str, type[Model]] = {
    "limits": LimitsEntry,
    "transfer": Transfer,
    "lines": Lines,
    "environment": Environment,
    "memory": Memory,
    "timing": Timing,
    "battery": Battery,
    "report": Report,
    "program": Program,
    "telegrams": TelegramsEntry,
}

_NAMES = re.compile(r"([A-Za-z]*)(\d{1,6})\.\.\1(\d{1,6})")


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
    point = ENTRIES.get(protocol, TextEntry)
    if protocol not in ENTRIES and protocol not in (added := tuple(further())):
        findings.error(
            "unknown-link",
            ("link",),
            f"unknown protocol {protocol[:40]!r}",
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
            raw[section] = read_named(entries, model, (section,), findings)
    for section, single in _SECTIONS.items():
        if isinstance(entry := root.get(section), Map):
            raw[section] = validate(single, entry, (section,), findings)
    if findings.has_errors:
        return None
    file = validate(DatasheetFile, raw, (), findings)
    return None if file is None else _build(file, findings)


@contextmanager
def _collect(path: KeyPath, findings: Findings) -> Iterator[None]:
    """What cannot be understood inside the ``with`` block is a finding at ``path``."""
    try:
        yield
    except QuantityError as error:
        findings.error("bad-value", path, error.message, valid=error.valid, remedy=error.remedy)


def _build(file: DatasheetFile, findings: Findings) -> Datasheet | None:
    groups = {group: _families(group, file, findings) for group in GROUPS}
    check_overlaps({group: getattr(file, group) for group in GROUPS}, groups, findings)
    inputs: dict[str, Input] = {}
    for name, entry in file.inputs.items():
        with _collect(("inputs", name), findings):
            inputs[name] = _input(name, entry)
    drives: dict[str, OutputTerminal] = {}
    with _collect(("output_terminals",), findings):
        drives = {output.name: output for output in _outputs(file.output_terminals)}
    limits, surroundings, timing, battery = DeviceLimits(), Surroundings(), ScanTiming(), None
    with _collect(("limits", "interval"), findings):
        limits = _limits(file.limits)
    with _collect(("environment", "temperature"), findings):
        surroundings = _surroundings(file.environment)
    with _collect(("timing",), findings):
        timing = _timing(file.timing)
    with _collect(("battery",), findings):
        battery = _battery(file.battery)
    program = _program(file, groups, findings)
    telegrams = None
    with _collect(("telegrams",), findings):
        telegrams = None if file.telegrams is None else received_telegrams(file.telegrams)
    if findings.has_errors:
        return None
    datasheet = Datasheet(
        model=file.model,
        maker=file.maker,
        summary=file.summary,
        link=file.link,
        inputs=inputs,
        terminals=dict(_terminals(file.terminals)),
        output_terminals=drives,
        outputs=file.outputs,
        limits=limits,
        surroundings=surroundings,
        writing=_writing(file.transfer),
        timing=timing,
        memory=_memory(file),
        battery=battery,
        report_bytes=(file.report.bytes, file.report.value) if file.report else None,
        clock_is_utc=file.clock == "utc",
        junction_inside=file.cold_junction == "inside",
        max_gap=file.transfer.max_gap if file.transfer else 0,
        refusals={
            int(code): text
            for code, text in file.refusals.items()
            if code.removeprefix("-").isdecimal()
        },
        replies=_replies(file.lines),
        program=program,
        groups=groups,
        records={name: RecordTable(e.used, e.cleared) for name, e in file.records.items()},
        wirings=file.wirings,
        telegrams=telegrams,
        campaigns={str(name): rows for name, rows in file.campaigns.items()},
    )
    written = {group: {family_name(n): n for n in getattr(file, group)} for group in GROUPS}
    check_datasheet(datasheet, written, findings)
    return replace(datasheet, doubts=tuple(findings.sorted()))


def _families(group: str, file: DatasheetFile, findings: Findings) -> dict[str, PointFamily[Point]]:
    families: dict[str, PointFamily[Point]] = {}
    for name, entry in getattr(file, group).items():
        with _collect((group, name), findings):
            found, key = read_family(name, entry, file.link), family_name(name)
            families[key] = join_families(families[key], found) if key in families else found
    return families


def _limits(entry: LimitsEntry | None) -> DeviceLimits:
    if entry is None:
        return DeviceLimits()
    interval = entry.interval.ends_in(parse_unit("s")) if entry.interval else None
    return DeviceLimits(interval, entry.channels, entry.alarms)


def _surroundings(entry: Environment | None) -> Surroundings:
    if entry is None:
        return Surroundings()
    stands = entry.temperature.ends_in(parse_unit("°C")) if entry.temperature else None
    return Surroundings(stands, entry.protection or "")


def _writing(entry: Transfer | None) -> WritingTerms:
    if entry is None:
        return WritingTerms()
    minimum = {
        name: (amount.value, amount.unit.symbol if amount.unit else "")
        for name, amount in entry.minimum_to_write.items()
    }
    return WritingTerms(
        roles=tuple(entry.roles),
        requires_stopped=entry.requires_stopped == "yes",
        minimum=minimum,
        log_out=entry.log_out,
        login_lasts_s=entry.login_lasts.seconds if entry.login_lasts else 0.0,
        login_writes=entry.login_writes,
    )


def _outputs(entries: Mapping[str, OutputEntry]) -> Iterator[OutputTerminal]:
    for names, entry in entries.items():
        span = None if entry.signal == "relay" else parse_span(entry.signal)
        volts = entry.compliance.value_in(parse_unit("V")) if entry.compliance else 0.0
        for offset, name in enumerate(_named(names)):
            yield OutputTerminal(name, entry.slot + offset, span, entry.ends, volts)


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
    settling, switching, response = (
        amount.seconds if amount else 0.0
        for amount in (entry.settling, entry.switching, entry.response_time)
    )
    return ScanTiming(settling, integration, switching, response)


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
    points = [p for family in groups["settings"].values() for p in in_registers(family)]
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
    separators = {"tab": "\t", "space": " "}
    separator = separators.get(lines.separator, lines.separator)
    return Replies(ends[lines.end], lines.confirms, lines.refuses, separator)


def _input(name: str, entry: InputEntry) -> Input:
    unit = entry.unit or parse_unit("")
    ranges = []
    for text in entry.ranges:
        low, high = parse_span(text).ends_in(unit)
        ranges.append(Range(text, low, high))
    ranges.sort(key=lambda r: r.width)
    ends = entry.ends.ends_in(unit) if entry.ends else None
    if ends is not None and not ends[0] < ends[1]:
        raise QuantityError(f"the ends {entry.ends} do not rise", valid="4..20 mA")
    return Input(name, unit, tuple(ranges), entry.bits, entry.noise_free_bits, ends)


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
