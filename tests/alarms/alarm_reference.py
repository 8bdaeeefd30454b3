"""Alarms one sample at a time, written to be obviously right and for nothing else."""

from __future__ import annotations

import math
from dataclasses import dataclass

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.states import OperatorAction, State

CLOSE_S = 1e-6  # times are compared with this slack


@dataclass
class Slow:
    """One alarm of one channel."""

    alarm: AlarmDefinition
    gap_s: float = math.inf
    tripped: bool = False
    beyond_since: float | None = None
    safe_since: float | None = None
    unacknowledged: bool = False
    latched: bool = False
    shelved_until: float | None = None
    out: bool = False
    off: bool = False
    last: float | None = None

    def __post_init__(self) -> None:
        self.past: list[tuple[float, float]] = []

    def do(self, act: OperatorAction, until: float = math.inf) -> None:
        if act is OperatorAction.ACKNOWLEDGE:
            self.unacknowledged = False
        elif act is OperatorAction.RESET and not self.tripped and not self.unacknowledged:
            self.latched = False
        elif act is OperatorAction.SHELVE:
            self.shelved_until = until
        elif act is OperatorAction.TAKE_OUT:
            self.out = True
        elif (act is OperatorAction.UNSHELVE and self.shelved_until is not None) or (
            act is OperatorAction.PUT_BACK and self.out
        ):
            if act is OperatorAction.UNSHELVE:
                self.shelved_until = None
            else:
                self.out = False
            self.unacknowledged = self.latched = self.tripped

    def take(  # noqa: C901 - one thing after the other, as it comes
        self, time: float, value: float, other: float, *, enabled: bool
    ) -> State:
        if self.shelved_until is not None and time >= self.shelved_until:
            self.do(OperatorAction.UNSHELVE)
        if self.last is not None and (time < self.last or time - self.last > self.gap_s + CLOSE_S):
            self.beyond_since = self.safe_since = None
            self.past = []
        self.last = time
        x = self._watched(time, value, other)
        self.off = not enabled
        if self.off:
            self.tripped = self.unacknowledged = self.latched = False
            self.beyond_since = self.safe_since = None
            return self.state()
        beyond, safe = self._beyond(x), self._safe(x)
        if not beyond:
            self.beyond_since = None
        elif self.beyond_since is None:
            self.beyond_since = time
        if not safe:
            self.safe_since = None
        elif self.safe_since is None:
            self.safe_since = time
        if self.tripped:
            if safe and time - self.safe_since >= self.alarm.clear_delay_s - CLOSE_S:
                self.tripped = False
        elif beyond and time - self.beyond_since >= self.alarm.delay_s - CLOSE_S:
            self.tripped = self.unacknowledged = self.latched = True
        return self.state()

    def state(self) -> State:
        if self.out:
            return State.OUT_OF_SERVICE
        if self.shelved_until is not None:
            return State.SHELVED
        if self.off:
            return State.SUPPRESSED
        if self.tripped:
            return State.UNACKNOWLEDGED if self.unacknowledged else State.ACKNOWLEDGED
        if self.alarm.latch and self.latched:
            return State.LATCHED if self.unacknowledged else State.LATCHED_ACKNOWLEDGED
        if self.alarm.acknowledge and self.unacknowledged:
            return State.RETURNED
        return State.NORMAL if self.beyond_since is None else State.PENDING

    def _watched(self, time: float, value: float, other: float) -> float:
        alarm = self.alarm
        if alarm.watch is Watch.READING:
            return 1.0 if math.isnan(value) else 0.0
        if alarm.watch is Watch.DIFFERENCE:
            return value - (other if alarm.other else alarm.nominal)
        if alarm.watch is Watch.CHANGE:
            self.past.append((time, value))
            old = [(t, v) for t, v in self.past if time - t >= alarm.window_s - CLOSE_S]
            return (value - old[-1][1]) * alarm.window_s / (time - old[-1][0]) if old else math.nan
        return value

    def _beyond(self, x: float) -> bool:
        low, high = self.alarm.trip
        if math.isnan(x):
            return False
        return low <= x <= high if self.alarm.inside else not low <= x <= high

    def _safe(self, x: float) -> bool:
        low, high = self.alarm.clear
        if math.isnan(x):
            return False
        return not low <= x <= high if self.alarm.inside else low <= x <= high
