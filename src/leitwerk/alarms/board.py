"""Many alarms of many channels, followed one sample at a time."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.runs import BEYOND, NEITHER, OFF, SAFE
from leitwerk.alarms.states import (
    Acknowledgement,
    Level,
    OperatorAction,
    State,
    TimedAction,
    state_table,
)
from leitwerk.parsing.durations import CLOSE_S
from leitwerk.signals.angles import wrapped_each

if TYPE_CHECKING:
    from numpy.typing import NDArray

_HISTORY = 65_536  # samples that are kept for changes; an older one counts as none
_KEPT = ("code", "since", "tripped", "unacknowledged", "latched", "shelved_until", "out", "state")
_VERSION = 1


@dataclass(frozen=True, slots=True)
class ChannelAlarm:
    """An alarm and the channel that it is about."""

    channel: str
    alarm: AlarmDefinition

    @property
    def name(self) -> str:
        """Channel and alarm: ``air_top.too_hot``."""
        return f"{self.channel}.{self.alarm.name}"


class AlarmTracker:
    """Follows alarms as samples come; each sample is a handful of array operations for all of them.

    Parameters
    ----------
    watched : sequence of ChannelAlarm
    channels : sequence of str
        The channels' names, in the order of the values that will come.
    gap_s : float, in s
        Samples further apart than this do not belong together: waits begin anew.

    Examples
    --------
    >>> hot = ChannelAlarm("air", AlarmDefinition.above("hot", 78.0, 75.0))
    >>> board = AlarmTracker([hot], ["air"])
    >>> board.take(0.0, [80.0]).tolist(), State(int(board.state[0])).words
    ([0], 'unacknowledged')

    """

    def __init__(
        self, watched: Sequence[ChannelAlarm], channels: Sequence[str], *, gap_s: float = math.inf
    ) -> None:
        self.watched = tuple(watched)
        self.gap_s = gap_s
        self.last_s: float | None = None
        column = {name: k for k, name in enumerate(channels)}
        alarms = [w.alarm for w in self.watched]
        n = len(alarms)
        self._column = np.array([column[w.channel] for w in self.watched], np.intp)
        self._trip = np.array([a.trip for a in alarms], float).reshape(n, 2).T.copy()
        self._clear = np.array([a.clear for a in alarms], float).reshape(n, 2).T.copy()
        self._inside = np.array([a.inside for a in alarms], bool)
        self._some_inside = bool(self._inside.any())
        self._delay = np.array([a.delay_s - CLOSE_S for a in alarms], float)
        self._clear_delay = np.array([a.clear_delay_s - CLOSE_S for a in alarms], float)
        self._reading = _those(a.watch is Watch.READING for a in alarms)
        self._apart = _those(a.watch is Watch.DIFFERENCE and not a.other for a in alarms)
        self._nominal = np.array([alarms[k].nominal for k in self._apart], float)
        self._against = _those(a.watch is Watch.DIFFERENCE and bool(a.other) for a in alarms)
        self._other = np.array([column[alarms[k].other] for k in self._against], np.intp)
        self._turn = np.array([a.turn for a in alarms], float)
        self._windows = []
        for length in sorted({a.window_s for a in alarms if a.watch is Watch.CHANGE}):
            those = _those(a.watch is Watch.CHANGE and a.window_s == length for a in alarms)
            self._windows.append(_Window(length, those, self._turn[those]))
        self._table = _table(alarms)

        self.code = np.full(n, NEITHER, np.int8)
        self.since = np.zeros(n)
        self.tripped = np.zeros(n, bool)
        self.unacknowledged = np.zeros(n, bool)
        self.latched = np.zeros(n, bool)
        self.shelved_until = np.full(n, -math.inf)
        self.out = np.zeros(n, bool)
        self.state = np.zeros(n, np.uint8)
        self._some_hidden = False

    def take(
        self,
        time_s: float,
        values: Sequence[float] | NDArray[np.float64],
        good: NDArray[np.bool_] | None = None,
        enabled: NDArray[np.bool_] | None = None,
    ) -> NDArray[np.intp]:
        """Take one sample of all channels; returns the numbers of the alarms that changed.

        Parameters
        ----------
        time_s : float, in s
        values : array of shape (n_channels,), in the channels' units
            NaN counts as bad.
        good : array of shape (n_channels,), optional
        enabled : array of shape (n_alarms,), optional
            Which alarms are watched at all; the others are suppressed.

        """
        every = np.asarray(values, float)
        if good is not None:
            every = np.where(good, every, np.nan)
        broken = self.last_s is not None and not 0.0 <= time_s - self.last_s <= self.gap_s + CLOSE_S
        code = self._classified(time_s, every, broken=broken)
        off = None
        if enabled is not None and not enabled.all():
            off = ~enabled
            code[off] = OFF
        starts = np.ones_like(self.tripped) if broken or self.last_s is None else code != self.code
        self.since[starts] = time_s
        self.code, self.last_s = code, time_s
        lasted = time_s - self.since
        trips = (code == BEYOND) & ~self.tripped & (lasted >= self._delay)
        clears = (code == SAFE) & self.tripped & (lasted >= self._clear_delay)
        self.tripped = (self.tripped | trips) & ~clears
        if self._some_hidden:
            self._end_shelving(time_s, trips, clears)
        self.unacknowledged |= trips
        self.latched |= trips
        level = np.where(self.tripped, Level.TRIPPED, code == BEYOND)
        if off is not None:
            for marks in (self.tripped, self.unacknowledged, self.latched):
                marks[off] = False
            level[off] = Level.OFF
        return self._show(level)

    def do(self, number: int, act: OperatorAction, *, until_s: float = math.inf) -> None:
        """An operator's act on one alarm; one that does not fit its state changes nothing."""
        before = Acknowledgement(
            bool(self.unacknowledged[number]),
            bool(self.latched[number]),
            float(self.shelved_until[number]) if self._is_shelved(number) else None,
            bool(self.out[number]),
        )
        after = before.after(TimedAction(0, act, until_s), tripped=bool(self.tripped[number]))
        self.unacknowledged[number] = after.unacknowledged
        self.latched[number] = after.latched
        until = after.shelved_until_s
        self.shelved_until[number] = -math.inf if until is None else until
        self.out[number] = after.out_of_service
        self._some_hidden = bool(self.out.any() or (self.shelved_until > -math.inf).any())
        level = np.where(self.tripped, Level.TRIPPED, self.code == BEYOND)
        level[self.code == OFF] = Level.OFF
        self._show(level)

    def number(self, name: str) -> int:
        """The number of an alarm by its channel and name, ``air_top.too_hot``.

        Raises
        ------
        KeyError
            No alarm has that name.

        """
        for number, watched in enumerate(self.watched):
            if watched.name == name:
                return number
        raise KeyError(name)

    # ------------------------------------------------------------------ kept and taken up again

    def to_dict(self) -> dict[str, Any]:
        """Where everything stands, for JSON; ``resume`` goes on from it."""
        return {
            "version": _VERSION,
            "alarms": [watched.name for watched in self.watched],
            "last_s": self.last_s,
            **{name: [_plain(x) for x in getattr(self, name).tolist()] for name in _KEPT},
            "windows": [window.to_list() for window in self._windows],
        }

    def resume(self, kept: Mapping[str, Any]) -> None:
        """Go on from where another board of the same alarms stood.

        Raises
        ------
        ValueError
            It stood for other alarms, or is damaged.

        """
        names = [watched.name for watched in self.watched]
        if kept.get("version") != _VERSION or kept.get("alarms") != names:
            raise ValueError("this state belongs to other alarms")
        arrays = {}
        for name in _KEPT:
            here = getattr(self, name)
            arrays[name] = np.array([_number(x) for x in kept[name]], here.dtype)
            if arrays[name].shape != here.shape:
                raise ValueError(f"{name!r} has not one entry for each alarm")
        if len(kept["windows"]) != len(self._windows):
            raise ValueError("the samples kept for changes are not those of these alarms")
        for name, array in arrays.items():
            setattr(self, name, array)
        for window, rows in zip(self._windows, kept["windows"], strict=True):
            window.resume(rows)
        self.last_s = kept["last_s"]
        self._some_hidden = bool(self.out.any() or (self.shelved_until > -math.inf).any())

    # ------------------------------------------------------------------ one sample

    def _classified(
        self, time_s: float, every: NDArray[np.float64], *, broken: bool
    ) -> NDArray[np.int8]:
        """What the sample is for each alarm: beyond (1), safe (-1), or neither (0)."""
        x = every[self._column]
        if self._reading.size:
            x[self._reading] = np.isnan(x[self._reading])
        if self._apart.size:
            x[self._apart] = wrapped_each(x[self._apart] - self._nominal, self._turn[self._apart])
        if self._against.size:
            apart = x[self._against] - every[self._other]
            x[self._against] = wrapped_each(apart, self._turn[self._against])
        for window in self._windows:
            x[window.alarms] = window.take(time_s, x[window.alarms], broken=broken)
        in_trip = (x >= self._trip[0]) & (x <= self._trip[1])
        in_clear = (x >= self._clear[0]) & (x <= self._clear[1])
        known = x == x  # NaN is neither: a bad reading trips nothing and clears nothing
        beyond, safe = known & ~in_trip, in_clear
        if self._some_inside:
            beyond, safe = known & (in_trip == self._inside), known & (in_clear != self._inside)
        # Both at once cannot be: trip and clear points do not overlap.
        codes: NDArray[np.int8] = beyond.view(np.int8) - safe.view(np.int8)
        return codes

    def _is_shelved(self, number: int) -> bool:
        return bool(self.shelved_until[number] > -math.inf)

    def _end_shelving(
        self, time_s: float, trips: NDArray[np.bool_], clears: NDArray[np.bool_]
    ) -> None:
        over = (self.shelved_until > -math.inf) & (time_s >= self.shelved_until)
        if over.any():
            # As it stood before this sample: what the sample brings comes after.
            tripped = (self.tripped & ~trips) | clears
            self.shelved_until[over] = -math.inf
            self.unacknowledged[over] = tripped[over]
            self.latched[over] = tripped[over]
            self._some_hidden = bool(self.out.any() or (self.shelved_until > -math.inf).any())

    def _show(self, level: NDArray[np.int_]) -> NDArray[np.intp]:
        order = np.arange(level.size)
        marks = 2 * self.unacknowledged.view(np.int8) + self.latched.view(np.int8)
        state = self._table[order, level, marks]
        if self._some_hidden:
            state[self.shelved_until > -math.inf] = State.SHELVED
            state[self.out] = State.OUT_OF_SERVICE
        changed = np.flatnonzero(state != self.state)
        self.state = state
        return changed


class _Window:
    """The samples that changes within one length of time are worked from."""

    def __init__(
        self, length_s: float, alarms: NDArray[np.intp], turn: NDArray[np.float64]
    ) -> None:
        self.length_s, self._turn = length_s, turn
        self.alarms = alarms
        self._past: deque[tuple[float, NDArray[np.float64]]] = deque(maxlen=_HISTORY)

    def take(
        self, time_s: float, values: NDArray[np.float64], *, broken: bool
    ) -> NDArray[np.float64]:
        past = self._past
        if broken:
            past.clear()
        past.append((time_s, values.copy()))
        while len(past) > 1 and time_s - past[1][0] >= self.length_s - CLOSE_S:
            past.popleft()
        then_s, then = past[0]
        if time_s - then_s < self.length_s - CLOSE_S:
            return np.full(values.shape, np.nan)
        return wrapped_each(values - then, self._turn) * self.length_s / (time_s - then_s)

    def to_list(self) -> list[Any]:
        return [[time, [_plain(v) for v in values.tolist()]] for time, values in self._past]

    def resume(self, rows: list[Any]) -> None:
        self._past = deque(
            ((time, np.array([_number(v) for v in values], float)) for time, values in rows),
            _HISTORY,
        )


def _those(which: Any) -> NDArray[np.intp]:
    return np.flatnonzero(np.fromiter(which, bool))


def _table(alarms: Sequence[AlarmDefinition]) -> NDArray[np.uint8]:
    """For each alarm, level and marks the state."""
    kinds = {
        (latch, acknowledge): state_table(latch=latch, acknowledge=acknowledge)
        for latch in (False, True)
        for acknowledge in (False, True)
    }
    return np.array([kinds[a.latch, a.acknowledge] for a in alarms], np.uint8).reshape(
        len(alarms), len(Level), 4
    )


def _plain(value: Any) -> Any:
    """A number for JSON, which knows neither NaN nor infinity."""
    if not isinstance(value, float) or math.isfinite(value):
        return value
    return None if math.isnan(value) else ("inf" if value > 0 else "-inf")


def _number(value: Any) -> Any:
    return math.nan if value is None else float(value) if isinstance(value, str) else value
