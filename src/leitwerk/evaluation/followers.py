"""Alarms and bands followed through a recording piece by piece, as if all pieces were one."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.alarms.bands import Bands
from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.inputs import change_within
from leitwerk.alarms.runs import LevelFollower
from leitwerk.alarms.states import Level
from leitwerk.signals.angles import wrapped

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class AlarmSpan:
    """A time in alarm, in s since 1970-01-01 UTC, and the value that lay furthest out.

    ``worst_s`` is when that was, ``beyond`` how far beyond the trip point.
    """

    begin_s: float
    end_s: float
    worst: float
    worst_s: float
    beyond: float

    @property
    def lasted_s(self) -> float:
        """How long, in s."""
        return self.end_s - self.begin_s

    def joined(self, later: AlarmSpan) -> AlarmSpan:
        """The span with what goes on from it."""
        worse = self if self.beyond >= later.beyond else later
        return AlarmSpan(self.begin_s, later.end_s, worse.worst, worse.worst_s, worse.beyond)


@dataclass(frozen=True, slots=True)
class FurthestOut:
    """The value that lay furthest beyond a trip point, when, and by how much."""

    value: float
    at_s: float
    beyond: float


class AlarmFollower:
    """Finds the times in alarm; ``furthest`` is the value furthest out, also where nothing tripped."""

    def __init__(self, alarm: AlarmDefinition, *, gap_s: float = math.inf) -> None:
        self.alarm, self._gap_s = alarm, gap_s
        self._levels = LevelFollower(alarm, gap_s=gap_s)
        self._open: AlarmSpan | None = None
        self._tail: tuple[Array, Array] = (np.zeros(0), np.zeros(0))
        self._spans: list[AlarmSpan] = []
        self.furthest: FurthestOut | None = None

    def take(self, times_s: Array, values: Array, other: Array | None) -> NDArray[np.bool_]:
        """Take samples, NaN where there is no good value; where they lie beyond the trip point."""
        seen = self._seen(times_s, values, other)
        low, high = self.alarm.trip
        if math.isinf(low):
            out = seen - high
        else:
            out = low - seen if math.isinf(high) else np.maximum(low - seen, seen - high)
        if self.alarm.inside:
            out = -out
        missing = np.isnan(seen)
        if missing.any():
            out[missing] = -np.inf
        self._look_at_worst(times_s, seen, out)
        begin = 0 if self._levels.level == Level.TRIPPED else -1
        at, levels = self._levels.take(times_s, seen)
        for sample, level in zip(at.tolist(), levels.tolist(), strict=True):
            if level == Level.TRIPPED and begin < 0:
                begin = sample
            elif level != Level.TRIPPED and begin >= 0:
                self._add(times_s, seen, out, begin, sample, float(times_s[sample]))
                self._close()
                begin = -1
        if begin >= 0:
            self._add(times_s, seen, out, begin, times_s.size, float(times_s[-1]))
        beyond: NDArray[np.bool_] = out >= 0.0 if self.alarm.inside else out > 0.0
        return beyond

    def spans(self) -> tuple[AlarmSpan, ...]:
        """All of them; one that has not ended ends with the last sample."""
        return (*self._spans, self._open) if self._open is not None else tuple(self._spans)

    def _look_at_worst(self, times_s: Array, seen: Array, out: Array) -> None:
        if not out.size:
            return
        k = int(np.argmax(out))
        least = 0.0 if self.furthest is None else self.furthest.beyond
        if out[k] > least:
            self.furthest = FurthestOut(float(seen[k]), float(times_s[k]), float(out[k]))

    def _add(
        self, times_s: Array, seen: Array, out: Array, begin: int, end: int, until_s: float
    ) -> None:
        since_s = float(times_s[begin]) if begin < times_s.size else until_s
        if begin == end:  # it ended with the first sample of this piece
            found = AlarmSpan(since_s, until_s, math.nan, until_s, -math.inf)
        else:
            k = begin + int(np.argmax(out[begin:end]))
            found = AlarmSpan(since_s, until_s, float(seen[k]), float(times_s[k]), float(out[k]))
        self._open = found if self._open is None else self._open.joined(found)

    def _close(self) -> None:
        if self._open is not None:
            self._spans.append(self._open)
            self._open = None

    def _seen(self, times_s: Array, values: Array, other: Array | None) -> Array:
        """What the alarm looks at."""
        alarm = self.alarm
        if alarm.watch is Watch.READING:
            return np.isnan(values).astype(float)
        if alarm.watch is Watch.DIFFERENCE:
            return wrapped(values - (alarm.nominal if other is None else other), alarm.turn)  # type: ignore[no-any-return]
        if alarm.watch is Watch.CHANGE:
            before = self._tail[0].size
            t = np.concatenate((self._tail[0], times_s))
            x = np.concatenate((self._tail[1], values))
            found: Array = change_within(t, x, alarm.window_s, self._gap_s, alarm.turn)[before:]
            # What may be looked back at from the next piece, and one sample more.
            first = max(0, int(np.searchsorted(t, t[-1] - alarm.window_s)) - 1) if t.size else 0
            self._tail = t[first:], x[first:]
            return found
        return values


class BandFollower:
    """Finds in which band each value lies."""

    def __init__(self, bands: Bands) -> None:
        self.bands = bands
        self._borders = [LevelFollower(border) for border in bands.borders()]

    def take(self, times_s: Array, values: Array) -> NDArray[np.intp]:
        """The number of the band at each sample, ``NO_BAND`` in gaps and where bad."""
        passed = np.zeros(values.size, np.intp)
        for border in self._borders:
            before = border.level == Level.TRIPPED
            at, level = border.take(times_s, values)
            lengths = np.diff(np.concatenate(([0], at, [values.size])))
            passed += np.repeat(np.append(before, level == Level.TRIPPED), lengths)
        return self.bands.numbers(passed, values)
