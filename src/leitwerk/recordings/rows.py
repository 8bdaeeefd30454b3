"""Rows of a series: in order, each once, of a time, in other units."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.analysis.series import Column, Series, utc_text
from leitwerk.errors import QuantityError, UnitError
from leitwerk.parsing.units import convert, parse_unit

if TYPE_CHECKING:
    from numpy.typing import NDArray


def millis(times_s: NDArray[np.float64]) -> NDArray[np.int64]:
    """Times in whole ms, as files keep them."""
    found: NDArray[np.int64] = np.round(times_s * 1e3).astype(np.int64)
    return found


def rows_of(series: Series, chosen: Any) -> Series:
    """Some rows, by a mask, indices or a slice."""
    qualities = None if series.qualities is None else series.qualities[chosen]
    return replace(
        series, times_s=series.times_s[chosen], values=series.values[chosen], qualities=qualities
    )


def joined_rows(pieces: Sequence[Series]) -> Series:
    """Pieces of one recording, one behind the other: all have the same columns."""
    first = pieces[0]
    codes: NDArray[np.uint8] | None = None
    if any(piece.qualities is not None for piece in pieces):
        every = [
            np.zeros(p.values.shape, np.uint8) if p.qualities is None else p.qualities
            for p in pieces
        ]
        codes = np.concatenate(every)
    times = np.concatenate([piece.times_s for piece in pieces])
    values = np.concatenate([piece.values for piece in pieces])
    return replace(first, times_s=times, values=values, qualities=codes)


def sorted_by_time(series: Series) -> Series:
    """Rows in the order of time; those of one time stay as they stood."""
    times = series.times_s
    if np.all(times[1:] >= times[:-1]):
        return series
    return rows_of(series, np.argsort(times, kind="stable"))


def cut(series: Series, begin_s: float, end_s: float) -> Series:
    """The rows of a time; both ends count, and rows have to be in order."""
    first, last = np.searchsorted(series.times_s, (begin_s, np.nextafter(end_s, np.inf)))
    if first == 0 and last == series.times_s.size:
        return series
    return rows_of(series, slice(int(first), int(last)))


def sliced(series: Series, rows: int) -> Iterator[Series]:
    """Piece by piece, each of so many rows at most."""
    for begin in range(0, series.times_s.size, rows):
        yield rows_of(series, slice(begin, begin + rows))


def in_order(series: Series) -> Series:
    """Rows by time, each time once: copies of a row are left out.

    Raises
    ------
    QuantityError
        A row has no time, or two of one time differ.

    """
    if not np.isfinite(series.times_s).all():
        raise QuantityError("a row has no time", valid="rows with times in UTC")
    series = sorted_by_time(series)
    double = np.flatnonzero(np.diff(millis(series.times_s)) == 0)
    if not double.size:
        return series
    require_same(series, double, series, double + 1)
    keep = np.ones(series.times_s.size, bool)
    keep[double + 1] = False
    return rows_of(series, keep)


def require_same(one: Series, here: Any, other: Series, there: Any) -> None:
    """Refuse rows of one time that differ where both have the column.

    Parameters
    ----------
    one, other : Series
    here, there : indices of rows, of equal length
        Which rows of each are compared.

    Raises
    ------
    QuantityError
        Two of them differ.

    """
    places = {column.name: k for k, column in enumerate(other.columns)}
    for k, column in enumerate(one.columns):
        if column.name not in places:
            continue
        x, y = one.values[here, k], other.values[there, places[column.name]]
        differs = ~((x == y) | (np.isnan(x) & np.isnan(y)))
        if differs.any():
            at = int(np.flatnonzero(differs)[0])
            when = utc_text(float(one.times_s[np.asarray(here)[at]]))
            raise QuantityError(
                f"two rows of {when} differ: {column.name} is {x[at]:g} and {y[at]:g}",
                valid="one row for each time of a run",
                remedy="a correction is a version of its own; another run has another name",
            )


def in_units(series: Series, held: Mapping[str, str]) -> Series:
    """Columns in the units that they have already where they are kept.

    Raises
    ------
    QuantityError
        A column is of another kind there.

    """
    columns, values = list(series.columns), series.values
    for k, column in enumerate(series.columns):
        unit = held.get(column.name, column.unit)
        if unit == column.unit:
            continue
        try:
            changed = convert(values[:, k], parse_unit(column.unit), parse_unit(unit))
        except UnitError as error:
            raise QuantityError(
                f"{column.name} is kept in {unit or 'no unit'}, and is in {column.unit or 'no unit'} here",
                valid=error.valid,
                remedy="give the column another name",
            ) from None
        if values is series.values:
            values = values.copy()
        values[:, k] = changed
        columns[k] = Column(column.name, unit)
    return replace(series, columns=tuple(columns), values=values)
