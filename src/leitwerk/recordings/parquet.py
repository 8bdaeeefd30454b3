"""Values over time as Parquet: a column for each channel with its unit, and one for its quality in words."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import numpy as np

from leitwerk.analysis.series import Column, Series, read_series
from leitwerk.errors import FileProblem
from leitwerk.signals.quality import QUALITY_BY_REASON, Quality

_ABOUT, _UNIT = b"leitwerk", b"unit"
_QUALITY = ".quality"


def _arrow() -> Any:
    try:
        import pyarrow as pa  # noqa: PLC0415 - an optional package, and large
    except ImportError:
        raise FileProblem(
            "Parquet needs the package pyarrow",
            remedy="pip install 'leitwerk[parquet]', or keep CSV",
        ) from None
    return pa


def require_parquet() -> None:
    """Refuse early where Parquet cannot be written.

    Raises
    ------
    FileProblem
        The package is not there.

    """
    _arrow()


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
    table = _table(series, about)
    from pyarrow import parquet  # noqa: PLC0415 - as above

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


def _table(series: Series, about: str) -> Any:
    arrow = _arrow()
    millis = np.round(series.times_s * 1000.0).astype(np.int64)
    kind = arrow.timestamp("ms", tz="UTC") if series.dated else arrow.duration("ms")
    fields = [arrow.field("time", kind)]
    arrays = [arrow.array(millis).cast(kind)]
    words = arrow.array([quality.reason for quality in Quality])
    number = {int(quality): k for k, quality in enumerate(Quality)}
    for k, column in enumerate(series.columns):
        values = series.values[:, k]
        fields.append(
            arrow.field(column.name, arrow.float64(), metadata={_UNIT: column.unit.encode()})
        )
        arrays.append(arrow.array(values, mask=np.isnan(values)))
        codes = np.zeros(values.size, np.uint8)
        if series.qualities is not None:
            codes = series.qualities[:, k]
        places = np.array([number.get(code, 0) for code in range(256)], np.int8)[codes]
        arrays.append(arrow.DictionaryArray.from_arrays(arrow.array(places), words))
        fields.append(arrow.field(f"{column.name}{_QUALITY}", arrays[-1].type))
    schema = arrow.schema(fields, metadata={_ABOUT: about.encode()})
    return arrow.Table.from_arrays(arrays, schema=schema)


def read_parquet(path: Path) -> tuple[Series, str]:
    """The series of a file, and of which device and setup it is.

    Raises
    ------
    FileProblem
        It cannot be read, or holds something else.

    """
    arrow = _arrow()
    from pyarrow import parquet  # noqa: PLC0415 - as above

    try:
        table = parquet.read_table(path)
    except (OSError, arrow.ArrowInvalid) as error:
        raise FileProblem(f"cannot read {path}: {str(error)[:200]}") from error
    schema = table.schema
    names = [name for name in schema.names if f"{name}{_QUALITY}" in schema.names]
    if "time" not in schema.names or not names:
        raise FileProblem(
            f"{path} does not hold values over time", remedy="a file that Leitwerk wrote"
        )
    columns = tuple(
        Column(name, (schema.field(name).metadata or {}).get(_UNIT, b"").decode()) for name in names
    )
    times = table["time"].cast(arrow.int64()).to_numpy() / 1000.0
    values = np.column_stack([table[name].to_numpy(zero_copy_only=False) for name in names])
    codes = [
        [
            QUALITY_BY_REASON.get(word, Quality.UNKNOWN)
            for word in table[f"{n}{_QUALITY}"].to_pylist()
        ]
        for n in names
    ]
    qualities = np.array(codes, np.uint8).T.reshape(values.shape)
    dated = arrow.types.is_timestamp(schema.field("time").type)
    about = (schema.metadata or {}).get(_ABOUT, b"").decode()
    return Series(columns, times, values.astype(np.float64), qualities, dated), about


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
