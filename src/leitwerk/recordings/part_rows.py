"""Reading the files of a store: whole, in pieces, and those that overlap together."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from leitwerk.analysis.series import Column, Series
from leitwerk.errors import FileProblem
from leitwerk.recordings.catalogue import Part
from leitwerk.recordings.rows import sorted_by_time
from leitwerk.recordings.tables import QUALITY, TIME, arrow, series_of_tables, value_field


def joined(parts: Sequence[Part], wanted: Mapping[str, str]) -> Series:
    """The rows of several files in the order of time, with these columns and units."""
    tables = (with_columns(read_part(part.path, wanted, part), wanted) for part in parts)
    columns = tuple(Column(name, unit) for name, unit in wanted.items())
    rows = sum(part.rows for part in parts)
    return sorted_by_time(series_of_tables(tables, columns, rows))


def units_of(parts: Sequence[Part], channels: Sequence[str] | None) -> dict[str, str]:
    """The unit of each channel that is wanted, in the order of the wish, or of the files."""
    every = {name: unit for part in parts for name, unit in part.columns.items()}
    return every if channels is None else {name: every[name] for name in channels}


def overlapping(parts: Sequence[Part]) -> Iterator[list[Part]]:
    """Parts in the order of time; those that overlap stand together."""
    group: list[Part] = []
    end_ms = 0
    for part in sorted(parts, key=lambda part: part.begin_ms):
        if group and part.begin_ms > end_ms:
            yield group
            group = []
        end_ms = max(end_ms, part.end_ms) if group else part.end_ms
        group.append(part)
    if group:
        yield group


def _of_part(names: Iterable[str] | None, part: Part | None) -> list[str] | None:
    if names is None or part is None:
        return None
    own = [name for name in names if name in part.columns]
    return [TIME, *(part_name for name in own for part_name in (name, f"{name}{QUALITY}"))]


def read_part(path: Path, names: Iterable[str] | None = None, part: Part | None = None) -> Any:
    """The table of a file; only these columns, where the part says which it has.

    Raises
    ------
    FileProblem
        It cannot be read.

    """
    pa = arrow()
    from pyarrow import parquet  # noqa: PLC0415 - an optional package, and large

    try:
        with parquet.ParquetFile(path) as file:
            return file.read(_of_part(names, part))
    except (OSError, pa.ArrowException) as error:
        raise FileProblem(f"cannot read {path}: {str(error)[:200]}") from error


def batches(part: Part, names: Iterable[str], rows: int) -> Iterator[Any]:
    """The table of a file piece by piece, each of so many rows at most.

    Raises
    ------
    FileProblem
        It cannot be read.

    """
    pa = arrow()
    from pyarrow import parquet  # noqa: PLC0415 - as above

    try:
        with parquet.ParquetFile(part.path) as file, ThreadPoolExecutor(1) as beside:
            found = file.iter_batches(rows, columns=_of_part(names, part))
            # Arrow reads the next piece while this one is worked.
            coming = beside.submit(next, found, None)
            while (batch := coming.result()) is not None:
                coming = beside.submit(next, found, None)
                yield pa.Table.from_batches([batch])
    except (OSError, pa.ArrowException) as error:
        raise FileProblem(f"cannot read {part.path}: {str(error)[:200]}") from error


def with_columns(table: Any, units: Mapping[str, str]) -> Any:
    """A table with these columns in this order; those that it has not are of unknown quality."""
    pa = arrow()
    have = {*table.schema.names}
    if table.schema.names == [TIME, *(n for name in units for n in (name, f"{name}{QUALITY}"))]:
        return table
    arrays, fields = [table[TIME]], [table.schema.field(TIME)]
    for name, unit in units.items():
        code = f"{name}{QUALITY}"
        for one, field in (
            (name, value_field(name, unit)),
            (code, pa.field(code, _quality_kind())),
        ):
            arrays.append(table[one] if one in have else pa.nulls(table.num_rows, field.type))
            fields.append(table.schema.field(one) if one in have else field)
    return pa.Table.from_arrays(arrays, schema=pa.schema(fields, metadata=table.schema.metadata))


def _quality_kind() -> Any:
    pa = arrow()
    return pa.dictionary(pa.int8(), pa.string())
