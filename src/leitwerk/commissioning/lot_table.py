"""The units of a lot as a table: a row for each unit, a column for each test and channel."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from leitwerk.commissioning.lot_ledger import UnitRecord
from leitwerk.project.rows_file import write_rows
from leitwerk.recordings.parquet import write_table
from leitwerk.recordings.tables import arrow

_PARQUET = ".parquet"


def write_units(path: Path, records: Sequence[UnitRecord]) -> None:
    """Write the records of units as CSV, XLSX or Parquet, by the name of the file.

    Numbers are in the units of their tests, which the ledger has; a test without a number has its verdict.

    Raises
    ------
    FileProblem
        It cannot be written, or a package for this form is missing.

    """
    rows = [_row(one) for one in records]
    columns = list(dict.fromkeys(name for row in rows for name in row))
    if path.suffix.lower() == _PARQUET:
        data = {name: [row.get(name) for row in rows] for name in columns}
        write_table(arrow().table(data), path)
        return
    write_rows(path, columns, ([_text(row.get(name)) for name in columns] for row in rows))


def _row(record: UnitRecord) -> dict[str, Any]:
    row: dict[str, Any] = {
        "number": record.number, "serial": record.serial, "firmware": record.device.firmware,
        "started": record.started, "took_s": record.took_s, "verdict": record.verdict,
        "faults": "; ".join(record.faults),
    }  # fmt: skip
    for one in record.results:
        name = f"{one.test}.{one.channel}" if one.channel else one.test
        if one.value is not None:
            row[name] = one.value
        elif not one.channel:
            row[f"{name}.verdict"] = one.verdict
    return row


def _text(value: Any) -> str:
    return "" if value is None else str(value)
