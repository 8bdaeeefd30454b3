"""Files of values over time as Parquet."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from leitwerk.analysis.series import Series, read_series
from leitwerk.errors import FileProblem
from leitwerk.recordings.tables import TIME, about_of, arrow, columns_of, series_of, table_of


def require_parquet() -> None:
    """Refuse early where Parquet cannot be written.

    Raises
    ------
    FileProblem
        The package is not there.

    """
    arrow()


def write_parquet(series: Series, path: Path, about: str = "") -> None:
    """Write a file whole or not at all.

    Parameters
    ----------
    series : Series
    path : Path
    about : str
        Of which device and setup the values are, as JSON; it is kept in the metadata of the schema.

    Raises
    ------
    FileProblem
        It cannot be written, or the package is not there.

    """
    write_table(table_of(series, about), path)


def write_table(table: Any, path: Path) -> None:
    """Write a table whole or not at all.

    Raises
    ------
    FileProblem
        It cannot be written.

    """
    from pyarrow import parquet  # noqa: PLC0415 - an optional package, and large

    temporary = path.with_name(f".{path.name}.new")
    try:
        parquet.write_table(table, temporary, compression="zstd")
        with temporary.open("rb") as file:
            os.fsync(file.fileno())
        temporary.replace(path)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        reason = error.strerror or type(error).__name__
        raise FileProblem(
            f"cannot write {path}: {reason}",
            remedy="is the folder there, writable, and the disk not full?",
        ) from error


def read_parquet(path: Path) -> tuple[Series, str]:
    """The series of a file, and of which device and setup it is.

    Raises
    ------
    FileProblem
        It cannot be read, or holds something else.

    """
    pa = arrow()
    from pyarrow import parquet  # noqa: PLC0415 - as above

    try:
        table = parquet.read_table(path, partitioning=None)
    except (OSError, pa.ArrowException) as error:
        raise FileProblem(f"cannot read {path}: {str(error)[:200]}") from error
    if TIME not in table.schema.names or not columns_of(table.schema):
        raise FileProblem(
            f"{path} does not hold values over time", remedy="a file that Leitwerk wrote"
        )
    return series_of(table), about_of(table.schema)


def csv_to_parquet(source: Path, target: Path, about: str) -> None:
    """Write a CSV file of values over time as Parquet.

    Raises
    ------
    FileProblem
        One of them cannot be read or written.
    QuantityError
        The CSV holds something else.

    """
    try:
        text = source.read_text("utf-8")
    except OSError as error:
        raise FileProblem(f"cannot read {source}: {error.strerror}") from error
    write_parquet(read_series(text), target, about)
