"""What a simulated logger watches by itself: its alarms, and the relays that follow them.

Written plainly, sample by sample, and apart from Leitwerk's own alarms and switches: what both have
wrong in the same way would otherwise prove itself right.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.vocabulary import (
    ALARM_CHANNEL,
    ALARM_CLEAR,
    ALARM_CLEAR_DELAY,
    ALARM_CONDITION,
    ALARM_DELAY,
    ALARM_TRIP,
    RELAY_ALARMS,
    RELAY_LEAST_OFF,
    RELAY_LEAST_ON,
    RELAY_LIMIT,
    RELAY_NORMAL,
    RELAY_SAFE,
    KnownPoint,
)

_STEP_S = 0.5  # from one look at its inputs to the next, also when nothing is asked of it
_MOST_STEPS = 2000  # that are caught up with, after a long time without a question
ALARMS, RELAYS = 12, 2
Setting = Callable[[KnownPoint, int], Stored]


@dataclass(slots=True)
class _Alarm:
    """One alarm of the logger, as its registers say, and where it stands."""

    number: int
    slot: int
    above: bool
    trip: float
    clear: float
    delay_s: float
    clear_delay_s: float
    active: bool = False
    beyond_since_s: float | None = None
    back_since_s: float | None = None

    def look(self, value: float | None, now_s: float) -> None:
        """Take one value, None for a bad one; a wait runs only while every value keeps to it."""
        beyond = value is not None and (value > self.trip if self.above else value < self.trip)
        back = value is not None and (value <= self.clear if self.above else value >= self.clear)
        self.beyond_since_s = (self.beyond_since_s or now_s) if beyond else None
        self.back_since_s = (self.back_since_s or now_s) if back else None
        if not self.active and self.beyond_since_s is not None:
            self.active = now_s - self.beyond_since_s >= self.delay_s
        elif self.active and self.back_since_s is not None:
            self.active = now_s - self.back_since_s < self.clear_delay_s

    @property
    def shown(self) -> str:
        """Its state as the logger shows it."""
        if self.active:
            return "active"
        return "pending" if self.beyond_since_s is not None else "normal"


@dataclass(slots=True)
class _Relay:
    """One relay of the logger: its settings, what it is, and who drives it."""

    mask: int
    normal: str
    safe: str
    least_on_s: float
    least_off_s: float
    limit_s: float
    state: str
    since_s: float = float("-inf")
    driven: str | None = None
    driven_s: float = 0.0
    released: bool = False

    def step(self, active: int, now_s: float) -> None:
        """Go where it is driven, or where the alarms want it, once its shortest time is over."""
        if self.driven is not None:
            lasts_s = now_s - self.driven_s
            if self.driven != self.safe and self.limit_s and lasts_s >= self.limit_s:
                self.driven, self.released = None, True
        if self.driven is not None:
            wish = self.driven
        elif self.mask:
            wish = "on" if active & self.mask else "off"
        elif self.released:
            wish = self.safe
        else:
            wish = self.normal
        least_s = self.least_on_s if self.state == "on" else self.least_off_s
        if wish != self.state and now_s - self.since_s >= least_s:
            self.state, self.since_s = wish, now_s

    def drive(self, how: str, now_s: float) -> None:
        """Drive it on or off, or release it."""
        self.driven = None if how == "released" else how
        self.driven_s, self.released = now_s, False


class Guard:
    """Alarms and relays of a logger. ``setting`` gives a setting by its name and index."""

    def __init__(self, setting: Setting, now_s: float) -> None:
        self._setting = setting
        self.restart(now_s)

    def restart(self, now_s: float) -> None:
        """Begin anew with the settings as they are now."""
        self._alarms = [
            self._alarm(k)
            for k in range(1, ALARMS + 1)
            if self._setting(ALARM_CONDITION, k) != "off"
        ]
        self._relays = {r: self._relay(r) for r in range(1, RELAYS + 1)}
        self._seen_s = now_s

    def _number(self, known: KnownPoint, k: int) -> float:
        return float(self._setting(known, k))

    def _alarm(self, k: int) -> _Alarm:
        return _Alarm(
            k,
            int(self._number(ALARM_CHANNEL, k)),
            self._setting(ALARM_CONDITION, k) == "above",
            self._number(ALARM_TRIP, k),
            self._number(ALARM_CLEAR, k),
            self._number(ALARM_DELAY, k),
            self._number(ALARM_CLEAR_DELAY, k),
        )

    def _relay(self, r: int) -> _Relay:
        normal = str(self._setting(RELAY_NORMAL, r))
        return _Relay(
            int(self._number(RELAY_ALARMS, r)),
            normal,
            str(self._setting(RELAY_SAFE, r)),
            self._number(RELAY_LEAST_ON, r),
            self._number(RELAY_LEAST_OFF, r),
            self._number(RELAY_LIMIT, r),
            state=normal,
        )

    def look(self, now_s: float, inputs: Callable[[float], Sequence[tuple[float, bool]]]) -> None:
        """Catch up to now. ``inputs`` gives value and goodness of every slot from 1 at a time."""
        steps = min(int((now_s - self._seen_s) / _STEP_S), _MOST_STEPS)
        for k in range(steps, 0, -1):
            at = now_s - (k - 1) * _STEP_S
            shown = inputs(at)
            for alarm in self._alarms:
                value, good = shown[alarm.slot - 1]
                alarm.look(value if good else None, at)
            self._step_relays(at)
        if steps:
            self._seen_s = now_s

    def _step_relays(self, now_s: float) -> None:
        active = sum(1 << (alarm.number - 1) for alarm in self._alarms if alarm.active)
        for relay in self._relays.values():
            relay.step(active, now_s)

    def drive(self, r: int, how: Stored, now_s: float) -> None:
        """Drive a relay on or off, or release it."""
        self._relays[r].drive(str(how), now_s)
        self._step_relays(now_s)

    def shown(self) -> dict[str, Any]:
        """The states of alarms and relays, by the names of their points."""
        found: dict[str, Any] = {f"alarm.{k}.state": "normal" for k in range(1, ALARMS + 1)}
        found |= {f"alarm.{alarm.number}.state": alarm.shown for alarm in self._alarms}
        return found | {f"relay.{r}.state": relay.state for r, relay in self._relays.items()}
