"""The samples of the last while, and what each is worth in time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.parsing.durations import CLOSE_S

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

MOST = 1 << 17  # samples that a window can hold: with 17 levels, 18 MB for each channel


class History:
    """Times, and columns of numbers, of the samples within ``window_s`` before the newest.

    The columns lie in tables of shape (samples, rows), one after the other from ``begin`` to ``end``. What
    is older is dropped when the space is used up, and half of it at a time, so that a sample costs the same
    however long the window is.
    """

    def __init__(self, rows: int, window_s: float, tables: int) -> None:
        self.window_s = window_s
        self.end = 0
        self.times_s = np.empty(64)
        self.tables = [np.empty((64, rows)) for _ in range(tables)]
        self.is_cut = False  # whether samples of the window were dropped

    def add(self, times_s: Array) -> slice:
        """Make place for samples; the place in the tables."""
        need = self.end + times_s.size
        if need > self.times_s.size:
            self._make_room(times_s)
        place = slice(self.end, self.end + times_s.size)
        self.times_s[place] = times_s
        self.end = place.stop
        return place

    def starts(self, place: slice) -> tuple[NDArray[np.intp] | None, int]:
        """For the samples of a place, the first sample that is less than the window older.

        On a regular grid the distance is the same for all, and a look is cheaper than a search: then the
        first of the two is None. The second is the number of samples in the longest window.
        """
        after = self.times_s[place] - (self.window_s - CLOSE_S)
        times = self.times_s[: self.end]
        first = int(np.searchsorted(times, after[0], side="right"))
        if (times[first : first + after.size] > after).all():
            before = times[max(0, first - 1) : first - 1 + after.size]
            if (before <= after[after.size - before.size :]).all():
                return None, place.start - first + 1
        found = np.searchsorted(times, after, side="right")
        return found, int((np.arange(place.start, place.stop) - found).max()) + 1

    def _make_room(self, times_s: Array) -> None:
        oldest = int(
            np.searchsorted(self.times_s[: self.end], times_s[0] - self.window_s, side="left")
        )
        # One before the window says what the value was when the window began.
        first = max(0, oldest - 1)
        if self.end - first > MOST:
            first, self.is_cut = self.end - MOST, True
        kept = self.end - first
        size = max(64, 1 << (2 * kept + times_s.size - 1).bit_length())
        enough = kept + times_s.size <= self.times_s.size and 2 * kept <= self.times_s.size
        if enough:  # in place: what is moved lies clear of where it goes
            self.times_s[:kept] = self.times_s[first : self.end]
        else:
            self.times_s = _longer(self.times_s[first : self.end], size)
        for number, table in enumerate(self.tables):
            if enough:
                table[:kept] = table[first : self.end]
            else:
                self.tables[number] = _longer(table[first : self.end], size)
        self.end = kept

    def state(self, tables: int) -> dict[str, Any]:
        """The samples that are still needed, with the first tables, as plain data."""
        return {
            "times_s": self.times_s[: self.end].tolist(),
            "tables": [plain(table[: self.end]) for table in self.tables[:tables]],
        }

    def resume(self, state: dict[str, Any]) -> None:
        """Go on from a state."""
        times = np.array(state["times_s"], dtype=np.float64)
        self.end = times.size
        size = max(64, 1 << (2 * times.size).bit_length())
        self.times_s = np.empty(size)
        self.times_s[: self.end] = times
        for number, kept in enumerate(state["tables"]):
            rows = self.tables[number].shape[1]
            self.tables[number] = np.empty((size, rows))
            self.tables[number][: self.end] = numbers(kept).reshape(-1, rows)


def _longer(array: Array, size: int) -> Array:
    """The same numbers in an array with space behind them."""
    fresh = np.empty((size, *array.shape[1:]))
    fresh[: array.shape[0]] = array
    return fresh


def plain(array: Array) -> list[Any]:
    """An array as a list for JSON, which has neither NaN nor infinity: they are texts."""
    return [x if np.isfinite(x) else str(x) for x in array.ravel().tolist()]


def numbers(kept: Any) -> Array:
    """The array, flat, that ``plain`` was made of."""
    return np.array([float(x) for x in kept], dtype=np.float64)
