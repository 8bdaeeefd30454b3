"""Proving an alarm: what should happen when it trips and clears, step by step, and what did not."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from leitwerk.alarms.conditions import Not, Stated, sentences
from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.states import State
from leitwerk.check.channels import CheckedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.outputs import RelayOutput
from leitwerk.datasheet.vocabulary import ALARM_STATE
from leitwerk.devices.device import Device
from leitwerk.errors import QuantityError
from leitwerk.evaluation.situation import ACTIVE
from leitwerk.monitoring.attendant import Attendant, AttendOptions
from leitwerk.monitoring.events import Done, Event, EventKind
from leitwerk.parsing.quantities import format_value
from leitwerk.results import Outcome, overall
from leitwerk.rules.definition import Action, Notify, Pulse, Rule, SwitchOutput

_MESSAGE_WAIT_S = 30.0  # how long after the alarm has cleared a message may still be on its way


@dataclass(slots=True)
class ProofStep:
    """One thing that should happen: what, and when and how it did."""

    name: str
    at: datetime | None = None
    seen: str = ""
    wrong: str = ""

    @property
    def outcome(self) -> Outcome:
        """Passed when it happened, and as it should."""
        return Outcome.PASSED if self.at is not None and not self.wrong else Outcome.FAILED

    @property
    def reasons(self) -> tuple[str, ...]:
        """What is wrong with it."""
        if self.outcome is Outcome.PASSED:
            return ()
        return (f"{self.name}: {self.wrong or 'not seen'}",)

    @property
    def ok(self) -> bool:
        """Whether it happened, and as it should."""
        return self.outcome is Outcome.PASSED

    def to_dict(self) -> dict[str, Any]:
        """The step as plain data for JSON."""
        at = None if self.at is None else self.at.isoformat(timespec="milliseconds")
        return {"step": self.name, "ok": self.ok, "at": at, "seen": self.seen, "wrong": self.wrong}

    def __str__(self) -> str:
        if self.at is None:
            return f"NOT SEEN  {'':8}  {self.name}" + (f": {self.wrong}" if self.wrong else "")
        mark = "ok" if self.ok else "WRONG"
        more = f": {self.wrong or self.seen}" if self.wrong or self.seen else ""
        return f"{mark:8}  {self.at.astimezone():%H:%M:%S}  {self.name}{more}"


@dataclass(frozen=True)
class Proof:
    """What came of it. ``events`` is everything that happened meanwhile."""

    alarm: str
    title: str
    steps: tuple[ProofStep, ...]
    events: tuple[Event, ...] = field(repr=False, default=())

    @property
    def outcome(self) -> Outcome:
        """Passed when everything happened as it should."""
        return overall(step.outcome for step in self.steps)

    @property
    def reasons(self) -> tuple[str, ...]:
        """What did not happen, or not as it should."""
        return tuple(reason for step in self.steps for reason in step.reasons)

    def missing(self) -> list[str]:
        """What did not happen, or not as it should."""
        return [step.name for step in self.steps if not step.ok]

    def to_dict(self) -> dict[str, Any]:
        """The proof as plain data for JSON."""
        return {
            "alarm": self.alarm,
            "title": self.title,
            "outcome": self.outcome.value,
            "steps": [step.to_dict() for step in self.steps],
            "did_not_happen": self.missing(),
            "events": [event.to_dict() for event in self.events],
        }

    def __repr__(self) -> str:
        return f"<Proof of {self.alarm}: {self.outcome.value}>"

    def __str__(self) -> str:
        lines = [f"{self.title}: proof of {self.alarm}", *map(str, self.steps)]
        missing = self.missing()
        what = f"not seen, or wrong: {'; '.join(missing)}" if missing else "all steps were seen"
        lines.append(f"{self.outcome.value.upper()}: {what}")
        return "\n".join(lines)


def prove(
    setup: CheckedSetup,
    device: Device,
    options: AttendOptions,
    alarm: str,
    *,
    duration_s: float,
    period_s: float = 0.5,
) -> Proof:
    """Watch while a sensor is warmed, and hold what happens against what the setup promises.

    Parameters
    ----------
    alarm : str
        ``channel.alarm``.
    duration_s : float, in s
        How long to wait for all of it.
    period_s : float, in s
        From poll to poll; no time is known more closely.

    Raises
    ------
    SetupError
        The setup has errors.
    QuantityError
        It has no such alarm.
    WrongDevice, LinkError
        Another device answers, or none.

    """
    attendant = Attendant(setup, device, options)
    watch = _Watch(attendant, alarm, period_s)
    clock, ended_s = options.clock, math.inf

    def until() -> bool:
        nonlocal ended_s
        watch.look(clock.now(), clock.monotonic())
        if not watch.is_over:
            return False
        ended_s = min(ended_s, clock.monotonic() + _MESSAGE_WAIT_S)
        return watch.is_complete or clock.monotonic() > ended_s

    attendant.attend(period_s=period_s, duration_s=duration_s, until=until)
    watch.read_events()
    return Proof(alarm, setup.setup.title, tuple(watch.steps()), tuple(attendant.log.events))


class _Watch:
    """Everything that one alarm should bring about, and how much of it has been seen."""

    def __init__(self, attendant: Attendant, name: str, period_s: float) -> None:
        board = attendant.situation.board
        names = [w.name for w in board.watched]
        if name not in names:
            valid = ", ".join(names[:12]) or "none; this setup has no alarms"
            raise QuantityError(f"there is no alarm {name[:60]!r}", valid=valid)
        self.attendant, self.name, self.period_s = attendant, name, period_s
        self.number = names.index(name)
        self.channel = next(
            c for c in attendant.channels if c.name == board.watched[self.number].channel
        )
        self.alarm = board.watched[self.number].alarm
        self.beyond = ProofStep(
            f"the value goes {self.alarm.condition(self.channel.symbol, self.channel.states)}"
        )
        wait = f" after {self.alarm.delay_s:g} s" if self.alarm.delay_s else ""
        self.trip = ProofStep(f"the alarm trips{wait}")
        self.back = ProofStep(f"the value comes back to {self._clear_words()}")
        later = f", after {self.alarm.clear_delay_s:g} s there" if self.alarm.clear_delay_s else ""
        self.clear = ProofStep(f"the alarm clears there, not before{later}")
        own = f"the device's own alarm {self.own_number}"
        self.own = (
            [ProofStep(f"{own} trips"), ProofStep(f"{own} clears")] if self.own_number else []
        )
        self.outputs = {
            o.name: (
                ProofStep(f"output {o.name} goes on"),
                ProofStep(f"output {o.name} goes off again"),
            )
            for o in attendant.checked.outputs
            if isinstance(o, RelayOutput) and name in o.follows
        }
        self.actions = list(self._actions())
        self._beyond_s: float | None = None
        self._back_s: float | None = None
        self._read = 0

    def _clear_words(self) -> str:
        ends = [e for e in self.alarm.clear if math.isfinite(e)]
        if self.channel.states is not None or self.alarm.watch is Watch.READING:
            return "its other state"
        return " to ".join(format_value(end, self.channel.unit) for end in ends)

    @property
    def own_number(self) -> int:
        """The number of this alarm in the device, 0 when the device does not watch it."""
        every = [
            f"{c.name}.{alarm.name}" for c in self.attendant.channels for alarm in c.device_alarms
        ]
        has = self.attendant.device.datasheet.has(ALARM_STATE)
        return every.index(self.name) + 1 if has and self.name in every else 0

    def _actions(self) -> Iterator[_Expected]:
        """What rules should do because of this alarm: each action is a step."""
        for rule in self.attendant.engine.rules:
            condition = rule.trigger.condition
            if condition is None:
                continue
            about = [s for s in sentences(condition) if isinstance(s, Stated)]
            if any(s.subject == self.name for s in about):
                for action in rule.actions:
                    yield from _expected(rule, action)

    # ------------------------------------------------------------------ while it happens

    def look(self, wall: datetime, now_s: float) -> None:
        """After each sample."""
        state = self.attendant.situation.state(self.number)
        tripped = bool(self.attendant.situation.board.tripped[self.number])
        code = int(self.attendant.situation.board.code[self.number])
        self._value(code, wall, now_s)
        if tripped and self.trip.at is None:
            self._tripped(wall, now_s)
        if self.trip.at is not None and not tripped and self.clear.at is None:
            self._cleared(state, wall, now_s)
        for name, (goes_on, goes_off) in self.outputs.items():
            shown = self.attendant.situation.outputs.get(name)
            if shown == "on" and goes_on.at is None:
                goes_on.at = wall
            if shown == "off" and goes_on.at is not None and goes_off.at is None:
                goes_off.at = wall
        if self.own and self.beyond.at is not None and self.own[1].at is None:
            self._look_at_own(wall)
        self.read_events()

    def _look_at_own(self, wall: datetime) -> None:
        sheet = self.attendant.device.datasheet
        point = sheet.point(ALARM_STATE, self.own_number)
        is_active = self.attendant.device.read_points([point])[point.name] == ACTIVE
        trips, clears = self.own
        if is_active and trips.at is None:
            trips.at = wall
        elif not is_active and trips.at is not None:
            clears.at = wall

    def _value(self, code: int, wall: datetime, now_s: float) -> None:
        shown = self._shown()
        if code == 1:
            if self.beyond.at is None:
                self.beyond.at, self.beyond.seen = wall, shown
            if self._beyond_s is None:
                self._beyond_s = now_s
            self._back_s = None
        elif code == -1:
            self._beyond_s = None
            if self._back_s is None:
                self._back_s = now_s
            if self.trip.at is not None and self.back.at is None:
                self.back.at, self.back.seen = wall, shown
        else:
            self._beyond_s = self._back_s = None

    def _shown(self) -> str:
        return self.channel.words(self.attendant.situation.value(self.channel.name))

    def _tripped(self, wall: datetime, now_s: float) -> None:
        self.trip.at = wall
        since = self._beyond_s
        if since is None:
            self.trip.wrong = "it was tripped before anything was seen; begin with it clear"
            return
        waited = now_s - since
        self.trip.seen = f"after {waited:.1f} s"
        if (
            not self.alarm.delay_s - self.period_s
            <= waited
            <= self.alarm.delay_s + 3 * self.period_s
        ):
            self.trip.wrong = f"after {waited:.1f} s instead of {self.alarm.delay_s:g} s"

    def _cleared(self, state: State, wall: datetime, now_s: float) -> None:
        self.clear.at, self.clear.seen = wall, f"at {self._shown()}, {state.words}"
        if self._back_s is None:
            self.clear.wrong = f"at {self._shown()}, before the value was back"
            return
        waited = now_s - self._back_s
        most = self.alarm.clear_delay_s + 3 * self.period_s
        if not self.alarm.clear_delay_s - self.period_s <= waited <= most:
            self.clear.wrong = f"after {waited:.1f} s instead of {self.alarm.clear_delay_s:g} s"

    def read_events(self) -> None:
        """Find the steps that rules should do in what has happened."""
        events = list(self.attendant.log.events)
        for event in events[self._read :]:
            for expected in self.actions:
                begun = self.trip.at if expected.is_end(self.name) else self.beyond.at
                if expected.step.at is None and begun is not None:
                    expected.take(event)
        self._read = len(events)

    @property
    def is_over(self) -> bool:
        """Whether the alarm has tripped and cleared."""
        return self.clear.at is not None

    @property
    def is_complete(self) -> bool:
        """Whether nothing is waited for any more."""
        return all(step.at is not None for step in self.steps())

    def steps(self) -> list[ProofStep]:
        """All steps, in the order in which they should happen."""
        rising = [e.step for e in self.actions if not e.is_end(self.name)]
        falling = [e.step for e in self.actions if e.is_end(self.name)]
        return [
            self.beyond,
            self.trip,
            *self.own[:1],
            *(goes_on for goes_on, _ in self.outputs.values()),
            *rising,
            self.back,
            self.clear,
            *self.own[1:],
            *(goes_off for _, goes_off in self.outputs.values()),
            *falling,
        ]


@dataclass(slots=True)
class _Expected:
    """A step that a rule should do, and how an event shows that it did."""

    rule: Rule
    action: Action
    step: ProofStep

    def is_end(self, alarm: str) -> bool:
        """Whether the rule acts when the alarm has cleared, not when it trips."""
        condition = self.rule.trigger.condition
        return condition in {Not(Stated(alarm, ACTIVE)), Stated(alarm, "normal")}

    def take(self, event: Event) -> None:
        """Take an event: it is what the step waits for, or says why that will not come."""
        if event.kind in {EventKind.RULE, EventKind.TROUBLE} and event.subject == self.rule.name:
            self._take_rule(event)

    def _take_rule(self, event: Event) -> None:
        if event.action == self.action and event.done is Done.YES:
            self.step.at, self.step.wrong = event.at, ""
        elif event.action == self.action:
            self.step.wrong = event.text


@dataclass(slots=True)
class _ExpectedMessage(_Expected):
    """A message to one contact: sent, not only put on its way."""

    contact: str

    def take(self, event: Event) -> None:
        """A message that was sent, or one that a service did not take."""
        if event.kind is EventKind.MESSAGE and event.subject == self.contact:
            if event.done is Done.YES:
                seen = f"{event.subject} by {event.state}"
                self.step.at, self.step.seen, self.step.wrong = event.at, seen, ""
            else:
                self.step.wrong = event.text
        elif event.kind is EventKind.TROUBLE and event.subject == self.rule.name:
            self.step.wrong = event.text


@dataclass(slots=True)
class _ExpectedSwitch(_Expected):
    """An output that goes on or off: switched, not only asked for."""

    output: str
    state: str

    def take(self, event: Event) -> None:
        """An output that was switched, or a rule that may not."""
        if event.kind is EventKind.OUTPUT and (event.subject, event.state) == (
            self.output,
            self.state,
        ):
            self.step.at, self.step.wrong = event.at, ""
        elif event.subject == self.rule.name and event.done is Done.NOT_ARMED:
            self.step.wrong = "outputs are not armed"
        elif event.kind is EventKind.TROUBLE and event.subject in {self.rule.name, self.output}:
            self.step.wrong = event.text


def _expected(rule: Rule, action: Action) -> Iterator[_Expected]:
    """The steps by which an action of a rule shows."""
    because = f"(rule {rule.name})"
    match action:
        case Notify(contacts):
            for contact in contacts:
                step = ProofStep(f"a message is sent to {contact} {because}")
                yield _ExpectedMessage(rule, action, step, contact)
        case SwitchOutput(output, state):
            step = ProofStep(f"output {output} goes {state} {because}")
            yield _ExpectedSwitch(rule, action, step, output, state)
        case Pulse(output):
            step = ProofStep(f"output {output} goes on {because}")
            yield _ExpectedSwitch(rule, action, step, output, "on")
        case _:
            yield _Expected(rule, action, ProofStep(f"{action} {because}"))


def warming(alarm: AlarmDefinition, channel: CheckedChannel) -> str:
    """A course that takes a channel past an alarm and back: for simulated sensors.

    Raises
    ------
    QuantityError
        The alarm is of a kind that no value trips.

    """
    if alarm.watch is not Watch.VALUE or alarm.inside:
        raise QuantityError(
            "a simulated sensor is warmed for alarms above, below or outside a value",
            valid="an alarm with 'above', 'below' or 'outside'",
        )
    end = 1 if math.isfinite(alarm.trip[1]) else 0
    sign = 1.0 if end else -1.0
    trip, clear = alarm.trip[end], alarm.clear[end]
    rest = channel.expected[0] if channel.expected else clear - sign * (abs(clear) * 0.2 + 5.0)
    apart = max(abs(trip - clear), abs(trip - rest) * 0.05, 0.5)
    hold = alarm.delay_s + 4.0
    back = alarm.clear_delay_s + 4.0
    return (
        f"{rest:g}; stay 6 s; to {trip + sign * apart:g} in 3 s; stay {hold:g} s; "
        f"to {(trip + clear) / 2:g} in 2 s; stay 2 s; to {clear - sign * apart:g} in 2 s; stay {back:g} s; "
        f"to {rest:g} in 2 s"
    )
