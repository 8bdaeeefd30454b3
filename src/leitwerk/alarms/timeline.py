"""An alarm followed through a whole recording."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.runs import level_changes
from leitwerk.alarms.states import (
    Acknowledgement,
    Level,
    OperatorAction,
    State,
    TimedAction,
    state_table,
)
from leitwerk.parsing.frames import dataframe

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import ArrayLike, NDArray


@dataclass(frozen=True)
class Timeline:
    """The states of one alarm: ``state[k]`` from sample ``sample[k]``, at ``time_s[k]``, on.

    Before the first of them the alarm is normal. ``count`` is the number of samples.
    """

    alarm: AlarmDefinition
    count: int
    sample: NDArray[np.intp]
    time_s: NDArray[np.float64]
    state: NDArray[np.uint8]

    def strip(self) -> NDArray[np.uint8]:
        """The ``State`` at every sample, an array of shape (count,)."""
        lengths = np.diff(np.concatenate(([0], self.sample, [self.count])))
        return np.repeat(np.append(np.uint8(State.NORMAL), self.state), lengths)

    @property
    def trips(self) -> int:
        """How often it has tripped, as far as people could see it."""
        return int(np.count_nonzero(self.state == State.UNACKNOWLEDGED))

    def to_dataframe(self) -> pd.DataFrame:
        """A row for each change: ``time_s`` as its index, ``sample`` and ``state`` in words."""
        columns = {
            "time_s": self.time_s,
            "sample": self.sample,
            "state": State.describe(self.state),
        }
        return dataframe(columns, {"time_s": "s"}, "time_s")

    def __repr__(self) -> str:
        return f"<Timeline of {self.alarm.name}: {self.state.size} changes in {self.count} samples>"

    def to_dict(self) -> dict[str, Any]:
        """The alarm, and each change with its time, for JSON."""
        changes = zip(self.time_s.tolist(), self.state.tolist(), strict=True)
        return {
            "alarm": self.alarm.name,
            "severity": self.alarm.severity,
            "changes": [{"time_s": time, "state": State(state).words} for time, state in changes],
        }


def alarm_timeline(
    alarm: AlarmDefinition,
    times_s: ArrayLike,
    watched: ArrayLike,
    *,
    good: ArrayLike | None = None,
    enabled: ArrayLike | None = None,
    actions: Sequence[TimedAction] = (),
    gap_s: float = math.inf,
) -> Timeline:
    """Follow an alarm through a recording.

    Parameters
    ----------
    times_s : array_like of shape (n,), in s
        It may step back and repeat; a wait begins anew where it steps back.
    watched : array_like of shape (n,)
        What the alarm looks at: the value, its ``change`` or ``difference``. NaN counts as bad.
    good : array_like of shape (n,), optional
        Which values are good; all that are not NaN when not given.
    enabled : array_like of shape (n,), optional
        Where the alarm is watched at all; it is suppressed, and begins anew, elsewhere.
    actions : sequence of TimedAction
        What operators did, in the order of their samples.
    gap_s : float, in s
        Samples further apart than this do not belong together: a wait begins anew.

    Examples
    --------
    >>> hot = AlarmDefinition.above("hot", 78.0, 75.0, delay_s=30.0)
    >>> line = alarm_timeline(hot, [0.0, 30.0, 60.0], [80.0, 79.0, 75.0])
    >>> State.describe(line.state).tolist()
    ['pending', 'unacknowledged', 'normal']

    """
    t, x = np.asarray(times_s, dtype=np.float64), np.asarray(watched, dtype=np.float64)
    is_good = None if good is None else np.asarray(good, dtype=bool)
    is_enabled = None if enabled is None else np.asarray(enabled, dtype=bool)
    if alarm.watch is Watch.READING:
        bad = ~np.isfinite(x)
        x, is_good = (bad if is_good is None else bad | ~is_good).astype(float), None
    sample, level = level_changes(alarm, t, x, is_good, is_enabled, gap_s=gap_s)
    at, state = _states(alarm, t, sample, level, actions)
    return Timeline(alarm, int(t.size), at, t[at], state)


def _states(
    alarm: AlarmDefinition,
    times_s: NDArray[np.float64],
    sample: NDArray[np.intp],
    level: NDArray[np.int8],
    actions: Sequence[TimedAction],
) -> tuple[NDArray[np.intp], NDArray[np.uint8]]:
    """The states that result from changes of level and operator actions, each change once."""
    table = np.array(state_table(latch=alarm.latch, acknowledge=alarm.acknowledge), np.uint8)
    standing, now = Acknowledgement(), Level.NORMAL
    found_at, found = [], []
    first = 0
    for timed in (*_with_ends(actions, times_s), None):
        last = sample.size if timed is None else int(np.searchsorted(sample, timed.sample))
        at, piece = sample[first:last], level[first:last]
        unacknowledged, latched = _marks(piece, standing)
        found_at.append(at)
        if standing.is_hidden:
            hidden = State.OUT_OF_SERVICE if standing.out_of_service else State.SHELVED
            found.append(np.full(at.size, hidden, np.uint8))
        else:
            found.append(table[piece, 2 * unacknowledged.view(np.int8) + latched.view(np.int8)])
        if at.size:
            now = Level(int(piece[-1]))
            standing = Acknowledgement(
                bool(unacknowledged[-1]),
                bool(latched[-1]),
                standing.shelved_until_s,
                standing.out_of_service,
            )
        if timed is None:
            break
        standing = standing.after(timed, tripped=now is Level.TRIPPED)
        first = last
        found_at.append(np.array([timed.sample], np.intp))
        if standing.is_hidden:
            state = State.OUT_OF_SERVICE if standing.out_of_service else State.SHELVED
        else:
            state = State(int(table[now, 2 * standing.unacknowledged + standing.latched]))
        found.append(np.array([state], np.uint8))
    at, states = np.concatenate(found_at), np.concatenate(found)
    # Of several at one sample the last one counts, and only what differs from before is a change.
    keep = np.append(at[1:] != at[:-1], [True])[: at.size] & (at < times_s.size)
    at, states = at[keep], states[keep]
    new = states != np.append(np.uint8(State.NORMAL), states[:-1])[: states.size]
    return at[new], states[new]


def _marks(
    level: NDArray[np.int8], standing: Acknowledgement
) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """At each change of the level: whether the alarm is unacknowledged, and whether latched."""
    order = np.arange(level.size)
    tripped = np.maximum.accumulate(np.where(level == Level.TRIPPED, order, -1))
    wiped = np.maximum.accumulate(np.where(level == Level.OFF, order, -1))
    neither = (tripped < 0) & (wiped < 0)
    marked = tripped > wiped
    return marked | (neither & standing.unacknowledged), marked | (neither & standing.latched)


def _with_ends(
    actions: Sequence[TimedAction], times_s: NDArray[np.float64]
) -> Iterator[TimedAction]:
    """The actions, with the end of each shelving, when its time has come."""
    end: int | None = None
    for timed in actions:
        if end is not None and end < timed.sample:
            yield TimedAction(end, OperatorAction.UNSHELVE)
            end = None
        yield timed
        if timed.action is OperatorAction.SHELVE:
            over = np.flatnonzero(times_s[timed.sample :] >= timed.until_s)
            end = timed.sample + int(over[0]) if over.size else None
        elif timed.action is OperatorAction.UNSHELVE:
            end = None
    if end is not None:
        yield TimedAction(end, OperatorAction.UNSHELVE)
