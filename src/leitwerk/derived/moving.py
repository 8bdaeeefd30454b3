"""Moving mean, minimum, maximum and deviation over a time.

Sums and extremes over a window come from tables that double: one of single samples, one of pairs, of fours
and so on, each ending at its sample. A window of 13 samples is the sum of 1, 4 and 8 of them. So nothing is
ever taken away from a running sum, no error builds up however long it runs, and a value that was
too large once leaves no trace.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.derived.history import History, numbers, plain
from leitwerk.derived.operations import Memory

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]
    Windows = tuple[NDArray[np.intp] | None, int]  # as History.starts gives them


_ROUNDING = 1e-9  # of a window: less than this is no time


class _Doubling:
    """Columns of numbers, folded over windows of any length."""

    def __init__(
        self, columns: int, window_s: float, fold: Callable[..., Any], neutral: float
    ) -> None:
        self.fold, self.neutral, self.columns = fold, neutral, columns
        self.history = History(columns, window_s, 1)

    def over(self, times_s: Array, values: Array) -> Array:
        """Take samples, of shape (n, columns); the same folded over the window of each."""
        place = self.history.add(times_s)
        return self.folded(place, values, self.history.starts(place))

    def folded(self, place: slice, values: Array, windows: Windows) -> Array:
        """As ``over``, for samples whose times are in the history already, with where their windows begin."""
        self.history.tables[0][place] = values
        starts, longest = windows
        tables = self.history.tables
        while 1 << len(tables) <= longest:  # a level of its own for the first time: for all samples
            tables.append(np.empty_like(tables[0]))
            self._double(len(tables) - 1, slice(0, place.start))
        for level in range(1, len(tables)):
            self._double(level, place)
        if starts is None:
            return self._alike(place, longest)
        ends = np.arange(place.start, place.stop)
        lengths = ends - starts + 1
        result = np.full(values.shape, self.neutral)
        for level, table in enumerate(tables):
            uses = (lengths >> level) & 1 == 1
            if np.any(uses):
                result[uses] = self.fold(result[uses], table[ends[uses]])
                ends = np.where(uses, ends - (1 << level), ends)
        return result

    def _alike(self, place: slice, length: int) -> Array:
        """As ``over``, where all windows have the same number of samples."""
        end, size = place.stop, place.stop - place.start
        # From the neutral element on, so that every window is folded in the same way.
        result: Array = np.empty((size, self.columns))
        folded: Any = self.neutral
        for level, table in enumerate(self.history.tables):
            if length >> level & 1:
                folded = self.fold(folded, table[end - size : end], out=result)
                end -= 1 << level
        return result

    def _double(self, level: int, place: slice) -> None:
        """Fill a place of a level from the one below it."""
        table, below, step = (
            self.history.tables[level],
            self.history.tables[level - 1],
            1 << (level - 1),
        )
        start = max(place.start, step)
        table[place.start : start] = below[place.start : start]
        if start < place.stop:
            self.fold(
                below[start : place.stop],
                below[start - step : place.stop - step],
                out=table[start : place.stop],
            )

    def state(self) -> dict[str, Any]:
        """The single samples: the other levels follow from them."""
        return {**self.history.state(1), "levels": len(self.history.tables)}

    def resume(self, state: dict[str, Any]) -> None:
        """Go on from a state."""
        self.history.resume(state)
        tables = self.history.tables
        for level in range(1, int(state["levels"])):
            tables.append(np.empty_like(tables[0]))
            self._double(level, slice(0, self.history.end))


class Extreme(Memory):
    """The smallest or the largest good value in (t - window, t]."""

    def __init__(
        self, rows: int, window_s: float, fold: Callable[..., Any], neutral: float
    ) -> None:
        self._found = _Doubling(rows, window_s, fold, neutral)

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        missing = np.isnan(x)
        if not missing.any():
            return _whole(self._found.over(times_s, x), self._found)
        result = self._found.over(times_s, np.where(missing, self._found.neutral, x))
        result[result == self._found.neutral] = np.nan
        return _whole(result, self._found)

    def state(self) -> dict[str, Any]:
        """See ``Memory``."""
        return self._found.state()

    def resume(self, state: dict[str, Any]) -> None:
        """See ``Memory``."""
        self._found.resume(state)


class Average(Memory):
    """The mean, or the standard deviation, of the good values in (t - window, t].

    Each value counts for the time since the sample before it, and at most for the window: a burst of
    samples weighs no more than the time that it takes. The deviation is that of the values about their mean,
    without Bessel's correction.
    """

    def __init__(self, rows: int, window_s: float, *, deviation: bool) -> None:
        self._window_s, self._deviation, self._rows = window_s, deviation, rows
        # For each row the sum, and for a deviation the sum of squares, each value by its time.
        self._sums = _Doubling(rows * (2 if deviation else 1), window_s, np.add, 0.0)
        # The time of missing values; none are kept before the first is missing.
        self._lost: _Doubling | None = None
        self._origin = np.full(rows, np.nan)

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        missing = np.isnan(x)
        some = bool(missing.any())
        self._begin_from(x, missing)
        # Values are taken from the first one on, so that a deviation keeps its digits.
        distance = x - self._origin
        if some:
            distance[missing] = 0.0
        history = self._sums.history
        place = history.add(times_s)
        since = self._since(place)[:, None]
        if self._deviation:
            values = np.empty((x.shape[0], 2 * self._rows))
            np.multiply(since, distance, out=values[:, : self._rows])
            np.multiply(values[:, : self._rows], distance, out=values[:, self._rows :])
        else:
            values = np.multiply(since, distance, out=distance)
        windows = history.starts(place)
        found = self._sums.folded(place, values, windows)
        weights = self._weights(place, windows)
        if some or self._lost is not None:
            lost = self._lost_time(times_s, place, np.where(missing, since, 0.0))
            # Where all are missing, the two sums may differ by their rounding.
            weights = np.where(weights - lost <= _ROUNDING * weights, 0.0, weights - lost)
        with np.errstate(invalid="ignore", divide="ignore"):
            sums = found[:, : self._rows]
            result: Array = np.divide(sums, weights, out=sums)
            if self._deviation:
                result = np.sqrt(np.maximum(found[:, self._rows :] / weights - result**2, 0.0))
            else:
                result += self._origin
        empty = weights <= 0.0
        if empty.any():  # a sample for which no time has passed stands alone
            alone = np.where(missing, np.nan, 0.0) if self._deviation else x
            np.copyto(result, alone, where=np.broadcast_to(empty, result.shape))
        return _whole(result, self._sums)

    def _since(self, place: slice) -> Array:
        """The time since the sample before, at most that of the window; 0 for the very first."""
        times, first = self._sums.history.times_s, max(place.start, 1)
        since = np.empty(place.stop - place.start)
        since[:1] = 0.0
        part = since[first - place.start :]
        np.subtract(times[first : place.stop], times[first - 1 : place.stop - 1], out=part)
        np.minimum(part, self._window_s, out=part)
        return since

    def _weights(self, place: slice, windows: Windows) -> Array:
        """The time of all values in the window of each sample, shape (n, 1)."""
        history = self._sums.history
        starts, longest = windows
        if starts is None:
            begin = slice(place.start - longest + 1, place.stop - longest + 1)
            first = history.times_s[begin]
            before = history.times_s[max(0, begin.start - 1) : begin.stop - 1]
            since = np.zeros(first.shape)
            np.subtract(
                first[first.size - before.size :], before, out=since[first.size - before.size :]
            )
        else:
            first = history.times_s[starts]
            since = np.where(starts > 0, first - history.times_s[np.maximum(starts - 1, 0)], 0.0)
        # Each counts for the time since the one before it: in all, that is the way from the first to this
        # one, and what the first one counts for.
        np.minimum(since, self._window_s, out=since)
        np.add(since, history.times_s[place] - first, out=since)
        return since[:, None]

    def _lost_time(self, times_s: Array, place: slice, lost: Array) -> Array:
        """The time of missing values in the window of each sample."""
        if self._lost is None:  # the first one: until now there was nothing to count
            self._lost = _Doubling(self._rows, self._window_s, np.add, 0.0)
            old = self._sums.history.times_s[: place.start].copy()
            if old.size:
                self._lost.over(old, np.zeros((old.size, self._rows)))
        return self._lost.over(times_s, lost)

    def _begin_from(self, x: Array, missing: NDArray[np.bool_]) -> None:
        if not np.any(open_ := np.isnan(self._origin)):
            return
        first = np.argmin(missing, axis=0)
        found = np.take_along_axis(x, first[None, :], axis=0)[0]
        self._origin = np.where(open_, found, self._origin)

    def state(self) -> dict[str, Any]:
        """See ``Memory``."""
        return {
            "origin": plain(self._origin),
            "sums": self._sums.state(),
            "lost": None if self._lost is None else self._lost.state(),
        }

    def resume(self, state: dict[str, Any]) -> None:
        """See ``Memory``."""
        self._origin = numbers(state["origin"])
        self._sums.resume(state["sums"])
        if state["lost"] is not None:
            self._lost = _Doubling(self._rows, self._window_s, np.add, 0.0)
            self._lost.resume(state["lost"])


def _whole(result: Array, found: _Doubling) -> Array:
    """No value where the window holds more samples than are kept."""
    if found.history.is_cut:
        result[...] = np.nan
    return result
