"""Values that each stand for a time, and their integrals over intervals, gathered piece by piece."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.series import Series
from leitwerk.analysis.summary import JUDGED_ROWS, usual_interval, weights
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True)
class Steps:
    """Rows with the time for which each stands: shapes (n,), (n, n_columns), (n,); NaN without a value.

    ``flagged`` is where a value is left out because an event fell into it; None where there is none.
    """

    times_s: Array
    values: Array
    stands_s: Array
    flagged: NDArray[np.bool_] | None = None

    @property
    def end_s(self) -> float:
        """Until when the last row stands."""
        return float(self.times_s[-1] + self.stands_s[-1])


def steps_of(series: Series) -> Steps:
    """The rows of a recording, each until the next one, but over a gap for one interval: see ``weights``."""
    times = series.times_s
    return Steps(times, series.good(), weights(times, usual_interval(times)), flags_of(series))


def head_of(pieces: Iterator[Series]) -> list[Series]:
    """The first pieces of rows, until they show what interval is usual; empty where there are no rows."""
    found, rows = [], 0
    for piece in pieces:
        found.append(piece)
        rows += piece.times_s.size
        if rows >= JUDGED_ROWS:
            break
    return found if rows else []


def usual_intervals(head: Sequence[Series], places: Sequence[int]) -> list[float]:
    """How far apart, in s, most rows are that have a value in each of some columns; infinity if none are.

    The channels of a recording may have intervals of their own.
    """
    times = np.concatenate([piece.times_s for piece in head])[:JUDGED_ROWS]
    found = []
    for place in places:
        known = np.concatenate([piece.known()[:, place] for piece in head])[:JUDGED_ROWS]
        interval_s = usual_interval(times[~np.isnan(known)])
        found.append(math.inf if math.isnan(interval_s) else interval_s)
    return found


def flags_of(series: Series) -> NDArray[np.bool_] | None:
    """Where values are flagged, of shape (n, n_columns); None where there is none."""
    if series.qualities is None:
        return None
    flagged: NDArray[np.bool_] = series.qualities == Quality.FLAGGED
    return flagged if flagged.any() else None


def integrals(
    times_s: Array, values: Array, stands_s: Array, edges_s: Array
) -> tuple[Array, Array]:
    """The integral of each interval, and the time of it for which there are values.

    A value that stands across an edge is divided there.

    Parameters
    ----------
    times_s : array of shape (n,), in s, ascending
        When each value begins to stand.
    values : array of shape (n,)
        NaN where there is none.
    stands_s : array of shape (n,), in s
        For how long each one stands, at most until the next.
    edges_s : array of shape (m + 1,), in s, ascending
        Interval k runs from edge k to edge k + 1.

    Returns
    -------
    integrals : array of shape (m,), in the unit of the values times s
    covered : array of shape (m,), in s

    """
    good = np.isfinite(values)
    if good.all():
        covers, areas = stands_s, values * stands_s
    else:
        covers = np.where(good, stands_s, 0.0)
        areas = np.where(good, values, 0.0) * covers
    first = np.searchsorted(times_s, edges_s)
    if stands_s.max() > np.diff(edges_s).min():
        return _cut_at_every_edge(times_s, stands_s, edges_s, areas), _cut_at_every_edge(
            times_s, stands_s, edges_s, covers
        )
    found = _between(areas, first), _between(covers, first)
    # What stands across an edge belongs to the next interval from there on.
    row = np.maximum(first - 1, 0)
    over = np.where(first > 0, np.maximum(times_s[row] + stands_s[row] - edges_s, 0.0), 0.0)
    part = over / np.where(stands_s[row] > 0.0, stands_s[row], 1.0)
    for k, steps in enumerate((areas, covers)):
        moved = part * steps[row]
        found[k][:] += moved[:-1] - moved[1:]
    return found


def _between(steps: Array, first: NDArray[np.intp]) -> Array:
    """The sums of the rows from each index to the next one."""
    found = np.zeros(first.size - 1)
    filled = np.flatnonzero(first[1:] > first[:-1])
    if filled.size:
        found[filled] = np.add.reduceat(steps[: first[-1]], first[filled])
    return found


def _cut_at_every_edge(times_s: Array, stands_s: Array, edges_s: Array, steps: Array) -> Array:
    """The same for rows that stand longer than an interval lasts."""
    nodes = np.stack([times_s, times_s + stands_s], axis=1).ravel()
    run = np.cumsum(steps)
    sums = np.stack([run - steps, run], axis=1).ravel()
    found: Array = np.diff(np.interp(edges_s, nodes, sums))
    return found


class IntervalSums:
    """Integrals of one column over intervals, gathered piece by piece; memory grows with the intervals.

    Parameters
    ----------
    edges_of : callable
        The edges of the intervals that hold all of a time, from ... to ... in s.

    """

    def __init__(self, edges_of: Callable[[float, float], Array]) -> None:
        self._edges_of = edges_of
        self._begins: list[Array] = []
        self._sums: list[Array] = []
        self._from_s = self._to_s = 0.0

    def take(self, times_s: Array, values: Array, stands_s: Array) -> None:
        """Take values as ``integrals`` does; each piece behind the one before."""
        if not times_s.size:
            return
        end_s = float(times_s[-1] + stands_s[-1])
        if not self._begins:
            self._from_s = float(times_s[0])
        self._to_s = end_s
        edges = self._edges_of(float(times_s[0]), end_s)
        sums = np.stack(integrals(times_s, values, stands_s, edges))
        begins = edges[:-1]
        if self._begins and begins.size and self._begins[-1][-1] == begins[0]:
            self._sums[-1][:, -1] += sums[:, 0]
            begins, sums = begins[1:], sums[:, 1:]
        if begins.size:
            self._begins.append(begins)
            self._sums.append(sums)

    def found(self) -> tuple[Array, Array, Array]:
        """Edges of shape (m + 1,), integrals and covered times of shape (m,)."""
        if not self._begins:
            return np.zeros(1), np.zeros(0), np.zeros(0)
        edges = self._edges_of(self._from_s, self._to_s)
        sums = np.zeros((2, edges.size - 1))
        sums[:, np.searchsorted(edges, np.concatenate(self._begins))] = np.concatenate(
            self._sums, axis=1
        )
        return edges, sums[0], sums[1]
