"""Tables of other programs: CSV and XLSX with columns, a zone and a decimal sign that are stated."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.analysis.series import Column, Series
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.parsing.local_time import soonest
from leitwerk.parsing.units import parse_unit

_MOST_BYTES = 2_000_000_000
_MISSING = {"", "-", "–", "nan", "n/a", "null"}


_YEAR = re.compile(r"%[YyGscxD]")


@dataclass(frozen=True)
class ForeignForm:
    """How a table of another program is written.

    Attributes
    ----------
    time : str
        The heading of the column with the time.
    columns : mapping from heading to Column
        Those that are taken, with their names and units.
    zone : ZoneInfo
        Of times that are written without one.
    time_form : str
        As for ``datetime.strptime``: ``%d.%m.%Y %H:%M:%S``; empty for ISO 8601.
    decimal, separator : str
        Of a CSV.
    heading_line : int
        The line of the headings, from 1; what stands above is passed over.

    Raises
    ------
    QuantityError
        The form of times has no year.

    """

    time: str
    columns: Mapping[str, Column]
    zone: ZoneInfo = field(default_factory=lambda: ZoneInfo("UTC"))
    time_form: str = ""
    decimal: str = "."
    separator: str = ","
    heading_line: int = 1

    def __post_init__(self) -> None:
        if self.time_form and not _YEAR.search(self.time_form):
            raise QuantityError(
                f"the form of times {self.time_form[:40]!r} has no year",
                valid="'%d.%m.%Y %H:%M:%S'; a date without its year is none",
            )


def parse_column(text: str) -> tuple[str, Column]:
    """A column as it is typed: ``Temp 1 = air_top [°C]``, or only its heading.

    Raises
    ------
    QuantityError
        The unit is not known.

    """
    heading, _, name = (
        (part.strip() for part in text.rpartition("=")) if "=" in text else (text, "", text)
    )
    plain, _, unit = name.partition("[")
    unit = unit.strip().removesuffix("]").strip()
    if unit:
        parse_unit(unit)
    return heading, Column(plain.strip(), unit)


def read_foreign(path: Path, form: ForeignForm) -> Series:
    """The rows of a table of another program.

    Raises
    ------
    FileProblem
        The file cannot be read.
    QuantityError
        A heading is missing, or a cell holds no time or number; the line is named.

    """
    if path.suffix != ".xlsx":
        series = _at_once(path, form)
        if series is not None:
            return series
    rows = _xlsx(path) if path.suffix == ".xlsx" else _csv(path, form.separator)
    for _ in range(form.heading_line - 1):
        next(rows, None)
    heads = [str(cell).strip() for cell in next(rows, [])]
    at, *wanted = _places(heads, form, path)
    reader = _Cells(form)
    times, values = [], []
    for number, row in enumerate(rows, start=form.heading_line + 1):
        if not any(str(cell).strip() for cell in row):
            continue
        where = f"{path}, line {number}"
        if len(row) <= max(at, *wanted, 0):
            raise QuantityError(f"{where} has {len(row)} cells", valid=f"{len(heads)} cells")
        times.append(reader.time(row[at], where))
        values.append([reader.number(row[k], where) for k in wanted])
    if not times:
        raise QuantityError(f"{path} has no rows", valid="rows below the headings")
    shape = (len(times), len(wanted))
    return Series(
        tuple(form.columns.values()), np.array(times), np.array(values, dtype=float).reshape(shape)
    )


def _places(heads: Sequence[str], form: ForeignForm, path: Path) -> list[int]:
    """Where the time and the columns stand that are wanted."""
    for head in (form.time, *form.columns):
        if head not in heads:
            raise QuantityError(
                f"{path} has no column {head[:40]!r} in line {form.heading_line}",
                valid=", ".join(head for head in heads if head) or "a file with headings",
            )
        if heads.count(head) > 1:
            raise QuantityError(
                f"{path} has two columns {head[:40]!r}", valid="headings that differ"
            )
    return [heads.index(head) for head in (form.time, *form.columns)]


def _at_once(path: Path, form: ForeignForm) -> Series | None:
    """A plain CSV by Arrow, whole; None where it is not there, or the file has something odd.

    What is odd is then read line by line: that names the line.
    """
    try:
        import pyarrow as pa  # noqa: PLC0415 - an optional package, and large
        from pyarrow import compute  # noqa: PLC0415
        from pyarrow import csv as arrow_csv  # noqa: PLC0415
    except ImportError:
        return None
    as_read = pa.string() if form.time_form else pa.timestamp("ms")
    kinds = {form.time: as_read, **dict.fromkeys(form.columns, pa.float64())}
    try:
        table = arrow_csv.read_csv(
            path,
            read_options=arrow_csv.ReadOptions(skip_rows=form.heading_line - 1),
            parse_options=arrow_csv.ParseOptions(delimiter=form.separator),
            convert_options=arrow_csv.ConvertOptions(
                column_types=kinds, include_columns=[form.time, *form.columns], decimal_point=form.decimal,
                timestamp_parsers=[arrow_csv.ISO8601], null_values=sorted(_MISSING), strings_can_be_null=True,
            ),
        )  # fmt: skip
        walls = table[form.time].combine_chunks()
        if form.time_form:
            # Arrow makes 3 March of 31 February: only what it writes the same again was such a day.
            texts, walls = walls, compute.strptime(walls, form.time_form, unit="s")
            if not compute.all(
                compute.equal(compute.strftime(walls, form.time_form), texts)
            ).as_py():
                return None
            walls = walls.cast(pa.timestamp("ms"))
        if not table.num_rows or walls.null_count:
            return None
        early, late = (
            compute.assume_timezone(walls, form.zone.key, ambiguous=which, nonexistent="latest")
            .cast(pa.int64())
            .to_numpy()
            / 1000.0
            for which in ("earliest", "latest")
        )
    except (OSError, pa.ArrowException, KeyError, ValueError):
        return None
    times = early.copy()
    for k in np.flatnonzero(early != late).tolist():
        # Of an hour that comes twice, the second one where time would step back.
        if k and early[k] <= times[k - 1] <= late[k]:
            times[k] = late[k]
    values = np.empty((table.num_rows, len(form.columns)), order="F")
    for k, head in enumerate(form.columns):
        values[:, k] = table[head].to_numpy()
    return Series(tuple(form.columns.values()), times, values)


def _csv(path: Path, separator: str) -> Iterator[list[Any]]:
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise FileProblem(f"{path} is too large", remedy="cut it into pieces")
        text = path.read_bytes().decode("utf-8-sig")
    except OSError as error:
        raise FileProblem(f"cannot read {path}: {error.strerror}") from error
    except UnicodeDecodeError:
        text = path.read_bytes().decode("cp1252", "replace")  # what spreadsheets of Windows write
    try:
        yield from csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    except csv.Error as error:
        raise QuantityError(f"{path} is no CSV: {error}", valid="CSV (RFC 4180)") from None


def _xlsx(path: Path) -> Iterator[list[Any]]:
    try:
        from openpyxl import load_workbook  # noqa: PLC0415 - an optional package
    except ImportError:
        raise FileProblem(
            "XLSX needs the package openpyxl",
            remedy="pip install 'leitwerk[spreadsheet]', or use CSV",
        ) from None
    try:
        book = load_workbook(path, read_only=True, data_only=True)  # formulas are not worked
        for row in book.worksheets[0].iter_rows(values_only=True):
            yield ["" if cell is None else cell for cell in row]
    except Exception as error:
        raise FileProblem(f"cannot read {path}: {str(error)[:120]}") from error


class _Cells:
    """Reads times and numbers as a form has them."""

    def __init__(self, form: ForeignForm) -> None:
        self._form, self._before = form, -np.inf

    def time(self, cell: Any, where: str) -> float:
        """A time, in s since 1970-01-01 UTC.

        Of an hour that comes twice, the second one where time would step back.
        """
        form = self._form
        try:
            if isinstance(cell, datetime):
                wall = cell
            elif form.time_form:
                wall = datetime.strptime(str(cell).strip(), form.time_form)  # noqa: DTZ007 - its zone follows
            else:
                wall = datetime.fromisoformat(str(cell).strip())
        except ValueError:
            valid = form.time_form or "2026-03-02T06:00:00, ISO 8601"
            raise QuantityError(
                f"{where}: {str(cell)[:40]!r} is not a time",
                valid=valid,
                remedy="state its form with --time-form '%d.%m.%Y %H:%M:%S'",
            ) from None
        if wall.tzinfo is not None:
            found = wall.timestamp()
        else:
            found = soonest(wall, form.zone).timestamp()
            second = wall.replace(tzinfo=form.zone, fold=1).timestamp()
            if found <= self._before <= second:
                found = second
        self._before = found
        return found

    def number(self, cell: Any, where: str) -> float:
        """A number; NaN where there is none."""
        if isinstance(cell, int | float) and not isinstance(cell, bool):
            return float(cell)
        text = str(cell).strip()
        if text.lower() in _MISSING:
            return np.nan
        other = "." if self._form.decimal == "," else ","
        plain = text.replace(self._form.decimal, ".") if other not in text else "?"
        try:
            return float(plain)
        except ValueError:
            raise QuantityError(
                f"{where}: {text[:40]!r} is not a number",
                valid=f"numbers with '{self._form.decimal}' as decimal sign, and no other sign in them",
            ) from None
