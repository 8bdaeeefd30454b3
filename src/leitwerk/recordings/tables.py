"""Values over time as tables of Arrow: a column for each channel, with its unit, and one for its quality."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np

from leitwerk.analysis.series import Column, Series
from leitwerk.errors import FileProblem
from leitwerk.signals.quality import QUALITY_BY_REASON, Quality

ABOUT, _UNIT = b"leitwerk", b"unit"
TIME, QUALITY = "time", ".quality"
_WORDS = [quality.reason for quality in Quality]
_PLACE = np.zeros(256, np.int8)
_PLACE[[int(quality) for quality in Quality]] = np.arange(len(_WORDS))


def arrow() -> Any:
    """The package for tables, where it is there.

    Raises
    ------
    FileProblem
        It is not there.

    """
    try:
        import pyarrow as pa  # noqa: PLC0415 - an optional package, and large
    except ImportError:
        raise FileProblem(
            "Parquet needs the package pyarrow",
            remedy="pip install 'leitwerk[parquet]', or keep CSV",
        ) from None
    return pa


def table_of(series: Series, about: str) -> Any:
    """A series as a table; ``about`` is kept in the metadata of its schema."""
    pa = arrow()
    millis = np.round(series.times_s * 1000.0).astype(np.int64)
    kind = pa.timestamp("ms", tz="UTC") if series.dated else pa.duration("ms")
    fields, arrays = [pa.field(TIME, kind)], [pa.array(millis).cast(kind)]
    words = pa.array(_WORDS)
    for k, column in enumerate(series.columns):
        values = np.ascontiguousarray(series.values[:, k])
        fields.append(value_field(column.name, column.unit))
        arrays.append(pa.array(values, from_pandas=True))
        if series.qualities is None:
            codes = np.where(np.isnan(values), np.uint8(Quality.NO_NUMBER), np.uint8(Quality.GOOD))
        else:
            codes = series.qualities[:, k]
        arrays.append(pa.DictionaryArray.from_arrays(pa.array(_PLACE[codes]), words))
        fields.append(pa.field(f"{column.name}{QUALITY}", arrays[-1].type))
    return pa.Table.from_arrays(arrays, schema=pa.schema(fields, metadata={ABOUT: about.encode()}))


def value_field(name: str, unit: str) -> Any:
    """The field of a channel's values."""
    pa = arrow()
    return pa.field(name, pa.float64(), metadata={_UNIT: unit.encode()})


def columns_of(schema: Any) -> tuple[Column, ...]:
    """The channels of a table, with their units."""
    names = {*schema.names}
    return tuple(
        Column(field.name, (field.metadata or {}).get(_UNIT, b"").decode())
        for field in schema
        if f"{field.name}{QUALITY}" in names
    )


def about_of(schema: Any) -> str:
    """What a table says of its values."""
    return str((schema.metadata or {}).get(ABOUT, b"").decode())


def series_of(table: Any) -> Series:
    """The series of a table; columns without a quality are passed over."""
    return series_of_tables([table], columns_of(table.schema), table.num_rows)


def series_of_tables(tables: Iterable[Any], columns: tuple[Column, ...], rows: int) -> Series:
    """The series of tables one behind the other, each with these columns; one is held at a time."""
    pa = arrow()
    times = np.empty(rows)
    values = np.empty((rows, len(columns)), order="F")
    qualities = np.zeros(values.shape, np.uint8, order="F")
    begin, dated = 0, True
    for table in tables:
        piece = slice(begin, begin + table.num_rows)
        times[piece] = table[TIME].cast(pa.int64()).to_numpy()
        for k, column in enumerate(columns):
            _fill(values[piece, k], table[column.name], _numbers)
            _fill(qualities[piece, k], table[f"{column.name}{QUALITY}"], _codes)
        dated = pa.types.is_timestamp(table.schema.field(TIME).type)
        begin += table.num_rows
    return Series(columns, times / 1000.0, values, qualities, dated)


def _fill(place: Any, column: Any, read: Callable[[Any], Any]) -> None:
    begin = 0
    for chunk in column.chunks:
        place[begin : begin + len(chunk)] = read(chunk)
        begin += len(chunk)


def _numbers(chunk: Any) -> Any:
    return chunk.to_numpy(zero_copy_only=False)


def _codes(chunk: Any) -> Any:
    """The codes of qualities in words; what is missing or unknown is of unknown quality."""
    if not hasattr(chunk, "dictionary"):
        chunk = chunk.dictionary_encode()
    words, places = chunk.dictionary, chunk.indices
    if places.null_count:
        places = places.fill_null(len(words))
    numbers = places.to_numpy(zero_copy_only=False)
    if not numbers.any():  # all are alike: good, as most are
        return _code(words[0].as_py() if len(words) else None)
    found = np.array([*map(_code, words.to_pylist()), int(Quality.UNKNOWN)], np.uint8)
    return found[numbers]


def _code(word: str | None) -> int:
    return int(QUALITY_BY_REASON.get(word or "", Quality.UNKNOWN))
