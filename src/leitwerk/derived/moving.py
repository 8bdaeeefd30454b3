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
        self.history.tables[0][place] = values
        starts, longest = self.history.starts(place)
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
        result: Array | None = None
        for level, table in enumerate(self.history.tables):
            if length >> level & 1:
                piece = table[end - size : end]
                # From the neutral element on, so that every window is folded in the same way.
                result = self.fold(self.neutral if result is None else result, piece)
                end -= 1 << level
        assert result is not None
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
        # For each row the time, the sum, and for a deviation the sum of squares.
        self._sums = _Doubling(rows * (3 if deviation else 2), window_s, np.add, 0.0)
        self._last_s = np.nan
        self._origin = np.full(rows, np.nan)

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        missing = np.isnan(x)
        some = bool(missing.any())
        self._begin_from(x, missing)
        # Values are taken from the first one on, so that a deviation keeps its digits.
        distance = x - self._origin
        weight = np.broadcast_to(self._since(times_s)[:, None], x.shape)
        if some:
            distance[missing] = 0.0
            weight = np.where(missing, 0.0, weight)
        parts = np.empty((x.shape[0], self._sums.columns))
        parts[:, : self._rows] = weight
        np.multiply(weight, distance, out=parts[:, self._rows : 2 * self._rows])
        if self._deviation:
            np.multiply(weight, distance**2, out=parts[:, 2 * self._rows :])
        found = self._sums.over(times_s, parts)
        weights = found[:, : self._rows]
        with np.errstate(invalid="ignore", divide="ignore"):
            result = found[:, self._rows : 2 * self._rows] / weights
            if self._deviation:
                square = found[:, 2 * self._rows :] / weights - result**2
                result = np.sqrt(np.maximum(square, 0.0))
            else:
                result += self._origin
        empty = weights == 0.0
        if empty.any():  # a sample for which no time has passed stands alone
            alone = np.where(missing, np.nan, 0.0) if self._deviation else x
            np.copyto(result, alone, where=empty)
        return _whole(result, self._sums)

    def _since(self, times_s: Array) -> Array:
        """The time since the sample before, at most that of the window; 0 for the very first."""
        since = np.empty(times_s.shape)
        np.subtract(times_s[1:], times_s[:-1], out=since[1:])
        first = times_s[0] - self._last_s
        since[0] = 0.0 if np.isnan(first) else first
        self._last_s = float(times_s[-1])
        return np.minimum(since, self._window_s, out=since)

    def _begin_from(self, x: Array, missing: NDArray[np.bool_]) -> None:
        if not np.any(open_ := np.isnan(self._origin)):
            return
        first = np.argmin(missing, axis=0)
        found = np.take_along_axis(x, first[None, :], axis=0)[0]
        self._origin = np.where(open_, found, self._origin)

    def state(self) -> dict[str, Any]:
        """See ``Memory``."""
        return {
            "last_s": plain(np.array([self._last_s])),
            "origin": plain(self._origin),
            "sums": self._sums.state(),
        }

    def resume(self, state: dict[str, Any]) -> None:
        """See ``Memory``."""
        self._last_s = float(numbers(state["last_s"])[0])
        self._origin = numbers(state["origin"])
        self._sums.resume(state["sums"])


def _whole(result: Array, found: _Doubling) -> Array:
    """No value where the window holds more samples than are kept."""
    if found.history.is_cut:
        result[...] = np.nan
    return result
