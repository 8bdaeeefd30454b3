"""Setups to tables and back: channels, alarms and contacts as sheets that a planner works on."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from leitwerk.errors import FileProblem, QuantityError, SetupError
from leitwerk.findings import Finding, Findings, KeyPath, Severity
from leitwerk.parsing.cells import (
    cell_of,
    decimal_mark,
    entry_of,
    plain_data,
    split_heading,
    with_point,
    with_unit,
)
from leitwerk.parsing.quantities import parse_expected, parse_quantity, parse_span
from leitwerk.parsing.yaml_edit import YamlText, entry_lines
from leitwerk.parsing.yaml_text import Map, Value, parse_yaml
from leitwerk.project.files import read_bytes
from leitwerk.project.setups import check_text, load_setup
from leitwerk.project.sheets import Sheet, cell_name, read_sheets, write_sheets
from leitwerk.setup.column_names import ColumnNames, parse_column_names
from leitwerk.setup.tables import (
    PARTS,
    RECORDS,
    TablePart,
    is_quantity,
    nested,
    parts_of,
    records_part,
)

COLUMNS_FILE = "columns.yaml"
_COLUMNS_HEAD = (
    "# Names of columns in tables of this project, and what each stands for.\ncolumns: 1\n"
)
BATCH = "batch"


def write_setup_tables(setup: str | Path, to: str | Path, parts: Sequence[str] = ()) -> list[str]:
    """Write parts of a setup as tables: a sheet for each in a workbook, one of them as CSV.

    Parameters
    ----------
    parts : sequence of str
        Of ``channels``, ``alarms``, ``contacts``, ``records.NAME``; all that the setup has if empty. Or
        ``batch``, for a table of devices that begins with that of the setup.

    Returns
    -------
    list of str
        The parts that were written.

    Raises
    ------
    FileProblem
        A file cannot be read or written.
    SetupError
        The setup cannot be read.
    QuantityError
        There is no such part.

    """
    read = load_setup(setup)
    root = read.source.root or Map()
    if tuple(parts) == (BATCH,):
        device = read.device
        row = [device.serial, str(device.at), read.title]
        write_sheets(Path(to), {BATCH: [["serial", "at", "title"], row]})
        return [BATCH]
    known = parts_of(root)
    for name in parts:
        if name not in known:
            raise QuantityError(
                f"{name!r} is not a part of this setup that can be a table",
                valid=", ".join([*known, BATCH]),
            )
    tables = {name: part_rows(known[name], root) for name in parts or known}
    kept = {name: rows for name, rows in tables.items() if len(rows) > 1 or name in parts}
    write_sheets(Path(to), kept)
    return list(kept)


def part_rows(part: TablePart, root: Map) -> list[list[str]]:
    """The rows of a part of a setup, the heading first; columns that no entry has are left out."""
    entries = list(part.entries(root))
    used = {column for _, values in entries for column in values}
    columns = (
        [c for c in part.columns if c in used and c not in part.names] if not part.free else []
    )
    # What is not known stays, and is found by the check; of a table with free columns, that is all.
    columns += [
        c for c in dict.fromkeys(c for _, held in entries for c in held) if c not in columns
    ]
    rows = [[*part.names, *columns]]
    for names, values in entries:
        own = [] if part.free else [*map(cell_of, names)]
        rows.append([*own, *(cell_of(values[c]) if c in values else "" for c in columns)])
    return rows


# ---------------------------------------------------------------------- from a table


@dataclass(frozen=True, slots=True)
class TableOptions:
    """How a table is understood.

    ``decimal`` is ``comma`` or ``point``, None where the table shows it; ``names`` are one's own names of
    columns; ``complete`` says that what is not in the table is to go. ``part`` says what a file with one
    table holds, where that does not show.
    """

    decimal: str | None = None
    part: str = ""
    names: ColumnNames = field(default_factory=ColumnNames)
    complete: bool = False


@dataclass(frozen=True)
class TableEntries:
    """The entries that a sheet holds, each with the place of its cells.

    ``columns`` are those of the sheet, in its order: what a row leaves empty there, its entry does not have.
    """

    part: TablePart
    sheet: str
    columns: tuple[str, ...]
    rows: dict[tuple[str, ...], dict[str, Value]]
    places: dict[KeyPath, tuple[int, dict[str, int]]]
    findings: tuple[Finding, ...]
    found: tuple[str, ...]


def read_entries(path: str | Path, options: TableOptions | None = None) -> list[TableEntries]:
    """The entries that the sheets of a file hold, with all that is wrong with single cells.

    Raises
    ------
    FileProblem
        The file cannot be read, or holds no sheet with a part of a setup.

    """
    file, chosen = Path(path), options or TableOptions()
    read = [_Reader(file, sheet, chosen).entries() for sheet in read_sheets(file)]
    found = [entries for entries in read if entries is not None]
    if not found:
        raise FileProblem(
            f"{file}: no sheet has the columns of a part of a setup",
            remedy="; ".join(f"{part.title}: {', '.join(part.names)}, …" for part in PARTS.values())
            + "; name your own columns by --column 'Tag=name'",
        )
    return found


@dataclass(frozen=True, slots=True)
class _Column:
    """A column that counts: its key, the unit of its cells, and whether they are quantities."""

    name: str
    unit: str
    is_quantity: bool


class _Reader:
    """Reads one sheet."""

    def __init__(self, file: Path, sheet: Sheet, options: TableOptions) -> None:
        self._file, self._sheet, self._options = file, sheet, options
        self._findings: list[Finding] = []

    def _finding(
        self, rule: str, message: str, row: int, column: int, *, valid: str = "", remedy: str = "",
        channel: str = "",
    ) -> None:  # fmt: skip
        name = self._sheet.name
        self._findings.append(
            Finding(
                severity=Severity.ERROR, rule=rule, file=str(self._file), line=row, column=column,
                path="", message=message, channel=channel, valid=valid, remedy=remedy,
                cell=f"{name}!{cell_name(row, column)}" if name else "",
            )
        )  # fmt: skip

    def entries(self) -> TableEntries | None:
        """The entries of the sheet; None where it is not a part of a setup."""
        headings = [split_heading(text) for text in self._sheet.head]
        part = self._part([name for name, _ in headings])
        if part is None:
            return None
        columns = self._columns(part, headings)
        for problem in self._sheet.problems:
            if problem.row > self._sheet.head_row:
                self._finding(problem.rule, problem.message, problem.row, problem.column,
                              remedy=problem.remedy)  # fmt: skip
        mark = self._mark(columns)
        rows: dict[tuple[str, ...], dict[str, Value]] = {}
        places: dict[KeyPath, tuple[int, dict[str, int]]] = {}
        at = {column.name: k for k, column in columns.items()}
        name_columns = [at.get(name, -1) for name in part.names]
        for number, cells in self._sheet.rows:
            values = self._row(number, cells, columns, mark)
            names = tuple(
                str(values.pop(name, "")) if k >= 0 else ""
                for name, k in zip(part.names, name_columns, strict=True)
            )
            if part.free:
                names = (str(len(rows)),)
            if "" in names:
                missing = part.names[names.index("")]
                self._finding("missing-key", f"the row has no {missing}", number,
                              max(name_columns[names.index("")], 0) + 1)  # fmt: skip
                continue
            if names in rows:
                before = places[part.way(names)][0]
                self._finding("duplicate-key", f"{'.'.join(names)} is already in row {before}", number,
                              name_columns[-1] + 1, valid="each name once")  # fmt: skip
                continue
            rows[names] = values
            places[part.way(names)] = (number, at)
        kept = tuple(c.name for c in columns.values() if c.name not in part.names)
        found = list(self._sheet.found)
        if mark is not None:
            found.append(f"decimals are marked by a {mark}")
        return TableEntries(
            part, self._sheet.name, kept, rows, places, tuple(self._findings), tuple(found)
        )

    def _part(self, names: Iterable[str]) -> TablePart | None:
        """The part of a setup that a sheet holds: by its name, or by its columns."""
        title = self._options.part or self._options.names.part_of(self._sheet.name)
        if title in PARTS:
            return PARTS[title]
        if title.startswith(RECORDS):
            return records_part(title.removeprefix(RECORDS))
        known = list(names)
        for part in (PARTS["alarms"], PARTS["contacts"], PARTS["channels"]):
            own = {self._options.names.column(name) for name in known}
            typical = (
                {"text_message", "mail", "web", "topic"} if part.title == "contacts" else set()
            )
            if own >= set(part.names) and (not typical or own & typical):
                return part
        return None

    def _columns(self, part: TablePart, headings: Sequence[tuple[str, str]]) -> dict[int, _Column]:
        """The columns that count, by their index."""
        known = set(part.columns)
        found: dict[int, _Column] = {}
        for k, (typed, unit) in enumerate(headings):
            name = self._options.names.column(typed)
            if part.free and name is not None:
                name = typed  # as the device calls it
            if name is None or not typed:
                if not typed and any(len(c) > k and c[k] for _, c in self._sheet.rows):
                    self._finding(
                        "unknown-column", "the column has no name", self._sheet.head_row, k + 1
                    )
                continue
            if name not in known and not part.free:
                near = difflib.get_close_matches(name, known, n=1, cutoff=0.6)
                self._finding(
                    "unknown-column", f"there is no column {typed[:40]!r} of {part.title}",
                    self._sheet.head_row, k + 1, valid=", ".join(part.columns),
                    remedy=f"did you mean {near[0]!r}?" if near
                    else f"say what it is by --column '{typed[:40]}=NAME', or '{typed[:40]}=-' for nothing",
                )  # fmt: skip
            elif any(name == taken.name for taken in found.values()):
                message = f"the column {name} is there twice"
                self._finding("duplicate-key", message, self._sheet.head_row, k + 1)
            else:
                found[k] = _Column(name, unit, is_quantity(name))
        return found

    def _mark(self, columns: Mapping[int, _Column]) -> str | None:
        """What marks decimals; said, or found in the cells that hold quantities."""
        if self._options.decimal is not None:
            return self._options.decimal
        numbers = [k for k, column in columns.items() if column.is_quantity]
        return decimal_mark(
            row[k] for _, row in self._sheet.rows for k in numbers
            if k < len(row) and ("," in row[k] or "." in row[k]) and row[k][0] not in '{["'
        )  # fmt: skip

    def _row(
        self, number: int, cells: Sequence[str], columns: Mapping[int, _Column], mark: str | None
    ) -> dict[str, Value]:
        values: dict[str, Value] = {}
        for k, text in enumerate(cells):
            if not text:
                continue
            column = columns.get(k)
            if column is None:
                if k >= len(self._sheet.head):
                    self._finding("unknown-column", "a cell beyond the last column", number, k + 1)
            elif not column.is_quantity and text[0] not in '{["':
                values[column.name] = text
            else:
                try:
                    values[column.name] = _value(text, column, mark)
                except QuantityError as error:
                    message = f"{column.name}: {error.message}"
                    self._finding("bad-value", message, number, k + 1, valid=error.valid,
                                  remedy=error.remedy)  # fmt: skip
        return values


def _value(text: str, column: _Column, mark: str | None) -> Value:
    """What a cell stands for."""
    if text[0] in '{["':
        return entry_of(text)
    return with_unit(with_point(text, mark) if mark else text, column.unit)


# ---------------------------------------------------------------------- into a setup


@dataclass(frozen=True)
class TableImport:
    """A setup as it would be with what a table says.

    ``lines`` say what would change; ``findings`` stand at their cells where a cell is the cause.
    """

    text: str
    lines: tuple[str, ...]
    findings: tuple[Finding, ...]
    found: tuple[str, ...]
    is_new: bool

    @property
    def ok(self) -> bool:
        """Whether the setup can be used like this."""
        return not any(finding.is_error for finding in self.findings)


def import_tables(
    table: str | Path, setup: str | Path, options: TableOptions | None = None
) -> TableImport:
    """A setup with the entries of a table; the file is not written.

    Comments, the order of the setup and whatever the table says nothing about stay as they are. What a row
    leaves empty in a column of the table goes. A text that says the same in other words is left as it is.

    Raises
    ------
    FileProblem
        A file cannot be read.
    SetupError
        The setup cannot be read; mistakes that the table corrects do not count.

    """
    chosen = options or TableOptions()
    text = read_bytes(setup).decode("utf-8-sig")
    root = _root_of(text, setup)
    tables = read_entries(table, chosen)
    edit, lines = YamlText(text), list[str]()
    for entries in tables:
        lines += _apply(edit, root, entries, complete=chosen.complete)
    after = edit.edited() if lines else text
    findings = [finding for entries in tables for finding in entries.findings]
    result = check_text(after, setup)
    findings += [_at_cell(finding, tables, Path(table)) for finding in result.findings]
    found = tuple(dict.fromkeys(one for entries in tables for one in entries.found))
    return TableImport(after, tuple(lines), tuple(findings), found, is_new=after != text)


def _root_of(text: str, setup: str | Path) -> Map:
    findings = Findings(str(setup))
    root = parse_yaml(text, findings)
    if root is None:
        raise SetupError(str(setup), findings.sorted())
    return root


def _apply(edit: YamlText, root: Map, entries: TableEntries, *, complete: bool) -> Iterator[str]:
    part = entries.part
    held = dict(part.entries(root))
    if part.free:
        yield from _apply_rows(edit, held, entries)
        return
    if part.title == "alarms":
        held |= {names: {} for names in entries.rows if names not in held}
    for names, values in entries.rows.items():
        way = part.way(names)
        if names not in held:
            edit.insert(way, nested(values, part.groups))
            yield f"{'.'.join(names)}: new, from row {entries.places[way][0]}"
            continue
        yield from _changes(edit, way, held[names], values, entries, ".".join(names))
    missing = [names for names in held if names not in entries.rows]
    for names in missing if complete else ():
        edit.remove(part.way(names))
        yield f"{'.'.join(names)}: removed, the table does not have it"


def _apply_rows(
    edit: YamlText, held: Mapping[tuple[str, ...], Mapping[str, Value]], entries: TableEntries
) -> Iterator[str]:
    """The rows of a table that a device stores are a whole: where one differs, all are written anew."""
    if list(map(plain_data, held.values())) == list(map(plain_data, entries.rows.values())):
        return
    way = entries.part.way(("",))[:-1]
    rows = [plain_data(row) for row in entries.rows.values()]
    if edit.has(way):
        edit.set(way, rows)
    else:
        edit.insert(way, rows)
    yield f"{entries.part.title}: {len(rows)} rows in the place of {len(held)}"


def _changes(
    edit: YamlText, way: KeyPath, held: Mapping[str, Value], values: Mapping[str, Value],
    entries: TableEntries, name: str,
) -> Iterator[str]:  # fmt: skip
    """Carry over what is different in one entry."""
    fresh: dict[str, Value] = {}
    for column in entries.columns:
        old, new = held.get(column), values.get(column)
        if old is None and new is None:
            continue
        path = (*way, *_steps(column, entries.part))
        if new is None:
            edit.remove(path)
            yield f"{name}.{column}: {cell_of(old or '')} → removed"
        elif old is None:
            fresh[column] = new
            yield f"{name}.{column}: {cell_of(new)}, new"
        elif not _says_the_same(old, new):
            edit.set(path, plain_data(new))
            yield f"{name}.{column}: {cell_of(old)} → {cell_of(new)}"
    for key, value in reversed(nested(fresh, entries.part.groups).items()):
        if isinstance(value, dict) and key in entries.part.groups and edit.has((*way, key)):
            for inner, item in value.items():
                edit.insert((*way, key, inner), plain_data(item))
        else:
            edit.insert((*way, key), plain_data(value))


def _steps(column: str, part: TablePart) -> tuple[str, ...]:
    head, point, inner = column.partition(".")
    return (head, inner) if point and head in part.groups else (column,)


def _says_the_same(old: Value, new: Value) -> bool:
    """Whether two entries mean the same, though they may be written differently."""
    if plain_data(old) == plain_data(new):
        return True
    if not isinstance(old, str) or not isinstance(new, str):
        return False
    for parse in (parse_quantity, parse_expected, parse_span):
        try:
            return bool(parse(old) == parse(new))
        except QuantityError:
            continue
    return False


def _at_cell(finding: Finding, tables: Sequence[TableEntries], file: Path) -> Finding:
    """A finding of the check at the cell that causes it, where a table has it."""
    path = tuple(finding.path.split("."))
    for entries in tables:
        for depth in (4, 2):
            place = entries.places.get(path[:depth])
            if place is None:
                continue
            row, at = place
            inside = path[depth:]
            column = at.get(".".join(inside[:2]), at.get(inside[0] if inside else "", -1))
            if column < 0:
                if inside and entries.part.title == "channels" and inside[0] == "alarms":
                    continue
                column = at[entries.part.names[-1]] if entries.part.names else 0
            cell = f"{entries.sheet}!{cell_name(row, column + 1)}" if entries.sheet else ""
            return replace(finding, file=str(file), line=row, column=column + 1, cell=cell)
    return finding


def column_names(folder: Path, given: Iterable[tuple[str, str]]) -> tuple[ColumnNames, str | None]:
    """One's own names of columns: those kept in a folder, and further ones.

    Returns
    -------
    names, text
        ``text`` is the file that keeps them, None where nothing is new.

    """
    file = folder / COLUMNS_FILE
    text = read_bytes(file).decode("utf-8-sig") if file.exists() else ""
    names = parse_column_names(text, file=str(file)) if text else ColumnNames()
    more = names.with_names(given)
    if more == names:
        return names, None
    fresh = {typed: name for typed, name in more.names.items() if names.names.get(typed) != name}
    edit = YamlText(text or _COLUMNS_HEAD)
    if edit.has(("names",)):
        for typed, name in fresh.items():
            if edit.has(("names", typed)):
                edit.set(("names", typed), name)
            else:
                edit.insert(("names", typed), name)
    else:
        lines = [line for typed, name in fresh.items() for line in entry_lines(typed, name, 2)]
        edit.insert_lines((), ["names:", *lines])
    return more, edit.edited()
