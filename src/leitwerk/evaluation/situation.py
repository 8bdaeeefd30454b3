"""The situation at one moment: values, states of alarms and outputs, as conditions see them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.alarms.board import AlarmTracker, ChannelAlarm
from leitwerk.alarms.conditions import Condition, holds
from leitwerk.alarms.states import State
from leitwerk.check.channels import CheckedChannel
from leitwerk.signals.states import NO_STATE

if TYPE_CHECKING:
    from numpy.typing import NDArray

ACTIVE = "active"


class Situation:
    """All channels of a device with their alarms, sample after sample.

    Parameters
    ----------
    channels : sequence of CheckedChannel
        In the order of the values that will come.
    gap_s : float, in s
        Samples further apart than this do not belong together.

    """

    def __init__(self, channels: Sequence[CheckedChannel], *, gap_s: float = math.inf) -> None:
        self.channels = tuple(channels)
        watched = [ChannelAlarm(c.name, alarm) for c in channels for alarm in c.alarms]
        self.board = AlarmTracker(watched, [c.name for c in channels], gap_s=gap_s)
        self.time_of_day_s = 0.0
        self.outputs: dict[str, str] = {}
        self._column = {c.name: k for k, c in enumerate(channels)}
        self._number = {w.name: k for k, w in enumerate(watched)}
        self._of_channel: dict[str, list[tuple[str, int]]] = {}
        for k, w in enumerate(watched):
            self._of_channel.setdefault(w.channel, []).append((w.alarm.name, k))
        self._conditions = [
            (k, w.alarm.only_while) for k, w in enumerate(watched) if w.alarm.only_while is not None
        ]
        self.enabled = np.ones(len(watched), bool)
        self._values = np.full(len(self.channels), np.nan)
        self._has_states = np.array([c.states is not None for c in channels], bool)

    def take(
        self,
        time_s: float,
        values: NDArray[np.float64],
        good: NDArray[np.bool_],
        *,
        at_rest: NDArray[np.bool_] | None = None,
        time_of_day_s: float = 0.0,
    ) -> NDArray[np.intp]:
        """Take one sample of all channels; returns the numbers of the alarms that changed.

        Parameters
        ----------
        time_s : float, in s
            On any clock.
        values, good : arrays of shape (n_channels,)
            In the channels' units.
        at_rest : array of shape (n_channels,), optional
            Where a channel has no value because it rests: it is then in none of its states, and alarms on
            them clear.
        time_of_day_s : float, in s
            The local time since midnight.

        """
        self.time_of_day_s = time_of_day_s
        self._values = np.where(good, values, np.nan)
        for number, condition in self._conditions:
            found = self.holds(condition)
            if found is not None:  # what was known last counts where nothing is known now
                self.enabled[number] = found
        seen = self._values
        if at_rest is not None and at_rest.any():
            seen = np.where(at_rest & self._has_states, NO_STATE, seen)
        return self.board.take(time_s, seen, enabled=self.enabled)

    def holds(self, condition: Condition) -> bool | None:
        """Whether a condition holds now; None when that cannot be known."""
        return holds(condition, self)

    def value(self, channel: str) -> float | None:
        """The value of a channel in its unit, None when there is no good one."""
        value = float(self._values[self._column[channel]]) if channel in self._column else math.nan
        return None if math.isnan(value) else value

    def states(self, subject: str) -> frozenset[str] | None:
        """The states of a contact, an alarm or an output; None when they are not known."""
        if subject in self._number:
            state = self.state(self._number[subject])
            return frozenset({state.words, *([ACTIVE] if state.is_active else [])})
        if subject in self.outputs:
            return frozenset({self.outputs[subject]})
        value = self.value(subject)
        if value not in {0.0, 1.0}:
            return None
        states = self.channels[self._column[subject]].states
        return None if states is None else frozenset({states.name(value)})

    def state(self, number: int) -> State:
        """The state of an alarm by its number on the board."""
        return State(int(self.board.state[number]))

    def alarm_states(self, channel: str) -> dict[str, State]:
        """The states of a channel's alarms, by their names."""
        return {name: self.state(k) for name, k in self._of_channel.get(channel, ())}
