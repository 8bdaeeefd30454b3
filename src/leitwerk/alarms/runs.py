"""From samples to trips and clears, over whole arrays.

Nothing here is done sample by sample: a sample is beyond the trip point, safe, or neither, and what
counts is when a run of equal ones begins and how long it lasts. Runs are few, samples are many.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.alarms.definition import AlarmDefinition
from leitwerk.alarms.states import Level
from leitwerk.parsing.durations import CLOSE_S

if TYPE_CHECKING:
    from numpy.typing import NDArray

CHUNK = 1 << 15  # samples that stay in the processor's cache
RUNS = 1 << 18  # that are worked at once
# What a sample says. Neither: between the points, or bad.
BEYOND, SAFE, NEITHER, OFF = 1, -1, 0, 2


def said(
    alarm: AlarmDefinition,
    watched: NDArray[np.float64],
    good: NDArray[np.bool_] | None,
    enabled: NDArray[np.bool_] | None,
) -> NDArray[np.int8]:
    """What each sample says: ``BEYOND``, ``SAFE``, ``NEITHER`` or ``OFF``."""
    if alarm.inside:
        beyond, safe = _inside(watched, alarm.trip), _outside(watched, alarm.clear)
    else:
        beyond, safe = _outside(watched, alarm.trip), _inside(watched, alarm.clear)
    codes = beyond.view(np.int8) - safe.view(np.int8)
    if good is not None:
        codes *= good.view(np.int8)
    if enabled is not None:
        codes[~enabled] = OFF
    return codes


def _inside(values: NDArray[np.float64], ends: tuple[float, float]) -> NDArray[np.bool_]:
    low, high = ends
    if math.isinf(low):
        return values <= high
    return values >= low if math.isinf(high) else (values >= low) & (values <= high)


def _outside(values: NDArray[np.float64], ends: tuple[float, float]) -> NDArray[np.bool_]:
    low, high = ends
    if math.isinf(low):
        return values > high
    return values < low if math.isinf(high) else (values < low) | (values > high)


def level_changes(
    alarm: AlarmDefinition,
    times_s: NDArray[np.float64],
    watched: NDArray[np.float64],
    good: NDArray[np.bool_] | None = None,
    enabled: NDArray[np.bool_] | None = None,
    *,
    gap_s: float = math.inf,
) -> tuple[NDArray[np.intp], NDArray[np.int8]]:
    """The samples at which the level of an alarm changes, and the ``Level`` from there on.

    Parameters
    ----------
    times_s, watched : arrays of shape (n,)
        Times in s, and what the alarm watches, NaN where bad.
    good, enabled : arrays of shape (n,), optional
        Which samples are good, and at which the alarm is watched at all.
    gap_s : float, in s
        Samples further apart do not belong together.

    """
    return LevelFollower(alarm, gap_s=gap_s).take(times_s, watched, good, enabled)


class LevelFollower:
    """The same piece by piece: what comes is found as if all pieces were one."""

    def __init__(self, alarm: AlarmDefinition, *, gap_s: float = math.inf) -> None:
        self.alarm, self.gap_s = alarm, gap_s
        self.level, self._tripped = int(Level.NORMAL), False
        # The last run so far, which may go on: what it says, since when, and its last time.
        self._code, self._since_s, self._last_s = np.int8(NEITHER), math.nan, math.nan

    def take(
        self,
        times_s: NDArray[np.float64],
        watched: NDArray[np.float64],
        good: NDArray[np.bool_] | None = None,
        enabled: NDArray[np.bool_] | None = None,
    ) -> tuple[NDArray[np.intp], NDArray[np.int8]]:
        """The changes in one piece, by the samples of the piece; parameters as for ``level_changes``."""
        found = []
        for start, end, code, since, rises in self._runs(times_s, watched, good, enabled):
            at, levels_there, self._tripped = _changes(
                self.alarm, times_s, start, end, code, since, tripped=self._tripped, rises=rises
            )
            new = levels_there != np.append(np.int8(self.level), levels_there[:-1])
            self.level = int(levels_there[-1])
            found.append((at[new], levels_there[new]))
            self._code, self._since_s, self._last_s = code[-1], float(since[-1]), float(times_s[-1])
        if not found:
            return np.zeros(0, np.intp), np.zeros(0, np.int8)
        return np.concatenate([at for at, _ in found]), np.concatenate([lev for _, lev in found])

    def _runs(
        self,
        times_s: NDArray[np.float64],
        watched: NDArray[np.float64],
        good: NDArray[np.bool_] | None,
        enabled: NDArray[np.bool_] | None,
    ) -> Iterator[
        tuple[NDArray[np.intp], NDArray[np.intp], NDArray[np.int8], NDArray[np.float64], bool]
    ]:
        """First and last sample of each run of samples that say the same, what they say, since when, and
        whether times only rise; many runs at once, and each whole.
        """
        starts: list[NDArray[np.intp]] = []
        said_there: list[NDArray[np.int8]] = []
        count, rises = 0, True
        last_code, last_s = self._code, self._last_s
        # A run of the piece before goes on, unless something ends it at the first sample.
        goes_on = False

        def whole(
            start: NDArray[np.intp], end: NDArray[np.intp], code: NDArray[np.int8]
        ) -> tuple[Any, ...]:
            since = times_s[start]
            if goes_on and start[0] == 0:
                since = since.copy()
                since[0] = self._since_s
            return start, end, code, since, rises

        for first in range(0, times_s.size, CHUNK):
            piece = slice(first, first + CHUNK)
            t = times_s[piece]
            codes = said(
                self.alarm,
                watched[piece],
                None if good is None else good[piece],
                None if enabled is None else enabled[piece],
            )
            is_start = np.empty(codes.size, np.bool_)
            ends = codes[0] != last_code or not 0.0 <= t[0] - last_s <= self.gap_s
            is_start[0] = first == 0 or ends
            if first == 0:
                goes_on = not ends
            np.not_equal(codes[1:], codes[:-1], out=is_start[1:])
            if math.isfinite(self.gap_s):
                is_start[1:] |= np.diff(t) > self.gap_s
            if (first and t[0] < last_s) or not (t[1:] >= t[:-1]).all():
                rises = False
                is_start[1:] |= t[1:] < t[:-1]
            here = np.flatnonzero(is_start)
            starts.append(first + here)
            said_there.append(codes[here])
            count += here.size
            last_code, last_s = codes[-1], float(t[-1])
            if count > RUNS:
                start, code = np.concatenate(starts), np.concatenate(said_there)
                yield whole(start[:-1], start[1:] - 1, code[:-1])
                # Where the last run ends is not known yet.
                starts, said_there, count = [start[-1:]], [code[-1:]], 1
        if starts:
            start, code = np.concatenate(starts), np.concatenate(said_there)
            yield whole(start, np.append(start[1:], times_s.size) - 1, code)


def _changes(
    alarm: AlarmDefinition,
    t: NDArray[np.float64],
    start: NDArray[np.intp],
    end: NDArray[np.intp],
    code: NDArray[np.int8],
    since: NDArray[np.float64],
    *,
    tripped: bool,
    rises: bool,
) -> tuple[NDArray[np.intp], NDArray[np.int8], bool]:
    """The changes of level that runs result in, and whether the alarm is tripped in the end."""
    # A run waits for the delay of the level that it leads to. NEITHER leads to none, and OFF at once.
    least = [max(0.0, s - CLOSE_S) for s in (alarm.delay_s, alarm.clear_delay_s)]
    delay = np.select([code == BEYOND, code == SAFE], least, 0.0)
    trips = code == BEYOND
    fires = (t[end] - since >= delay) & (code != NEITHER)
    # What each run that fires leaves behind holds until the next one that does.
    firing = np.flatnonzero(fires)
    after = np.repeat(
        np.append(tripped, trips[firing]), np.diff(np.concatenate(([0], firing, [start.size])))
    )
    before = np.append(tripped, after[:-1])
    # Only a run that fires against the state before it is a change; it comes late where it waits.
    turns = fires & (trips != before)
    late = np.flatnonzero(turns & (delay > 0.0))
    at = _reached(t, since[late], delay[late], start[late], end[late], rises=rises)
    late, at = late[at > start[late]], at[at > start[late]]

    # The level at the beginning of each run: tripped before, or now at once; else it may wait.
    tripped_now = before ^ turns
    tripped_now[late] = before[late]
    level = trips.astype(np.int8)  # PENDING
    level[tripped_now] = Level.TRIPPED
    level[code == OFF] = Level.OFF
    # A change is noted only where the level changes: at the beginning of a run, or later in it.
    ended = level.copy()
    ended[late] = np.where(trips[late], Level.TRIPPED, Level.NORMAL)
    noted = np.flatnonzero(np.append(True, level[1:] != ended[:-1]))
    index = np.concatenate((start[noted], at))
    order = np.argsort(index, kind="stable")
    return index[order], np.concatenate((level[noted], ended[late]))[order], bool(after[-1])


def _reached(
    t: NDArray[np.float64],
    since: NDArray[np.float64],
    delay: NDArray[np.float64],
    start: NDArray[np.intp],
    end: NDArray[np.intp],
    *,
    rises: bool,
) -> NDArray[np.intp]:
    """The first sample of each run at which it has lasted for its delay."""
    over = since + delay
    if rises:
        at = np.searchsorted(t, over)
    else:  # only within each run do times rise
        runs = zip(start.tolist(), end.tolist(), over.tolist(), strict=True)
        at = np.array([a + np.searchsorted(t[a : b + 1], o) for a, b, o in runs], np.intp)
    at = np.clip(at, start, end)
    # The sum above is rounded; what counts is the difference.
    while (early := t[at] - since < delay).any():
        at[early] += 1
    while (late := (at > start) & (t[np.maximum(at - 1, 0)] - since >= delay)).any():
        at[late] -= 1
    return at
