"""Operations that remember little: the sample before, a running total, since when something is so."""

from __future__ import annotations

import math
from collections.abc import Callable
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.derived.history import History, numbers, plain
from leitwerk.derived.operations import Memory
from leitwerk.parsing.durations import CLOSE_S

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]
    GapS = float | Array
    Starts = Callable[[Array], Array]
    """For times in s, when the day (or another period) of each began."""


class Previous(Memory):
    """What several have in common: the good sample before each.

    A good sample older than ``gap_s``, in s, one number or one for each row, does not count. A kind says what
    it remembers beside that in ``kept``, arrays of a number for each row by name.
    """

    def __init__(self, rows: int, gap_s: GapS) -> None:
        self.gap_s = gap_s
        self.time_s, self.value = np.full(rows, np.nan), np.full(rows, np.nan)
        self.kept: dict[str, Array] = {}

    def before(self, times_s: Array, x: Array) -> tuple[Array, Array]:
        """Time and value of the good sample before each, NaN where there is none near enough."""
        count = times_s.size
        good = ~np.isnan(x)
        if count == 1:  # one sample of many channels: what is remembered is the answer
            t, value = self.time_s[None, :], self.value[None, :]
            self.time_s = np.where(good[0], times_s[0], self.time_s)
            self.value = np.where(good[0], x[0], self.value)
        elif good.all():
            t, value = np.empty(x.shape), np.empty(x.shape)
            t[0], value[0] = self.time_s, self.value
            t[1:], value[1:] = times_s[:-1, None], x[:-1]
            self.time_s, self.value = np.full_like(self.time_s, times_s[-1]), x[-1].copy()
        else:
            newest = np.maximum.accumulate(np.where(good, np.arange(count)[:, None], -1), axis=0)
            earlier = np.vstack([np.full((1, x.shape[1]), -1), newest[:-1]])
            place = np.maximum(earlier, 0)
            t = np.where(earlier < 0, self.time_s, times_s[place])
            value = np.where(earlier < 0, self.value, np.take_along_axis(x, place, axis=0))
            last = newest[-1]
            self.time_s = np.where(last < 0, self.time_s, times_s[np.maximum(last, 0)])
            found = np.take_along_axis(x, np.maximum(last, 0)[None, :], axis=0)[0]
            self.value = np.where(last < 0, self.value, found)
        far = times_s[:, None] - t > self.gap_s + CLOSE_S
        if far.any():
            t, value = np.where(far, np.nan, t), np.where(far, np.nan, value)
        return t, value

    def state(self) -> dict[str, Any]:
        """See ``Memory``."""
        every = {"time_s": self.time_s, "value": self.value, **self.kept}
        return {name: plain(array) for name, array in every.items()}

    def resume(self, state: dict[str, Any]) -> None:
        """See ``Memory``."""
        self.time_s, self.value = numbers(state["time_s"]), numbers(state["value"])
        self.kept = {name: numbers(state[name]) for name in self.kept}


class Rate(Previous):
    """The change from the good sample before, per second."""

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        t, value = self.before(times_s, x)
        passed = times_s[:, None] - t
        with np.errstate(all="ignore"):
            return np.where(passed > 0.0, (x - value) / passed, np.nan)


class Held(Previous):
    """The last good value, as long as it is no older than a gap may be."""

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        _, value = self.before(times_s, x)
        return np.where(np.isnan(x), value, x)


class LowPass(Previous):
    """A first-order low-pass: after ``constant_s``, 63 % of a step have come through."""

    def __init__(self, rows: int, gap_s: GapS, constant_s: float) -> None:
        super().__init__(rows, gap_s)
        self._constant_s = constant_s
        self.kept = {"level": np.full(rows, np.nan)}

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        t, _ = self.before(times_s, x)
        share = -np.expm1((t - times_s[:, None]) / self._constant_s)  # NaN: it begins anew
        result = np.empty(x.shape)
        level = self.kept["level"]
        if x.shape[1] == 1:  # plain numbers are much quicker than arrays of one
            result[:, 0], level = self._one(x[:, 0], share[:, 0], float(level[0]))
        else:
            for k in range(times_s.size):
                moved = level + (x[k] - level) * share[k]
                moved = np.where(np.isnan(share[k]), x[k], moved)
                result[k] = moved
                level = np.where(np.isnan(x[k]), level, moved)
        self.kept["level"] = level
        return result

    @staticmethod
    def _one(x: Array, share: Array, level: float) -> tuple[list[float], Array]:
        result = []
        for value, part in zip(x.tolist(), share.tolist(), strict=True):
            if value != value:
                result.append(value)
                continue
            level = level + (value - level) * part if part == part else value
            result.append(level)
        return result, np.array([level])


class Total(Previous):
    """The integral over time by trapezoids, in unit · s, since the start or the period's.

    A gap between two good samples that is longer than ``gap_s`` adds nothing.
    """

    def __init__(self, rows: int, gap_s: GapS, starts: Starts | None) -> None:
        super().__init__(rows, gap_s)
        self._starts = starts
        self.kept = {"sum": np.zeros(rows), "period": np.full(rows, np.nan)}

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        t, value = self.before(times_s, x)
        begins = None if self._starts is None else self._starts(times_s)
        now = times_s[:, None]
        with np.errstate(invalid="ignore"):
            if begins is None:
                added = (x + value) * 0.5 * (now - t)
            else:  # of what lies across the beginning of a period, only the part behind it
                since = np.maximum(t, begins[:, None])
                at_since = value + (x - value) * ((since - t) / np.where(now > t, now - t, 1.0))
                added = (x + at_since) * 0.5 * (now - since)
        return self.summed(added, begins, x)

    def summed(self, added: Array, begins: Array | None, x: Array) -> Array:
        """Running sums of what is added, from 0 at the beginning of each period."""
        unknown = np.isnan(added)
        if unknown.any():
            added[unknown] = 0.0
        cuts = [0, added.shape[0]]
        if begins is not None:
            period = float(self.kept["period"][0])
            if not math.isnan(period) and begins[0] != period:
                self.kept["sum"] = np.zeros_like(self.kept["sum"])
            cuts[1:1] = (np.flatnonzero(np.diff(begins)) + 1).tolist()
            self.kept["period"] = np.full_like(self.kept["period"], begins[-1])
        result = np.empty(added.shape)
        for first, end in pairwise(cuts):
            carried = self.kept["sum"] if first == 0 else np.zeros_like(self.kept["sum"])
            added[first] += carried
            np.cumsum(added[first:end], axis=0, out=result[first:end])
            self.kept["sum"] = result[end - 1].copy()
        missing = np.isnan(x)
        if missing.any():
            result[missing] = np.nan
        return result


class Count(Total):
    """How often a condition came true, since the start or the period's."""

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        _, value = self.before(times_s, x)
        begins = None if self._starts is None else self._starts(times_s)
        return self.summed(((x == 1.0) & (value == 0.0)).astype(np.float64), begins, x)


class Increase(Total):
    """The pulses of a counter that rolls over, since the start or the period's.

    A step backwards of half of the counter or more is a roll-over; a smaller one is a counter that was set
    back to 0. Over a gap it has gone on counting: nothing is lost unless it rolls over more than once.
    """

    def __init__(self, rows: int, modulus: float, starts: Starts | None) -> None:
        super().__init__(rows, math.inf, starts)
        self._modulus = modulus

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        _, value = self.before(times_s, x)
        begins = None if self._starts is None else self._starts(times_s)
        step = x - value
        over = np.where(-step < self._modulus / 2.0, x, step + self._modulus)
        return self.summed(np.where(step < 0.0, over, step), begins, x)


class Gaps(Total):
    """The time, in s, that lies in gaps longer than ``longest_s``, since the start or the period's."""

    def __init__(self, rows: int, longest_s: GapS, starts: Starts | None) -> None:
        super().__init__(rows, math.inf, starts)
        self._longest_s = longest_s

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        t, _ = self.before(times_s, x)
        begins = None if self._starts is None else self._starts(times_s)
        now = times_s[:, None]
        since = t if begins is None else np.maximum(t, begins[:, None])
        with np.errstate(invalid="ignore"):
            lost = np.where((now - t > self._longest_s + CLOSE_S) & ~np.isnan(x), now - since, 0.0)
        return self.summed(lost, begins, x)


class OnALine(Memory):
    """The value that was there ``late_s`` before, on a line between the good samples about that moment.

    The two are no further apart than ``late_s``, so that the second has always come by now. A value that
    changes by ``steps`` is that of the first.
    """

    def __init__(self, rows: int, late_s: float, *, steps: bool) -> None:
        self._late_s, self._steps = late_s, steps
        self._history = History(rows, 2.0 * late_s, 1)

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        place = self._history.add(times_s)
        self._history.tables[0][place] = x
        times = self._history.times_s[: place.stop]
        result = np.full(x.shape, np.nan)
        for column, values in enumerate(self._history.tables[0][: place.stop].T):
            good = np.flatnonzero(~np.isnan(values))
            if good.size:
                self._line(place, times, good, values[good], result[:, column])
        return result

    def _line(
        self, place: slice, times: Array, good: NDArray[np.intp], values: Array, out: Array
    ) -> None:
        t, moments = times[good], times[place] - self._late_s
        first = np.searchsorted(t, moments + CLOSE_S, side="right") - 1
        after = np.minimum(first + 1, good.size - 1)
        begin, end = t[np.maximum(first, 0)], t[after]
        has_come = (first + 1 < good.size) & (good[after] <= np.arange(place.start, place.stop))
        low, high = values[np.maximum(first, 0)], values[after]
        on_it = begin >= moments - CLOSE_S
        near = has_come & (end - begin <= self._late_s + CLOSE_S)
        with np.errstate(all="ignore"):
            line = low + (high - low) * ((moments - begin) / (end - begin))
        line = low if self._steps else line
        out[...] = np.where(first < 0, np.nan, np.where(on_it, low, np.where(near, line, np.nan)))

    def state(self) -> dict[str, Any]:
        """See ``Memory``."""
        return self._history.state(1)

    def resume(self, state: dict[str, Any]) -> None:
        """See ``Memory``."""
        self._history.resume(state)


class Lasting(Previous):
    """For how long a condition holds already, in s; 0 while it does not."""

    def __init__(self, rows: int, gap_s: GapS) -> None:
        super().__init__(rows, gap_s)
        self.kept = {"since_s": np.full(rows, -np.inf)}

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        _, value = self.before(times_s, x)
        begins = (x == 1.0) & (value != 1.0)
        since = np.where(begins, times_s[:, None], -np.inf)
        since[0] = np.maximum(since[0], self.kept["since_s"])
        since = np.maximum.accumulate(since, axis=0)
        self.kept["since_s"] = since[-1]
        held = np.where(x == 1.0, times_s[:, None] - since, 0.0)
        return np.where(np.isnan(x), np.nan, held)


class Settled(Memory):
    """A value that changes by steps, shown once it has stayed the same for ``time_s`` by the clock.

    Until then the one before is shown, or none. A value that is missing is shown as missing at once, and
    what comes after it has to settle, too.
    """

    def __init__(self, rows: int, settle_s: float, *, keeps: bool) -> None:
        self._settle_s, self._keeps = settle_s, keeps
        self._kept = {
            "value": np.full(rows, np.nan),
            "since_s": np.full(rows, -np.inf),
            "shown": np.full(rows, np.nan),
        }

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        kept = self._kept
        before = np.vstack([kept["value"][None, :], x[:-1]])
        changes = ~((x == before) | (np.isnan(x) & np.isnan(before)))
        since = np.where(changes, times_s[:, None], -np.inf)
        since[0] = np.maximum(since[0], kept["since_s"])
        since = np.maximum.accumulate(since, axis=0)
        settled = ~np.isnan(x) & (times_s[:, None] - since >= self._settle_s - CLOSE_S)
        kept["value"], kept["since_s"] = x[-1].copy(), since[-1]
        if not self._keeps:
            return np.where(settled, x, np.nan)
        # What is shown last, up to each sample: a settled value, or the loss of one.
        count = x.shape[0]
        known = settled | np.isnan(x)
        newest = np.maximum.accumulate(np.where(known, np.arange(count)[:, None], -1), axis=0)
        found = np.take_along_axis(x, np.maximum(newest, 0), axis=0)
        shown: Array = np.where(newest < 0, kept["shown"], found)
        kept["shown"] = shown[-1].copy()
        return shown

    def state(self) -> dict[str, Any]:
        """See ``Memory``."""
        return {name: plain(array) for name, array in self._kept.items()}

    def resume(self, state: dict[str, Any]) -> None:
        """See ``Memory``."""
        self._kept = {name: numbers(state[name]) for name in self._kept}


class Earlier(Previous):
    """The value that was there ``window_s`` before."""

    def __init__(self, rows: int, gap_s: GapS, window_s: float) -> None:
        super().__init__(rows, gap_s)
        self._history = History(rows, window_s, 1)

    def run(self, times_s: Array, *arguments: Array) -> Array:
        """See ``Memory``."""
        (x,) = arguments
        _, value = self.before(times_s, x)
        place = self._history.add(times_s)
        self._history.tables[0][place] = np.where(np.isnan(x), value, x)
        starts, longest = self._history.starts(place)
        if starts is None:
            starts = np.arange(place.start, place.stop) - (longest - 1)
        at = starts - 1
        found = self._history.tables[0][np.maximum(at, 0)]
        age_s = times_s - self._history.times_s[np.maximum(at, 0)]
        late = age_s[:, None] > self._history.window_s + self.gap_s
        return np.where((at < 0)[:, None] | late, np.nan, found)

    def state(self) -> dict[str, Any]:
        """See ``Memory``."""
        return {**super().state(), "history": self._history.state(1)}

    def resume(self, state: dict[str, Any]) -> None:
        """See ``Memory``."""
        super().resume(state)
        self._history.resume(state["history"])
