"""What a simulated logger watches by itself: its alarms, and the relays that follow them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from leitwerk.alarms.board import AlarmTracker, ChannelAlarm
from leitwerk.alarms.definition import AlarmDefinition
from leitwerk.alarms.states import State
from leitwerk.datasheet.points import Stored
from leitwerk.rules.switches import Switch, Switches

_STEP_S = 0.5  # it looks at its inputs so often, whether anybody asks or not
_MOST_STEPS = 2000  # that are caught up with, when nobody asked for long
ALARMS, RELAYS = 12, 2
_LEVELS = {State.NORMAL: "normal", State.PENDING: "pending"}


class Guard:
    """Alarms and relays of a logger. ``setting`` gives a setting by family and index."""

    def __init__(self, setting: Callable[[str, int], Stored], now_s: float) -> None:
        self._setting = setting
        self._seen_s = now_s
        self._driven: dict[int, str] = {}
        self.restart(now_s)

    def restart(self, now_s: float) -> None:
        """Begin anew with the settings as they are now."""
        self._numbers, watched = [], []
        for k in range(1, ALARMS + 1):
            condition = str(self._setting("alarm.{k}.condition", k))
            if condition == "off":
                continue
            make = AlarmDefinition.above if condition == "above" else AlarmDefinition.below
            alarm = make(
                str(k),
                float(self._setting("alarm.{k}.trip", k)),
                float(self._setting("alarm.{k}.clear", k)),
                delay_s=float(self._setting("alarm.{k}.delay", k)),
                clear_delay_s=float(self._setting("alarm.{k}.clear_delay", k)),
            )
            self._numbers.append(k)
            watched.append(
                ChannelAlarm(str(int(float(self._setting("alarm.{k}.channel", k)))), alarm)
            )
        self._board = AlarmTracker(watched, [str(slot) for slot in range(11)])
        self._switches = Switches([self._switch(r) for r in range(1, RELAYS + 1)], now_s)
        self._driven.clear()
        self._seen_s = now_s

    def _switch(self, r: int) -> Switch:
        normal, safe = (str(self._setting(f"relay.{{r}}.{key}", r)) for key in ("normal", "safe"))
        least_on, least_off, limit = (
            float(self._setting(f"relay.{{r}}.{key}", r))
            for key in ("least_on", "least_off", "limit")
        )
        return Switch(str(r), normal, safe, least_on, least_off, limit or None)

    def look(self, now_s: float, inputs: Callable[[float], Sequence[tuple[float, bool]]]) -> None:
        """Catch up to now. ``inputs`` gives value and goodness of every slot from 1 at a time."""
        steps = min(int((now_s - self._seen_s) / _STEP_S), _MOST_STEPS)
        for k in range(steps, 0, -1):
            at = now_s - (k - 1) * _STEP_S
            shown = [(0.0, False), *inputs(at)]
            values = np.array([value if good else np.nan for value, good in shown])
            self._board.take(at, values)
            self._switch_relays(at)
        if steps:
            self._seen_s = now_s

    def _switch_relays(self, now_s: float) -> None:
        active = sum(
            1 << (k - 1)
            for k, tripped in zip(self._numbers, self._board.tripped.tolist(), strict=True)
            if tripped
        )
        for r in range(1, RELAYS + 1):
            mask = int(float(self._setting("relay.{r}.alarms", r)))
            if r not in self._driven and mask:
                self._switches.ask(str(r), "on" if active & mask else "off", now_s)
        for name, state in self._switches.due(now_s):
            self._switches.switched(name, state, now_s)
            # What its limit has brought back is not driven any more.
            if self._driven.get(int(name)) not in {None, state}:
                del self._driven[int(name)]

    def drive(self, r: int, how: Stored, now_s: float) -> None:
        """Drive a relay on or off, or release it."""
        if how == "released":
            self._driven.pop(r, None)
            self._switches.ask(str(r), str(self._setting("relay.{r}.normal", r)), now_s)
        else:
            self._driven[r] = str(how)
            self._switches.ask(str(r), str(how), now_s)
        for name, state in self._switches.due(now_s):
            self._switches.switched(name, state, now_s)

    def shown(self) -> dict[str, Any]:
        """The states of alarms and relays, by the names of their points."""
        found: dict[str, Any] = {f"alarm.{k}.state": "normal" for k in range(1, ALARMS + 1)}
        for k, state in zip(self._numbers, self._board.state.tolist(), strict=True):
            found[f"alarm.{k}.state"] = _LEVELS.get(State(state), "active")
        return found | {
            f"relay.{name}.state": state for name, state in self._switches.states.items()
        }
