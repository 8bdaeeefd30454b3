"""Rows of a table of a device in a file of their own: CSV, or a spreadsheet."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from pathlib import Path

from leitwerk.errors import FileProblem, QuantityError
from leitwerk.parsing.cells import decimal_mark, with_point, with_unit
from leitwerk.project.sheets import cell_name, read_sheets, write_sheets
from leitwerk.setup.tables import is_quantity


def read_rows(path: Path) -> list[dict[str, str]]:
    """The rows of a file, by the names in its first line; cells without content are left out.

    Raises
    ------
    FileProblem
        The file cannot be read, or is no table.

    """
    return [row for _, row in numbered_rows(path)]


def numbered_rows(path: Path) -> list[tuple[int, dict[str, str]]]:
    """The same, each with its number in the file, from 1."""
    sheet = read_sheets(path)[0]
    names = sheet.head
    if problem := next(iter(sheet.problems), None):
        place = cell_name(problem.row, problem.column)
        raise FileProblem(f"{path}: {place}: {problem.message}", remedy=problem.remedy)
    if len(set(names)) < len(names) or "" in names:
        raise FileProblem(
            f"{path}: a column has no name, or two have the same", remedy="name each once"
        )
    rows = []
    for number, cells in sheet.rows:
        # Of a workbook, empty cells at the end of a row are not there.
        if any(cells[len(names) :]) or (not sheet.name and len(cells) < len(names)):
            raise FileProblem(
                f"{path}:{number}: it has not as many columns as the first line: {len(cells)}, not "
                f"{len(names)}",
                remedy="add what is missing, or put texts with a comma into quotes",
            )
        rows.append((number, {n: c for n, c in zip(names, cells, strict=False) if c}))
    return rows


def quantity_rows(
    path: Path, texts: Collection[str]
) -> tuple[list[tuple[int, dict[str, str]]], tuple[str, ...]]:
    """The same, with quantities as a setup has them: with the unit of the heading, and a decimal point.

    Parameters
    ----------
    texts : collection of str
        The columns that hold no quantities.

    Returns
    -------
    rows, found
        ``found`` says how the numbers were understood.

    Raises
    ------
    FileProblem
        The file cannot be read, is no table, or a number has another decimal mark than the others.

    """
    rows = numbered_rows(path)
    mark = decimal_mark(
        v for _, row in rows for k, v in row.items() if not _is_text(k.partition(" [")[0], texts)
    )
    made = []
    for number, row in rows:
        cells = {}
        for heading, text in row.items():
            name, bracket, unit = heading.partition(" [")
            is_text = _is_text(name, texts) or text[0] in "{["
            try:
                plain = text if is_text or mark is None else with_point(text, mark)
            except QuantityError as error:
                raise FileProblem(
                    f"{path}:{number}: {error.message}", remedy=error.remedy
                ) from None
            cells[name] = with_unit(plain, unit.rstrip("] ")) if bracket and not is_text else plain
        made.append((number, cells))
    return made, () if mark is None else (f"decimals are marked by a {mark}",)


def _is_text(column: str, texts: Collection[str]) -> bool:
    """Whether the cells of a column, named by the way to what it sets, hold no quantities."""
    return column in texts or not is_quantity(column.rpartition(".")[2])


def write_rows(path: Path, columns: Sequence[str], rows: Iterable[Sequence[str]]) -> None:
    """Write rows under the names of their columns, as CSV or as a spreadsheet by the name of the file.

    Raises
    ------
    FileProblem
        The file cannot be written, or openpyxl is missing for a spreadsheet.

    """
    write_sheets(path, {"rows": [list(columns), *map(list, rows)]})
