"""The catalogue of a store: what each of its files holds. Where it differs from them, they are the truth."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from leitwerk.errors import FileProblem
from leitwerk.recordings.about import About, read_about
from leitwerk.recordings.tables import TIME, about_of, arrow, columns_of

FILE = "catalogue.sqlite"
_TABLE = """create table if not exists parts (
    path text primary key, size integer, changed integer, begin_ms integer, end_ms integer, rows integer,
    columns text, about text)"""
_LAYOUT = 1  # another one is thrown away, and read anew


@dataclass(frozen=True)
class Part:
    """One file of a store. Times are in ms since 1970-01-01 UTC, ``columns`` units by name."""

    path: Path
    device: str
    version: int
    begin_ms: int
    end_ms: int
    rows: int
    columns: dict[str, str]
    about: About

    @property
    def run(self) -> str:
        """Which run of the device, or which file, it is of."""
        return self.about.run

    def overlaps(self, begin_ms: float, end_ms: float) -> bool:
        """Whether it may hold rows of a time; both ends count."""
        return self.begin_ms <= end_ms and begin_ms <= self.end_ms


class Catalogue:
    """What the files of a store hold, without reading them again."""

    def __init__(self, root: Path) -> None:
        self._root = root

    def parts(self) -> list[Part]:
        """All files that count, by device, version and time; see ``read``."""
        return self.read()[0]

    def read(self) -> tuple[list[Part], list[Path]]:
        """All files that count, by device, version and time; and those whose rows another one has, too.

        Raises
        ------
        FileProblem
            A file cannot be read, or is none of a store.

        """
        found = sorted(self._root.glob("device=*/version=*/month=*/*.parquet"))
        with self._open() as base:
            known = {row[0]: row[1:] for row in base.execute("select * from parts")}
            parts = []
            for path in found:
                name, state = path.relative_to(self._root).as_posix(), path.stat()
                row = known.pop(name, None)
                if row is None or row[:2] != (state.st_size, state.st_mtime_ns):
                    row = (state.st_size, state.st_mtime_ns, *_look(path))
                    base.execute("replace into parts values (?, ?, ?, ?, ?, ?, ?, ?)", (name, *row))
                parts.append(_part(path, row[2:]))
            base.executemany("delete from parts where path = ?", [(name,) for name in known])
            base.commit()
        gone = {(part.path.parent, name) for part in parts for name in part.about.replaces}
        left = [part.path for part in parts if (part.path.parent, part.path.name) in gone]
        parts = [part for part in parts if part.path not in left]
        return sorted(parts, key=lambda part: (part.device, part.version, part.begin_ms)), left

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        """The base; one that is damaged or of another layout is made anew, since the files are the truth."""
        path = self._root / FILE
        for attempt in range(2):
            try:
                base = sqlite3.connect(path, timeout=30.0)
                with closing(base):
                    (layout,) = base.execute("pragma user_version").fetchone()
                    if layout != _LAYOUT:
                        base.execute("drop table if exists parts")
                        base.execute(f"pragma user_version = {_LAYOUT}")
                    base.execute(_TABLE)
                    yield base
            except sqlite3.DatabaseError as error:
                if attempt or isinstance(error, sqlite3.OperationalError):
                    raise FileProblem(
                        f"cannot use {path}: {error}", remedy="is the folder there, and writable?"
                    ) from error
                path.unlink(missing_ok=True)
            else:
                return


def _look(path: Path) -> tuple[int, int, int, str, str]:
    """What a file says at its end, without its values."""
    pa = arrow()
    from pyarrow import parquet  # noqa: PLC0415 - an optional package, and large

    try:
        with parquet.ParquetFile(path) as file:
            schema, held = file.schema_arrow, file.metadata
            groups = range(held.num_row_groups if TIME in schema.names else 0)
            place = schema.names.index(TIME) if groups else 0
            spans = [held.row_group(g).column(place).statistics for g in groups]
    except (OSError, pa.ArrowException) as error:
        raise FileProblem(
            f"cannot read {path}: {str(error)[:200]}",
            remedy="take the file out of the store, and fetch its rows again",
        ) from error
    if not spans or any(span is None for span in spans):
        raise FileProblem(f"{path} holds no values over time", remedy="take it out of the store")
    units = {column.name: column.unit for column in columns_of(schema)}
    begin = min(_millis(span.min) for span in spans)
    end = max(_millis(span.max) for span in spans)
    return begin, end, held.num_rows, json.dumps(units, ensure_ascii=False), about_of(schema)


def _millis(moment: datetime) -> int:
    return round(moment.timestamp() * 1000.0)


def _part(path: Path, row: tuple[Any, ...]) -> Part:
    begin, end, rows, columns, about = row
    device, version = (
        folder.name.partition("=")[2] for folder in (path.parents[2], path.parents[1])
    )
    return Part(
        path,
        device,
        int(version),
        begin,
        end,
        rows,
        json.loads(columns),
        read_about(about, str(path)),
    )
