"""Tables that a device stores: the rows of a setup on the rows of the device, checked one by one."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Mapping

from leitwerk.check.settings import Wanted, one_setting
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, PointFamily, Stored
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import (
    CARRIER_FREQUENCY,
    CARRIER_INTERMEDIATE,
    CARRIER_TONE,
    OSCILLATOR_HIGH,
    OSCILLATOR_LOW,
)
from leitwerk.derived.carriers import why_missed
from leitwerk.errors import QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import format_number, parse_quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.model import Setup
from leitwerk.setup.records import RecordsEntry


def record_settings(setup: Setup, datasheet: Datasheet, findings: Findings) -> Iterator[Wanted]:
    """The settings that the rows of a setup are in the device; what does not fit is a finding."""
    for name, entry in setup.records.items():
        path = ("records", name)
        columns = columns_of(name, datasheet)
        if not columns:
            known = list(datasheet.records)
            findings.error(
                "unknown-records", path, f"{datasheet.model} stores no table {name[:40]!r}", at_key=True,
                valid=", ".join(known) or "it stores no tables",
            )  # fmt: skip
            continue
        yield from _rows(name, entry, columns, setup, datasheet, findings)


def columns_of(name: str, datasheet: Datasheet) -> dict[str, PointFamily[Point]]:
    """The columns of a table of a device, by name; empty where it has no such table."""
    if name not in datasheet.records:
        return {}
    families = datasheet.groups["settings"]
    found = {}
    for full, family in families.items():
        head, _, column = full.partition("}.")
        if head.partition(".{")[0] == name and column:
            found[column] = family
    return found


def rows_in(
    name: str, datasheet: Datasheet, settings: DeviceSettings
) -> tuple[list[str], list[list[str]]]:
    """The columns of a table in a device, and its rows in use up to the last one, as a setup writes them.

    Raises
    ------
    QuantityError
        The device stores no such table.

    """
    columns = columns_of(name, datasheet)
    if not columns:
        valid = ", ".join(datasheet.records) or "it stores no tables"
        raise QuantityError(f"{datasheet.model} stores no table {name[:40]!r}", valid=valid)
    table = datasheet.records[name]
    shown = [column for column in columns if column not in table.used]
    rows: list[list[str]] = []
    for index in next(iter(columns.values())).indices:
        held = {c: settings.values.get(f.point(index).name) for c, f in columns.items()}
        if any(str(held[c]) == text for c, text in table.cleared.items()):
            continue
        rows.append([_text(columns[c].point(index), held[c]) for c in shown])
    return shown, rows


def _text(point: Point, value: Stored | None) -> str:
    if value is None or isinstance(value, str):
        return value or ""
    return f"{format_number(float(value), 12)} {point.fixed_unit}".strip()


def _rows(
    name: str,
    entry: RecordsEntry,
    columns: Mapping[str, PointFamily[Point]],
    setup: Setup,
    datasheet: Datasheet,
    findings: Findings,
) -> Iterator[Wanted]:
    path, table = ("records", name), datasheet.records[name]
    indices = next(iter(columns.values())).indices
    if len(entry.rows) > len(indices):
        findings.error(
            "too-many-rows", path, f"{datasheet.model} has {len(indices)} rows, here are {len(entry.rows)}",
            at_key=True, valid=f"at most {len(indices)} rows",
        )  # fmt: skip
    for number, row in enumerate(entry.rows[: len(indices)], start=1):
        place = (*path, "rows", str(number - 1)) if entry.file is None else (*path, "file")
        where = f"row {number}"
        texts = {**table.used, **row}
        for column in [c for c in row if c not in columns or c in table.used]:
            wanted = [c for c in columns if c not in table.used]
            near = difflib.get_close_matches(column[:40], wanted, n=1)
            findings.error(
                "unknown-column", place, f"{where}: there is no column {column[:40]!r}",
                valid=", ".join(wanted), remedy=f"did you mean {near[0]!r}?" if near else "",
            )  # fmt: skip
        for column, family in columns.items():
            if column not in texts:
                message = f"{where}: the column {column!r} is missing"
                findings.error("missing-key", place, message, valid=f"{column}: …")
                continue
            index = indices[number - 1]
            yield from one_setting(
                family.point(index), texts[column], datasheet, place, findings, where=where
            )
        _check_carrier(row, where, place, setup, datasheet, findings)
    if entry.unused == "cleared":
        for index in indices[len(entry.rows) :]:
            for column, text in table.cleared.items():
                yield from one_setting(
                    columns[column].point(index), text, datasheet, path, findings
                )


def _check_carrier(
    row: Mapping[str, str],
    where: str,
    place: KeyPath,
    setup: Setup,
    datasheet: Datasheet,
    findings: Findings,
) -> None:
    """Whether the receiver takes the carrier of a row, with the oscillator that its tone chooses."""
    family = datasheet.family(CARRIER_INTERMEDIATE)
    text = row.get(CARRIER_FREQUENCY.name.rpartition(".")[2])
    if family is None or text is None:
        return
    try:
        oscillators = {
            word: parse_quantity(setup.settings[known.name]).value_in(parse_unit("MHz"))
            for word, known in (("low", OSCILLATOR_LOW), ("high", OSCILLATOR_HIGH))
        }
        carrier = parse_quantity(text).value_in(parse_unit("MHz"))
    except (QuantityError, KeyError):
        return  # it has its finding, or it is not known which oscillators there are
    chosen = "high" if row.get(CARRIER_TONE.name.rpartition(".")[2]) == "on" else "low"
    why = why_missed(carrier, oscillators, chosen, family.template.span())
    if why:
        findings.error("carrier-missed", place, f"{where}, {text}: {why}")
