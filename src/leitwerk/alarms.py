"""Alarms: definition as data, evaluation as a function from state and sample to state."""

from __future__ import annotations

import enum
from dataclasses import dataclass


class Phase(enum.StrEnum):
    """Where an alarm stands."""

    CLEAR = "clear"
    PENDING = "pending"
    TRIPPED = "tripped"


@dataclass(frozen=True, slots=True)
class AlarmPoint:
    """An alarm in its channel's unit: ``above`` or below ``trip``, back at ``clear``."""

    name: str
    above: bool
    trip: float
    clear: float
    delay_s: float = 0.0
    severity: str = "medium"


@dataclass(frozen=True, slots=True)
class AlarmState:
    """``since_s`` is when the condition began to hold, while pending or tripped."""

    phase: Phase = Phase.CLEAR
    since_s: float = 0.0


def next_state(
    alarm: AlarmPoint, state: AlarmState, time_s: float, value: float, *, good: bool = True
) -> AlarmState:
    """The state of an alarm after one more sample.

    An alarm trips when the value has been beyond its trip point for ``delay_s``, from the first
    sample beyond to the present one. It clears when the value is at its clear point or on the safe
    side of it. A bad sample neither trips nor clears; it ends a wait that has not yet run out,
    since nobody knows whether the condition held.

    Parameters
    ----------
    time_s : float, in s
        The time of the sample, on any clock that does not go back.
    value : float, in the channel's unit
    good : bool
        Whether the value can be trusted. NaN is never good.

    Examples
    --------
    >>> hot = AlarmPoint("hot", above=True, trip=78.0, clear=75.0, delay_s=30.0)
    >>> state = next_state(hot, AlarmState(), 0.0, 80.0)
    >>> str(state.phase), str(next_state(hot, state, 30.0, 79.0).phase)
    ('pending', 'tripped')

    """
    if not good or value != value:
        return AlarmState() if state.phase is Phase.PENDING else state
    sign = 1.0 if alarm.above else -1.0
    beyond = sign * (value - alarm.trip) > 0.0
    safe = sign * (value - alarm.clear) <= 0.0
    if state.phase is Phase.TRIPPED:
        return AlarmState() if safe else state
    if not beyond:
        return AlarmState()
    since = state.since_s if state.phase is Phase.PENDING else time_s
    phase = Phase.TRIPPED if time_s - since >= alarm.delay_s else Phase.PENDING
    return AlarmState(phase, since)
