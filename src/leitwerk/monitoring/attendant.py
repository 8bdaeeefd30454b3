"""Attending a device: poll, follow alarms and rules, switch outputs, send messages."""

from __future__ import annotations

import json
import math
import threading
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, assert_never

import numpy as np

from leitwerk.alarms.states import OperatorAction, State
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.rules import contact_ways
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import MEMORY_USED
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceRefused, FileProblem, LeitwerkError, LinkError, WrongDevice
from leitwerk.evaluation.channel_values import ChannelValues
from leitwerk.evaluation.situation import Situation
from leitwerk.monitoring.events import Done, Event, EventKind, EventLog
from leitwerk.monitoring.exchange_runner import Told
from leitwerk.monitoring.exchanges import Exchanges
from leitwerk.monitoring.messenger import Messenger
from leitwerk.monitoring.operator_requests import take_requests
from leitwerk.monitoring.output_driver import OutputDriver
from leitwerk.monitoring.poller import Poller
from leitwerk.monitoring.resume_file import AttendState, keep_state, read_state
from leitwerk.monitoring.run_control import RunControl
from leitwerk.project.claims import claiming
from leitwerk.project.clock import REAL_TIME, Clock, SteadyTime
from leitwerk.project.files import content_hash, write_atomic
from leitwerk.project.held_signals import signals_held
from leitwerk.project.kept import device_folder
from leitwerk.project.locks import only_attendant
from leitwerk.rules.definition import (
    MOVES,
    Action,
    ChangeSetting,
    ControlRecording,
    HandleAlarm,
    Happening,
    Notify,
    Pulse,
    Say,
    Snapshot,
    SwitchLine,
    SwitchOutput,
    WriteLog,
)
from leitwerk.rules.engine import Due, Engine
from leitwerk.rules.message_text import fill
from leitwerk.signals.quality import Quality
from leitwerk.transfer.task import TaskSource, UploadOptions, UploadTask
from leitwerk.transfer.transaction import carry

if TYPE_CHECKING:
    from numpy.typing import NDArray

# Percent from which on a memory counts as full: devices give tenths, and some stop short of 100.0.
_FULL = 99.95


@dataclass(frozen=True)
class AttendOptions:
    """How a device is attended.

    Attributes
    ----------
    folder : path
        For the log, waiting messages, snapshots and receipts.
    armed : bool
        Whether outputs may be switched. Without, it is only reported what would be done.
    passwords : mapping from role to password
        Asked for what needs a login.
    by : str
        Who does it, for receipts.
    on_event : callable
        Called with every event.
    clock : Clock
        Where the time comes from.

    """

    folder: Path
    armed: bool = False
    passwords: Mapping[str, str] = field(default_factory=dict, repr=False)
    by: str = "unnamed"
    on_event: Callable[[Event], None] = lambda event: None
    clock: Clock = REAL_TIME


class Attendant:
    """Follows one device by its setup. ``attend`` goes on until it is stopped.

    Raises
    ------
    SetupError
        The setup has errors.

    """

    def __init__(self, setup: CheckedSetup, device: Device, options: AttendOptions) -> None:
        self.checked, self.device, self.options = setup.require(), device, options
        self.setup, self.channels = setup.setup, setup.channels
        self.folder = device_folder(options.folder, self.setup.device.serial)
        self.log = EventLog(self.folder / "attend.jsonl", options.on_event)
        self.clock = options.clock
        self.values, self.steady = ChannelValues(self.channels), SteadyTime(self.clock)
        self.poller = Poller(device, self.values.measured)
        self.situation = Situation(self.channels)
        self.engine = Engine(setup.rules, self.clock.monotonic())
        self.outputs = OutputDriver(
            device, setup.outputs, self.clock, self._with_rights, self.log.add
        )
        self.runs = RunControl(setup.runs, self.setup.zone, self.clock.now(), self._control_run)
        hears = any(rule.trigger.message for rule in setup.rules)
        self.messenger = Messenger(
            self.setup, self.folder, self.clock.now, self.log.add, self._happen if hears else None
        )
        self._lost = False
        self.exchanges = Exchanges(
            setup, self.situation, self.clock, tell=self._tell,
            happen=lambda event: self._happen(Happening(event=event)),
            change=self._change, switch=self._switch_heard,
        )  # fmt: skip
        device.hear_from({name: r.latest for name, r in self.exchanges.runners.items()})
        self._happenings: list[Happening] = []
        self._lock = threading.Lock()
        self._resume()

    # ------------------------------------------------------------------ going on

    def attend(
        self,
        *,
        period_s: float = 1.0,
        duration_s: float = math.inf,
        until: Callable[[], bool] = lambda: False,
    ) -> None:
        """Poll every ``period_s`` for a while, or until something is so; then leave it safe.

        Messages are sent in a thread of their own, so that a slow service never delays a sample.

        Raises
        ------
        DeviceInUse
            Another program attends this device from here.
        WrongDevice, LinkError
            Another device answers, or none.
        OutputNotSafe
            An output that was switched here could not be brought to its safe state.

        """
        wanted = self.setup.device
        identity = self.device.require(wanted.model, wanted.serial)
        with (
            only_attendant(identity),
            claiming(identity, "attendance", address=self.device.address) as self.outputs.note,
        ):
            self.messenger.start()
            self.exchanges.start(identity)
            try:
                self._go_on(period_s, duration_s, until)
            finally:
                with signals_held():
                    self.exchanges.close()
                    try:
                        if self.options.armed:
                            self.outputs.make_safe(self.clock.now())
                    finally:
                        self._keep_state(self.clock.now())
                        self.messenger.end()

    def _go_on(self, period_s: float, duration_s: float, until: Callable[[], bool]) -> None:
        begun = self.clock.monotonic()
        number = 0
        while self.clock.monotonic() - begun <= duration_s:
            self.step()
            if until():
                return
            number += 1
            pause = begun + number * period_s - self.clock.monotonic()
            if pause > 0:
                self.clock.wait(pause)
            else:  # late: the next sample is due from now on, missed ones are not made up for
                number = math.ceil((self.clock.monotonic() - begun) / period_s)

    def step(self) -> None:
        """One sample: read, follow, act."""
        now, now_s = self.clock.now(), self.clock.monotonic()
        values, good, at_rest = self._read(now)
        local = now.astimezone(self.setup.zone)
        since_midnight = local.hour * 3600.0 + local.minute * 60.0 + local.second
        self.situation.outputs.update(
            self.outputs.switches.states if self._lost else self.outputs.read()
        )
        changed = self.situation.take(
            now.timestamp(), values, good, at_rest=at_rest, time_of_day_s=since_midnight
        )
        for number in changed.tolist():
            self._emit_alarm(number, now)
        self._take_requests(now)
        self.exchanges.step()
        with self._lock:
            happened, self._happenings = self._happenings, []
        dues = self.engine.step(now_s, local.date().toordinal(), self.situation, happened)
        for due in dues:
            self._perform(due, now, now_s)
        # Without an answer, or while another device might answer, nothing is switched; it stays due.
        if self.options.armed and not self._lost:
            self.outputs.switch_due(now)
        self.runs.step(now, self.situation.holds, self._is_full)
        if dues or changed.size:
            self._keep_state(now)

    def _read(
        self, now: datetime
    ) -> tuple[NDArray[np.float64], NDArray[np.bool_], NDArray[np.bool_]]:
        try:
            if self._lost:
                # What answers now may be another device: nothing of it is taken, or switched.
                self.device.require(self.setup.device.model, self.setup.device.serial)
            shown, qualities, _ = self.poller.poll()
        except (LinkError, DeviceRefused, WrongDevice) as error:
            if not self._lost:
                self._lost = True
                self._happen(Happening(event="device lost"))
                text = f"does not answer: {error.message}"
                self.log.add(Event(now, EventKind.LINK, "device", text, Done.FAILED))
            count = len(self.channels)
            none = np.zeros(count, bool)
            return np.full(count, np.nan), none, none
        if self._lost:
            self._lost = False
            self._happen(Happening(event="device found"))
            self.log.add(Event(now, EventKind.LINK, "device", "answers again"))
        at = np.array([self.steady.now()])
        values, found = self.values.take(at, shown[None, :], qualities[None, :])
        good = Quality.has_value(found[0]) & np.isfinite(values[0])
        return values[0], good, found[0] == Quality.AT_REST

    def _happen(self, happening: Happening) -> None:
        with self._lock:
            self._happenings.append(happening)

    def _emit_alarm(self, number: int, now: datetime) -> None:
        watched = self.situation.board.watched[number]
        text = f"{self.situation.state(number).words} ({self._shown(watched.channel)})"
        self.log.add(Event(now, EventKind.ALARM, watched.name, text))

    # ------------------------------------------------------------------ acting

    def _perform(self, due: Due, now: datetime, now_s: float) -> None:
        action = due.action
        if isinstance(action, Say) and self.exchanges.is_off(action.message):
            return
        if isinstance(action, MOVES) and not self.options.armed:
            text = f"would {action}, but is not armed ({due.why})"
            self.log.add(Event(now, EventKind.RULE, due.rule, text, Done.NOT_ARMED, action))
            return
        text = f"{action} ({due.why})"
        self.log.add(Event(now, EventKind.RULE, due.rule, text, action=action))
        try:
            self._do(due, now, now_s)
        except LeitwerkError as error:
            text = f"{action}: {error.message}"
            self.log.add(Event(now, EventKind.TROUBLE, due.rule, text, Done.FAILED, action))

    def _do(self, due: Due, now: datetime, now_s: float) -> None:  # noqa: C901 - a line for each kind
        match due.action:
            case SwitchOutput(output, state):
                self.outputs.switches.request(output, state, now_s)
            case Pulse(output, lasts_s):
                self.outputs.switches.request(output, "on", now_s, lasts_s=lasts_s)
            case Notify(contacts, text):
                self._notify(contacts, self._fill(text, due, now), now)
            case ControlRecording(start):
                self._command("start" if start else "stop")
            case Snapshot(label):
                self._snapshot(label, now)
            case ChangeSetting(setting, value):
                self._change(setting, value)
            case WriteLog(text):
                filled = self._fill(text, due, now)
                self.log.add(Event(now, EventKind.LOG, due.rule, filled, action=due.action))
            case HandleAlarm(action, alarm, lasts_s):
                self._handle(alarm, action, now, lasts_s)
            case Say(message):
                self.exchanges.say(message)
            case SwitchLine(line, on):
                self.exchanges.switch(line, on=on)
            case never:
                assert_never(never)

    def _fill(self, text: str, due: Due, now: datetime) -> str:
        """A text with its names filled in."""
        known = {
            "title": self.setup.title,
            "serial": self.setup.device.serial,
            "model": self.setup.device.model,
            "time": f"{now.astimezone(self.setup.zone):%Y-%m-%d %H:%M:%S}",
            "rule": due.rule,
            "why": due.why,
            "alarms": ", ".join(self.active()) or "none",
            **self.situation.outputs,
        }
        return fill(text, lambda name: known[name] if name in known else self._shown(name))

    def _shown(self, channel: str) -> str:
        """The value of a channel for people."""
        return self.checked.channel(channel).words(self.situation.value(channel))

    def active(self) -> list[str]:
        """The alarms that are active now."""
        board = self.situation.board
        return [
            w.name for w, state in zip(board.watched, board.state.tolist(), strict=True)
            if State(state).is_active
        ]  # fmt: skip

    def _notify(self, contacts: Iterable[str], text: str, now: datetime) -> None:
        for name in contacts:
            contact = self.setup.contacts[name]
            for way in contact_ways(contact):
                # A subject is one line, also if the title has several.
                subject = " ".join(f"{self.setup.title}: {text[:60]}".split())
                self.messenger.outbox.put(
                    way=way,
                    to=str(getattr(contact, way)),
                    contact=name,
                    subject=subject,
                    text=text,
                    now_s=now.timestamp(),
                )

    def _is_full(self) -> bool:
        """Whether the device's memory is full, as it says."""
        try:
            used = self.device.status_points().get(MEMORY_USED.name, 0.0)
        except (LinkError, DeviceRefused, WrongDevice):
            return False
        return isinstance(used, float) and used >= _FULL

    def _control_run(self, command: str, run: str) -> None:
        """Start or stop the recording of a planned run."""
        now, text = self.clock.now(), f"{command} recording"
        try:
            self._command(command)
        except LeitwerkError as error:
            problem = f"{text}: {error.message}"
            self.log.add(Event(now, EventKind.TROUBLE, run, problem, Done.FAILED))
        else:
            self.log.add(Event(now, EventKind.RUN, run, text))

    def _command(self, command: str) -> None:
        with self.device.staying_the_same():
            self._with_rights(lambda: self.device.command(command))

    def _with_rights(self, act: Callable[[], None]) -> None:
        if self.device.datasheet.role:
            self.device.log_in_with(self.device.datasheet.role, self.options.passwords)
        act()

    def _change(self, setting: str, text: str) -> None:
        point = self.device.datasheet.settings[setting]
        value = point.storable(point.value_of(text))
        wanted = DeviceSettings(self.device.datasheet.model, {setting: value})
        source = TaskSource("rule", self.setup.source.file, self.setup.title, self._setup_hash())
        options = UploadOptions(self.options.folder, self.options.passwords, self.options.by)
        carry(self.device, UploadTask(wanted, source, self.setup.device.serial), options)
        self.exchanges.changed[setting] = value

    def _snapshot(self, label: str, now: datetime) -> None:
        content = {
            "snapshot": 1,
            "label": label,
            "taken": now.isoformat(timespec="seconds"),
            "identity": self.device.identify().to_dict(),
            "status": self.device.status_points(),
            "settings": dict(self.device.read_settings().values),
            "readings": {c.name: self.situation.value(c.name) for c in self.channels},
            "alarms": {w.name: self.situation.state(k).words
                       for k, w in enumerate(self.situation.board.watched)},
        }  # fmt: skip
        plain = "".join(c if c.isalnum() or c in "-_" else "-" for c in label)[:40]
        path = self.folder / f"{now:%Y-%m-%dT%H%M%S.%fZ}-{plain}-snapshot.json"
        write_atomic(path, json.dumps(content, indent=1, ensure_ascii=False, default=str))

    # ------------------------------------------------------------------ exchanges

    def _tell(self, told: Told) -> None:
        done = Done.FAILED if told.failed else Done.YES
        self.log.add(Event(self.clock.now(), EventKind.EXCHANGE, told.subject, told.text, done))

    def _switch_heard(self, output: str, state: str) -> None:
        """Switch an output because the other end of an exchange said so."""
        if not self.options.armed:
            raise LeitwerkError("outputs are not armed", remedy="attend with --arm")
        self.outputs.switches.request(output, state, self.clock.monotonic())

    # ------------------------------------------------------------------ people

    def _handle(
        self,
        alarm: str,
        action: OperatorAction,
        now: datetime,
        lasts_s: float = 0.0,
        said: str = "",
    ) -> None:
        number = self.situation.board.number(alarm)
        until = now.timestamp() + lasts_s if lasts_s else math.inf
        before = self.situation.state(number)
        self.situation.board.do(number, action, until_s=until)
        after = self.situation.state(number)
        changed = f"{before.words} -> {after.words}" if after != before else "changes nothing"
        self.log.add(Event(now, EventKind.OPERATOR, alarm, f"{action.value}{said}: {changed}"))

    def _take_requests(self, now: datetime) -> None:
        """What people asked for by ``leitwerk acknowledge``."""
        for request in take_requests(self.folder):
            if isinstance(request, FileProblem):
                problem = request.message
            elif request.alarm not in {w.name for w in self.situation.board.watched}:
                problem = f"there is no alarm {request.alarm[:60]!r}"
            else:
                self._handle(request.alarm, request.action, now, request.lasts_s, request.said)
                continue
            self.log.add(Event(now, EventKind.TROUBLE, "request", problem, Done.FAILED))

    # ------------------------------------------------------------------ kept and taken up again

    def _setup_hash(self) -> str:
        return content_hash(self.setup.source.content)

    def _keep_state(self, now: datetime) -> None:
        state = AttendState(
            setup=self._setup_hash(),
            alarms=self.situation.board.to_dict(),
            derived=self.values.state(),
            rules=self.engine.to_dict(self.clock.monotonic()),
            at_s=now.timestamp(),
        )
        try:
            keep_state(self.folder, state)
        except FileProblem as error:
            self.log.add(Event(now, EventKind.TROUBLE, "state", error.message, Done.FAILED))

    def _resume(self) -> None:
        """Go on where the last one ended, if it was by the same setup: nothing is reported twice."""
        state = read_state(self.folder, self._setup_hash())
        if state is None:
            return
        try:
            self.situation.board.resume(state.alarms)
            away_s = self.clock.now().timestamp() - state.at_s
            self.engine.resume(state.rules, self.clock.monotonic(), away_s)
            self.values.resume(state.derived)
        except (ValueError, KeyError, TypeError):
            return  # it was damaged


def needs_login(setup: CheckedSetup, *, armed: bool) -> bool:
    """Whether attending a device will need its password: then it is asked for at the start."""
    if not setup.datasheet.role:
        return False
    acts: list[Action] = [
        action
        for rule in setup.rules
        for action in (*rule.actions, *(rule.escalation.actions if rule.escalation else ()))
    ]
    return (
        armed
        or any(not run.stores for run in setup.runs)
        or any(
            part.of.startswith("setting ")
            for c in setup.exchanges
            if c.at is not None
            for line in c.exchange.understands.lines
            for part in line.parts
        )
        or any(isinstance(action, ChangeSetting | ControlRecording) for action in acts)
    )
