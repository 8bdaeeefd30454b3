"""Rows of a table in a file of their own: CSV, or a spreadsheet."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Iterable, Sequence
from pathlib import Path

from leitwerk.errors import FileProblem
from leitwerk.project.files import read_bytes, write_atomic

_MOST_ROWS, _MOST_COLUMNS = 10_000, 100
_MOST_BYTES = 5_000_000
_MOST_UNPACKED = 50_000_000  # a spreadsheet is packed; a small file can hold very much


def read_rows(path: Path) -> list[dict[str, str]]:
    """The rows of a file, by the names in its first line; cells without content are left out.

    Raises
    ------
    FileProblem
        The file cannot be read, or is no table.

    """
    content = read_bytes(path)
    if len(content) > _MOST_BYTES:
        raise FileProblem(f"{path} has {len(content):,} bytes", remedy=f"at most {_MOST_BYTES:,}")
    lines = _spreadsheet(path, content) if path.suffix.lower() == ".xlsx" else _csv(path, content)
    if not lines:
        raise FileProblem(
            f"{path} holds no table", remedy="the names of the columns in its first line"
        )
    head, *body = lines
    names = [name.strip() for name in head]
    if len(names) > _MOST_COLUMNS or len(body) > _MOST_ROWS:
        raise FileProblem(
            f"{path} has {len(body):,} rows of {len(names)} columns",
            remedy=f"at most {_MOST_ROWS:,} of {_MOST_COLUMNS}",
        )
    if len(set(names)) < len(names) or "" in names:
        raise FileProblem(
            f"{path}: a column has no name, or two have the same", remedy="name each once"
        )
    rows = []
    for number, cells in enumerate(body, start=2):
        if len(cells) > len(names):
            raise FileProblem(
                f"{path}:{number}: {len(cells)} cells, and {len(names)} columns",
                remedy="put texts with a comma into quotes",
            )
        row = {n: cell.strip() for n, cell in zip(names, cells, strict=False) if cell.strip()}
        if row:
            rows.append(row)
    return rows


def _csv(path: Path, content: bytes) -> list[list[str]]:
    try:
        text = content.decode("utf-8-sig")
        divider = (
            ";" if text.partition("\n")[0].count(";") > text.partition("\n")[0].count(",") else ","
        )
        return list(csv.reader(io.StringIO(text), delimiter=divider, strict=True))
    except (UnicodeDecodeError, csv.Error) as error:
        raise FileProblem(
            f"{path} is not CSV in UTF-8: {error}", remedy="store it as CSV, UTF-8"
        ) from None


def _spreadsheet(path: Path, content: bytes) -> list[list[str]]:
    try:
        from openpyxl import load_workbook  # noqa: PLC0415 - heavy, and rarely needed
    except ImportError:
        raise FileProblem(
            f"{path}: a spreadsheet needs openpyxl",
            remedy="pip install 'leitwerk[spreadsheet]', or store it as CSV",
        ) from None
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as parts:
            unpacked = sum(part.file_size for part in parts.infolist())
        if unpacked > _MOST_UNPACKED:
            raise ValueError("too large when unpacked")  # noqa: TRY301 - with all else that is wrong
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        found = []
        for row in sheet.iter_rows(
            max_row=_MOST_ROWS + 2, max_col=_MOST_COLUMNS + 1, values_only=True
        ):
            cells = ["" if cell is None else str(cell) for cell in row]
            while cells and not cells[-1]:
                cells.pop()
            found.append(cells)
    except Exception as error:  # noqa: BLE001 - whatever a hostile file makes the package raise
        raise FileProblem(f"{path} is not a spreadsheet: {type(error).__name__}") from None
    return found


def write_rows(path: Path, columns: Sequence[str], rows: Iterable[Sequence[str]]) -> None:
    """Write rows under the names of their columns.

    Raises
    ------
    FileProblem
        The file cannot be written, or openpyxl is missing for a spreadsheet.

    """
    lines = [list(columns), *map(list, rows)]
    if path.suffix.lower() != ".xlsx":
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerows(lines)
        write_atomic(path, out.getvalue())
        return
    try:
        from openpyxl import Workbook  # noqa: PLC0415 - as above
    except ImportError:
        raise FileProblem(
            f"{path}: a spreadsheet needs openpyxl",
            remedy="pip install 'leitwerk[spreadsheet]', or write .csv",
        ) from None
    book = Workbook()
    for line in lines:
        book.active.append(line)
    content = io.BytesIO()
    book.save(content)
    write_atomic(path, content.getvalue())
