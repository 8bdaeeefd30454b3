"""Long series reduced to what can be drawn: as many columns as a picture has pixels, with every extreme."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_POINTS = 4  # of a column that are drawn: the first, the least, the greatest, the last


def _bounds(times_s: Array, begin_s: float, end_s: float, columns: int) -> NDArray[np.intp]:
    """Where each column begins among the samples, and where the last one ends."""
    edges = np.linspace(begin_s, end_s, columns + 1)
    found = np.searchsorted(times_s, edges, side="left")
    found[-1] = np.searchsorted(times_s, end_s, side="right")
    return found


def extremes(
    times_s: Array, values: Array, begin_s: float, end_s: float, columns: int
) -> tuple[Array, Array]:
    """The least and the greatest value in each of some columns of equal time.

    Parameters
    ----------
    times_s, values : arrays of shape (n,)
        The times never fall; NaN where there is no value.
    begin_s, end_s : float, in s
    columns : int

    Returns
    -------
    low, high : arrays of shape (columns,)
        NaN where there is no value.

    """
    bounds = _bounds(times_s, begin_s, end_s, columns)
    low, high = np.full(columns, np.nan), np.full(columns, np.nan)
    filled = np.flatnonzero(np.diff(bounds) > 0)
    if filled.size:
        part = values[: bounds[filled[-1] + 1]]
        low[filled] = np.fmin.reduceat(part, bounds[filled])
        high[filled] = np.fmax.reduceat(part, bounds[filled])
    return low, high


def reduced(
    times_s: Array, values: Array, columns: int, *, gap_s: float = np.inf
) -> tuple[Array, Array]:
    """A line of few points that looks like that of all samples in a picture of so many columns.

    In every column its extremes are exactly those of the samples. Samples further apart than ``gap_s`` are
    not joined: there is a NaN between them.

    Parameters
    ----------
    times_s, values : arrays of shape (n,)
        The times never fall; NaN where there is no value.
    columns : int
        Of the picture.
    gap_s : float, in s

    Returns
    -------
    times_s, values : arrays of shape (m,)

    """
    if times_s.size <= _POINTS * columns:
        return _broken(times_s, values, gap_s)
    begin_s, end_s = float(times_s[0]), float(times_s[-1])
    bounds = _bounds(times_s, begin_s, end_s, columns)
    low, high = extremes(times_s, values, begin_s, end_s, columns)
    filled = np.flatnonzero(np.diff(bounds) > 0)
    first, last = bounds[filled], bounds[filled + 1] - 1
    middle = (times_s[first] + times_s[last]) / 2.0
    t = np.column_stack([times_s[first], middle, middle, times_s[last]])
    x = np.column_stack([values[first], low[filled], high[filled], values[last]])
    return _broken(t.ravel(), x.ravel(), max(gap_s, 1.5 * (end_s - begin_s) / columns))


def _broken(times_s: Array, values: Array, gap_s: float) -> tuple[Array, Array]:
    """With a NaN in every gap."""
    gaps = np.flatnonzero(np.diff(times_s) > gap_s) + 1
    return np.insert(times_s, gaps, times_s[gaps]), np.insert(values, gaps, np.nan)
