"""What a rule is: plain values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

from leitwerk.alarms.conditions import Condition, TimeOfDay
from leitwerk.alarms.states import OperatorAction
from leitwerk.parsing.durations import format_time_of_day
from leitwerk.parsing.quantities import Quantity


@dataclass(frozen=True, slots=True)
class SwitchOutput:
    """Switch an output on or off."""

    output: str
    state: str

    def __str__(self) -> str:
        return f"set {self.output} {self.state}"


@dataclass(frozen=True, slots=True)
class Pulse:
    """Switch an output on for a while."""

    output: str
    lasts_s: float

    def __str__(self) -> str:
        return f"pulse {self.output} for {self.lasts_s:g} s"


@dataclass(frozen=True, slots=True)
class Notify:
    """Send a text to contacts."""

    contacts: tuple[str, ...]
    text: str

    def __str__(self) -> str:
        return f"notify {', '.join(self.contacts)}"


@dataclass(frozen=True, slots=True)
class ControlRecording:
    """Start or stop recording."""

    start: bool

    def __str__(self) -> str:
        return f"{'start' if self.start else 'stop'} recording"


@dataclass(frozen=True, slots=True)
class Snapshot:
    """Keep identity, status, settings and readings of the moment, under a label."""

    label: str

    def __str__(self) -> str:
        return f"take snapshot {self.label}"


@dataclass(frozen=True, slots=True)
class ChangeSetting:
    """Give a setting of the device another value."""

    setting: str
    value: str

    def __str__(self) -> str:
        return f"change {self.setting} to {self.value}"


@dataclass(frozen=True, slots=True)
class WriteLog:
    """Write a line to the log."""

    text: str

    def __str__(self) -> str:
        return "write to the log"


@dataclass(frozen=True, slots=True)
class HandleAlarm:
    """Acknowledge, reset or shelve an alarm (``channel.alarm``), as an operator would."""

    action: OperatorAction
    alarm: str
    lasts_s: float = 0.0

    def __str__(self) -> str:
        return f"{self.action.value} {self.alarm}"


@dataclass(frozen=True, slots=True)
class Say:
    """Say a message of an exchange: ``office.temperatures``."""

    message: str

    def __str__(self) -> str:
        return f"say {self.message}"


@dataclass(frozen=True, slots=True)
class SwitchLine:
    """Switch a message or keyword of an exchange on or off."""

    line: str
    on: bool

    def __str__(self) -> str:
        return f"switch {self.line} {'on' if self.on else 'off'}"


Action: TypeAlias = (
    SwitchOutput
    | Pulse
    | Notify
    | ControlRecording
    | Snapshot
    | ChangeSetting
    | WriteLog
    | HandleAlarm
    | Say
    | SwitchLine
)
MOVES = (SwitchOutput, Pulse)  # actions that move things, and need to be armed


@dataclass(frozen=True, slots=True)
class Change:
    """A value has changed by more than a dead band since the rule acted last."""

    channel: str
    band: Quantity

    def __str__(self) -> str:
        return f"{self.channel} changes by {self.band}"


@dataclass(frozen=True, slots=True)
class Trigger:
    """When a rule acts: exactly one of these.

    ``condition`` becomes true; a timer runs out every ``every_s``; the local time is ``daily_s``
    after midnight; a message with the word ``message`` is received; ``event`` happens (``device lost``,
    ``heard office.set_point``, ``said office.temperatures``, ``key 1``); a value changes by ``change``.
    """

    condition: Condition | None = None
    every_s: float | None = None
    daily_s: int | None = None
    message: str = ""
    event: str = ""
    change: Change | None = None

    def __str__(self) -> str:
        if self.condition is not None:
            return str(self.condition)
        if self.every_s is not None:
            return f"every {self.every_s:g} s"
        if self.daily_s is not None:
            return f"daily at {format_time_of_day(self.daily_s)}"
        if self.change is not None:
            return str(self.change)
        return f"message {self.message}" if self.message else self.event


EVENTS = ("lost", "found")  # of a device: it does not answer, it answers again


@dataclass(frozen=True, slots=True)
class Happening:
    """A message received (its first word in capitals, and who sent it), or an event, as in a trigger."""

    message: str = ""
    sender: str = ""
    event: str = ""


@dataclass(frozen=True, slots=True)
class Escalation:
    """What is done when no operator has acknowledged within a time."""

    after_s: float
    actions: tuple[Action, ...]


@dataclass(frozen=True, slots=True)
class Rule:
    """When ``trigger``, and all of ``only_if`` hold, do ``actions`` in their order.

    ``again_s`` repeats them while it lasts, ``pause_s`` is the shortest time between two of them,
    ``quiet`` holds notifications back until it is over.
    """

    name: str
    trigger: Trigger
    actions: tuple[Action, ...]
    only_if: Condition | None = None
    again_s: float | None = None
    pause_s: float = 0.0
    quiet: TimeOfDay | None = None
    escalation: Escalation | None = None
