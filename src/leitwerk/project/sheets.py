"""Tables in files, CSV or XLSX: their cells as texts, each with its place; and writing them."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from itertools import islice
from pathlib import Path
from typing import Any

from leitwerk.errors import FileProblem
from leitwerk.parsing.cells import guarded, unguarded
from leitwerk.project.files import read_bytes, write_atomic

MOST_ROWS, MOST_COLUMNS = 50_000, 200
_LONGEST_TITLE = 31  # of a sheet
_MOST_CELLS = 1_000_000
_MOST_UNPACKED = 100_000_000  # a spreadsheet is packed; a small file can hold very much
_DIVIDERS = {",": "commas", ";": "semicolons", "\t": "tabs"}


@dataclass(frozen=True, slots=True)
class CellProblem:
    """What is wrong with one cell."""

    row: int
    column: int
    rule: str
    message: str
    remedy: str


@dataclass(frozen=True)
class Sheet:
    """A table: its heading, and its rows with their numbers in the file, from 1.

    ``name`` is that of the sheet of a workbook, empty for CSV. ``found`` says how the file was understood.
    """

    name: str
    head: list[str]
    head_row: int
    rows: list[tuple[int, list[str]]]
    problems: list[CellProblem] = field(default_factory=list)
    found: tuple[str, ...] = ()


def read_sheets(path: Path) -> list[Sheet]:
    """The tables of a file: one of CSV, all of a workbook that hold anything.

    Formulas are not computed; the cell of one is a problem of its sheet.

    Raises
    ------
    FileProblem
        The file cannot be read, or holds no table.

    """
    content = read_bytes(path)
    sheets = _workbook(path, content) if path.suffix.lower() == ".xlsx" else [_csv(path, content)]
    sheets = [sheet for sheet in sheets if sheet.head]
    if not sheets:
        raise FileProblem(
            f"{path} holds no table", remedy="the names of the columns in its first line"
        )
    return sheets


def _csv(path: Path, content: bytes) -> Sheet:
    try:
        text = content.decode("utf-8-sig")
        first = text.lstrip("\r\n").partition("\n")[0].strip()
        divider = max(_DIVIDERS, key=first.count)
        skipped = 0
        if (
            first.startswith("sep=") and first[4:] in _DIVIDERS
        ):  # some spreadsheets say it themselves
            divider, skipped = first[4:], 1
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=divider, strict=True)
        lines: list[tuple[int, list[str]]] = []
        number, cells = 1 + skipped, 0
        for row in islice(reader, skipped, None):
            cells += len(row)
            if len(lines) > MOST_ROWS or cells > _MOST_CELLS or len(row) > MOST_COLUMNS:
                raise FileProblem(f"{path} is too large", remedy=_at_most())
            lines.append((number, [unguarded(cell.strip()) for cell in row]))
            number = reader.line_num + 1
    except (UnicodeDecodeError, csv.Error) as error:
        raise FileProblem(
            f"{path} is not CSV in UTF-8: {error}", remedy="store it as CSV, UTF-8"
        ) from None
    return _sheet("", lines, [], (f"columns are divided by {_DIVIDERS[divider]}",))


def _at_most() -> str:
    return f"at most {MOST_ROWS:,} rows of {MOST_COLUMNS} columns"


def _sheet(
    name: str,
    lines: Iterable[tuple[int, list[str]]],
    problems: list[CellProblem],
    found: tuple[str, ...],
) -> Sheet:
    """A sheet of the lines that are not empty; the first of them is its heading."""
    filled = [(number, cells) for number, cells in lines if any(cells)]
    if not filled:
        return Sheet(name, [], 0, [], problems, found)
    (head_row, head), *rows = filled
    while head and not head[-1]:
        head.pop()
    return Sheet(name, head, head_row, rows, problems, found)


def _workbook(path: Path, content: bytes) -> list[Sheet]:
    try:
        from openpyxl import load_workbook  # noqa: PLC0415 - heavy, and rarely needed
    except ImportError:
        raise FileProblem(
            f"{path}: a spreadsheet needs openpyxl",
            remedy="pip install 'leitwerk[spreadsheet]', or store it as CSV",
        ) from None
    try:
        needs_care = _needs_care(content)
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=False, keep_links=False)
        return [_of_workbook(sheet, needs_care=needs_care) for sheet in book.worksheets]
    except Exception as error:  # noqa: BLE001 - whatever a hostile file makes the package raise
        raise FileProblem(
            f"{path} is not a spreadsheet, or too large: {type(error).__name__}", remedy=_at_most()
        ) from None


# A formula, an error, and a number that is shown in percent (ECMA-376, 18.3.1.40, 18.18.11, 18.8.30).
_FORMULA = re.compile(rb"<(?:\w+:)?f[ />]|\bt=\"e\"")
_PERCENT = re.compile(rb"numFmtId=\"(?:9|10)\"|formatCode=\"[^\"]*%")


def _needs_care(content: bytes) -> bool:
    """Whether a workbook has cells of which the value alone does not say what they are."""
    with zipfile.ZipFile(io.BytesIO(content)) as parts:
        if sum(part.file_size for part in parts.infolist()) > _MOST_UNPACKED:
            raise ValueError("too large when unpacked")
        for name in parts.namelist():
            wanted = _PERCENT if name.endswith("styles.xml") else _FORMULA
            if name.startswith("xl/") and name.endswith(".xml") and wanted.search(parts.read(name)):
                return True
    return False


def _of_workbook(sheet: Any, *, needs_care: bool) -> Sheet:
    problems: list[CellProblem] = []
    rows = _limited(sheet.iter_rows(max_row=MOST_ROWS + 1, values_only=not needs_care))
    if needs_care:
        lines = [
            (number, [_cell(cell, number, k, problems) for k, cell in enumerate(row, start=1)])
            for number, row in enumerate(rows, start=1)
        ]
    else:
        lines = [
            (number, [v.strip() if type(v) is str else _text(v) for v in row])
            for number, row in enumerate(rows, start=1)
        ]
    return _sheet(sheet.title, lines, problems, ())


def _limited(rows: Iterable[tuple[Any, ...]]) -> Iterator[tuple[Any, ...]]:
    """The rows, as long as they are not too many cells."""
    count = 0
    for row in rows:
        count += len(row)
        if len(row) > MOST_COLUMNS or count > _MOST_CELLS:
            raise ValueError("too many cells")
        yield row


def _cell(cell: Any, row: int, column: int, problems: list[CellProblem]) -> str:
    """What a cell holds; a formula or an error is a problem."""
    value, kind = cell.value, cell.data_type
    if kind == "f":
        problems.append(
            CellProblem(row, column, "formula-in-cell", f"the cell holds a formula: {str(value)[:40]}",
                        "formulas are not computed: put its value there")
        )  # fmt: skip
        return ""
    if kind == "e":
        problems.append(
            CellProblem(
                row, column, "error-in-cell", f"the cell holds an error: {value}", "correct it"
            )
        )
        return ""
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    if is_number and "%" in str(cell.number_format):
        return f"{value * 100.0:.12g} %"  # what shows as 25 % is 0.25 in the file
    return _text(value)


def _text(value: Any) -> str:
    """A value of a cell as text."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.15g}"
    if isinstance(value, datetime):
        at_midnight = (value.hour, value.minute, value.second) == (0, 0, 0)
        return value.date().isoformat() if at_midnight else value.isoformat(timespec="minutes")
    return value.isoformat() if isinstance(value, date) else str(value).strip()


def write_sheets(path: Path, sheets: Mapping[str, Sequence[Sequence[str]]]) -> None:
    """Write tables, each with its heading as the first row. No cell can be taken for a formula.

    Raises
    ------
    FileProblem
        The file cannot be written, its name has another ending than .csv or .xlsx, it is CSV and there is
        more than one table, or openpyxl is missing.

    """
    if path.suffix.lower() == ".csv":
        if len(sheets) != 1:
            raise FileProblem(
                f"{path}: CSV holds one table, and there are {', '.join(sheets)}",
                remedy="choose one with --of, or write .xlsx",
            )
        out = io.StringIO(newline="")
        writer = csv.writer(out, lineterminator="\n")
        for rows in sheets.values():
            writer.writerows([guarded(cell) for cell in row] for row in rows)
        write_atomic(path, out.getvalue())
        return
    if path.suffix.lower() != ".xlsx":
        raise FileProblem(
            f"a table cannot be written to {path}", remedy="a name with .csv or .xlsx"
        )
    write_atomic(path, _xlsx(sheets))


def _xlsx(sheets: Mapping[str, Sequence[Sequence[str]]]) -> bytes:
    try:
        from openpyxl import Workbook  # noqa: PLC0415 - as above
        from openpyxl.cell import WriteOnlyCell  # noqa: PLC0415
        from openpyxl.styles import Font  # noqa: PLC0415
    except ImportError:
        raise FileProblem(
            "XLSX needs the package openpyxl",
            remedy="pip install 'leitwerk[spreadsheet]', or write .csv",
        ) from None
    book = Workbook(write_only=True)
    for name, rows in sheets.items():
        if len(name) > _LONGEST_TITLE:
            raise FileProblem(
                f"{name!r} is too long for the name of a sheet",
                remedy=f"at most {_LONGEST_TITLE} characters; write it as CSV with --of",
            )
        sheet = book.create_sheet(name)
        sheet.freeze_panes = "B2"
        for k, widest in enumerate(_widths(rows)):
            sheet.column_dimensions[_letters(k + 1)].width = widest
        for number, row in enumerate(rows):
            cells = []
            for text in row:
                cell = WriteOnlyCell(sheet, text or None)
                if text:
                    cell.data_type = "s"  # a text, whatever it begins with
                if number == 0:
                    cell.font = Font(bold=True)
                cells.append(cell)
            sheet.append(cells)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _widths(rows: Sequence[Sequence[str]]) -> list[int]:
    """How wide the columns of a sheet are, in characters."""
    if not rows:
        return []
    return [
        min(40, max(8, 2 + max((len(row[k]) for row in rows[:200] if k < len(row)), default=0)))
        for k in range(len(rows[0]))
    ]


def _letters(column: int) -> str:
    """The letters of a column of a spreadsheet, from 1.

    Examples
    --------
    >>> _letters(1), _letters(28)
    ('A', 'AB')

    """
    letters = ""
    while column:
        column, rest = divmod(column - 1, 26)
        letters = chr(65 + rest) + letters
    return letters


def cell_name(row: int, column: int) -> str:
    """How a spreadsheet names a cell: C17."""
    return f"{_letters(column)}{row}"
