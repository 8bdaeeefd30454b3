"""Attending a device: poll, follow alarms and rules, switch outputs, send messages."""

from __future__ import annotations

import json
import math
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from leitwerk.alarms.states import OperatorAction, State
from leitwerk.check.channels import CheckedChannel
from leitwerk.check.compile import check_into
from leitwerk.check.outputs import assign_outputs
from leitwerk.check.rules import check_rules, contact_ways
from leitwerk.check.timing import run_plans
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.datasheet.vocabulary import DRIVE_RELAY, RELAY_STATE
from leitwerk.devices.device import Device
from leitwerk.errors import (
    DeviceRefused,
    FileProblem,
    LeitwerkError,
    LinkError,
    SetupError,
    WrongDevice,
)
from leitwerk.evaluation.situation import Situation
from leitwerk.findings import Findings
from leitwerk.monitoring.events import Event
from leitwerk.monitoring.messenger import Post
from leitwerk.monitoring.poller import Poller, to_values
from leitwerk.monitoring.run_control import Recorder
from leitwerk.project.files import read_bytes, remove_file, write_atomic
from leitwerk.project.kept import device_folder
from leitwerk.project.locks import only_attendant
from leitwerk.rules.definition import (
    MOVES,
    ChangeSetting,
    ControlRecording,
    HandleAlarm,
    Happening,
    Notify,
    Pulse,
    Snapshot,
    SwitchOutput,
    WriteLog,
)
from leitwerk.rules.engine import Due, Engine
from leitwerk.rules.message_text import fill
from leitwerk.rules.switches import Switches
from leitwerk.setup.model import Setup
from leitwerk.signals.quality import Quality
from leitwerk.transfer.task import NOTHING_MORE, TaskSource, Terms, UploadTask, content_hash
from leitwerk.transfer.transaction import carry

_LOG_BYTES = 5_000_000  # then the log is begun anew, and the old one kept beside it
_STATE_FORMAT = 1
_FULL = 99.95  # percent of the memory: devices tell tenths


@dataclass(frozen=True)
class AttendOptions:
    """How a device is attended.

    Attributes
    ----------
    keep : path
        The folder for the log, waiting messages, snapshots and receipts.
    armed : bool
        Whether outputs may be switched. Without, it is only said what would be.
    passwords : mapping from role to password
        Asked for what needs a login.
    told : callable
        Called with every event.
    wall, clock, wait : callables
        The time of day, a clock that does not go back, and how to wait.

    """

    keep: Path
    armed: bool = False
    passwords: Mapping[str, str] = field(default_factory=dict)
    told: Callable[[Event], None] = lambda event: None
    by: str = "unnamed"
    wall: Callable[[], datetime] = lambda: datetime.now(UTC)
    clock: Callable[[], float] = time.monotonic
    wait: Callable[[float], None] = time.sleep


class Attendant:
    """Follows one device by its setup. ``attend`` goes on until it is told to end.

    Raises
    ------
    SetupError
        The setup has errors on the device's model.

    """

    def __init__(self, setup: Setup, device: Device, means: AttendOptions) -> None:
        findings = Findings(setup.source.file, setup.source.root)
        sheet = device.datasheet
        self.channels: Sequence[CheckedChannel] = check_into(setup, sheet, findings)
        if findings.has_errors:
            raise SetupError(findings.file, findings.sorted())
        self._channel = {c.name: c for c in self.channels}
        quiet = Findings(setup.source.file)
        self.outputs = assign_outputs(setup, sheet, self.channels, quiet)
        rules = check_rules(setup, sheet, self.channels, self.outputs, quiet)
        self.setup, self.device, self.means = setup, device, means
        self.folder = device_folder(means.keep, setup.device.serial)
        self.events: deque[Event] = deque(maxlen=10_000)
        self.poller = Poller(device, self.channels)
        self.situation = Situation(self.channels)
        self.engine = Engine(rules, means.clock())
        switches = [o.switch for o in self.outputs if o.switch is not None and not o.follows]
        self.switches = Switches(switches, means.clock())
        plans = run_plans(setup) if "start" in sheet.commands else []
        self.recorder = Recorder(plans, setup.zone, means.wall(), self._record)
        self._terminals = {o.name: o.terminal for o in self.outputs if o.switch is not None}
        relay = sheet.family(RELAY_STATE)
        self._relays = {n: relay.point(t.slot) for n, t in self._terminals.items() if relay}
        hears = any(rule.trigger.message for rule in rules)
        self.post = Post(
            setup, self.folder, means.wall, self._tell, self._happen if hears else None
        )
        self._lost = False
        self._troubles: dict[str, str] = {}
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

        Messages are sent beside that, so that a slow service never delays a sample.

        Raises
        ------
        DeviceInUse
            Somebody else attends this device from here.
        WrongDevice, LinkError
            Another device answers, or none.

        """
        wanted = self.setup.device
        with only_attendant(self.device.require(wanted.model, wanted.serial)):
            self._attend(period_s, duration_s, until)

    def _attend(self, period_s: float, duration_s: float, until: Callable[[], bool]) -> None:
        self.post.start()
        begun = self.means.clock()
        number = 0
        try:
            while self.means.clock() - begun <= duration_s:
                self.step()
                if until():
                    break
                number += 1
                pause = begun + number * period_s - self.means.clock()
                if pause > 0:
                    self.means.wait(pause)
                else:  # late: the next sample is due from now on, none is made up for
                    number = math.ceil((self.means.clock() - begun) / period_s)
        finally:
            self._leave()
            self.post.end()

    def step(self) -> None:
        """One sample: read, follow, act."""
        wall, now_s = self.means.wall(), self.means.clock()
        values, good = self._read(wall)
        local = wall.astimezone(self.setup.zone)
        since_midnight = local.hour * 3600.0 + local.minute * 60.0 + local.second
        self._read_outputs()
        changed = self.situation.take(wall.timestamp(), values, good, time_of_day_s=since_midnight)
        for number in changed.tolist():
            self._tell_alarm(number, wall)
        self._take_acts(wall)
        with self._lock:
            happened, self._happenings = self._happenings, []
        dues = self.engine.step(now_s, local.date().toordinal(), self.situation, happened)
        for due in dues:
            self._perform(due, wall, now_s)
        self._switch(wall, now_s)
        self.recorder.step(wall, self.situation.holds, self._is_full)
        if dues or changed.size:
            self._keep_state(wall)

    def _read(self, wall: datetime) -> tuple[Any, Any]:
        try:
            if self._lost:
                # Whoever answers now may be another device: nothing of it is taken, or switched.
                self.device.require(self.setup.device.model, self.setup.device.serial)
            shown, qualities, _ = self.poller.poll()
        except (LinkError, DeviceRefused, WrongDevice) as error:
            if not self._lost:
                self._lost = True
                self._happen(Happening(event="lost"))
                self._tell(wall, "link", "device", f"does not answer: {error.message}")
            nothing = np.full(len(self.channels), np.nan)
            return nothing, np.zeros(len(self.channels), bool)
        if self._lost:
            self._lost = False
            self._happen(Happening(event="found"))
            self._tell(wall, "link", "device", "answers again")
        values, found = to_values(self.channels, shown[None, :], qualities[None, :])
        return values[0], (found[0] == Quality.GOOD) & np.isfinite(values[0])

    def _happen(self, happening: Happening) -> None:
        with self._lock:
            self._happenings.append(happening)

    def _tell_alarm(self, number: int, wall: datetime) -> None:
        watching = self.situation.board.watched[number]
        text = f"{self.situation.state(number).words} ({self._shown(watching.channel)})"
        self._tell(wall, "alarm", watching.name, text)

    def _tell(self, wall: datetime, kind: str, subject: str, text: str) -> None:
        event = Event(wall, kind, subject, text)
        with self._lock:
            self.events.append(event)
            self._log(event)
        self.means.told(event)

    def _log(self, event: Event) -> None:
        path = self.folder / "attend.jsonl"
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if path.exists() and path.stat().st_size > _LOG_BYTES:
                path.replace(path.with_suffix(".1.jsonl"))
            with path.open("a", encoding="utf-8") as file:
                file.write(json.dumps(event.to_dict(), ensure_ascii=False) + "\n")
        except OSError as error:
            # A full disk must not keep an output from being switched; it is told where it can be.
            trouble = error.strerror or type(error).__name__
            self.means.told(Event(event.at, "trouble", "log", f"cannot write {path}: {trouble}"))

    # ------------------------------------------------------------------ acting

    def _perform(self, due: Due, wall: datetime, now_s: float) -> None:
        action = due.action
        if isinstance(action, MOVES) and not self.means.armed:
            self._tell(wall, "rule", due.rule, f"would {action}, but is not armed ({due.why})")
            return
        self._tell(wall, "rule", due.rule, f"{action} ({due.why})")
        try:
            self._do(due, wall, now_s)
        except LeitwerkError as error:
            self._tell(wall, "trouble", due.rule, f"{action}: {error.message}")

    def _do(self, due: Due, wall: datetime, now_s: float) -> None:
        match due.action:
            case SwitchOutput(output, state):
                self.switches.ask(output, state, now_s)
            case Pulse(output, lasts_s):
                self.switches.ask(output, "on", now_s, lasts_s=lasts_s)
            case Notify(contacts, text):
                self._notify(contacts, self.fill(text, due, wall), wall)
            case ControlRecording(start):
                self._with_rights(lambda: self.device.command("start" if start else "stop"))
            case Snapshot(label):
                self._snapshot(label, wall)
            case ChangeSetting(setting, value):
                self._change(setting, value)
            case WriteLog(text):
                self._tell(wall, "log", due.rule, self.fill(text, due, wall))
            case HandleAlarm(action, alarm, lasts_s):
                self._act(alarm, action, wall, lasts_s)

    def fill(self, text: str, due: Due, wall: datetime) -> str:
        """A text with its names filled in."""
        known = {
            "title": self.setup.title,
            "serial": self.setup.device.serial,
            "model": self.setup.device.model,
            "time": f"{wall.astimezone(self.setup.zone):%Y-%m-%d %H:%M:%S}",
            "rule": due.rule,
            "why": due.why,
            "alarms": ", ".join(self.active()) or "none",
            **self.situation.outputs,
        }
        return fill(text, lambda name: known[name] if name in known else self._shown(name))

    def _shown(self, channel: str) -> str:
        """The value of a channel for people."""
        return self._channel[channel].words(self.situation.value(channel))

    def active(self) -> list[str]:
        """The alarms that are active now."""
        board = self.situation.board
        return [
            w.name for w, state in zip(board.watched, board.state.tolist(), strict=True)
            if State(state).is_active
        ]  # fmt: skip

    def _notify(self, contacts: Iterable[str], text: str, wall: datetime) -> None:
        for name in contacts:
            contact = self.setup.contacts[name]
            for way in contact_ways(contact):
                # A subject is one line, whatever stands in a title.
                subject = " ".join(f"{self.setup.title}: {text[:60]}".split())
                to = str(getattr(contact, way))
                self.post.outbox.put(way, to, name, subject, text, wall.timestamp())

    def _is_full(self) -> bool:
        """Whether the device's memory is full, as it says."""
        try:
            used = self.device.status_points().get("memory.used", 0.0)
        except (LinkError, DeviceRefused):
            return False
        return isinstance(used, float) and used >= _FULL

    def _record(self, word: str, run: str) -> None:
        wall = self.means.wall()
        try:
            self._with_rights(lambda: self.device.command(word))
        except LeitwerkError as error:
            self._tell(wall, "trouble", run, f"{word} recording: {error.message}")
        else:
            self._tell(wall, "run", run, f"{word} recording")

    def _with_rights(self, act: Callable[[], None]) -> None:
        if self.device.datasheet.role:
            self.device.log_in_with(self.device.datasheet.role, self.means.passwords)
        act()

    def _change(self, setting: str, text: str) -> None:
        point = self.device.datasheet.settings[setting]
        value = point.value_of(text)
        wanted = DeviceSettings(self.device.datasheet.model, {setting: point.storable(value)})
        digest = content_hash(self.setup.source.content)
        source = TaskSource("rule", self.setup.source.file, self.setup.title, digest)
        terms = Terms(self.means.keep, self.means.passwords, NOTHING_MORE, self.means.by)
        carry(self.device, UploadTask(wanted, source, self.setup.device.serial), terms)

    def _snapshot(self, label: str, wall: datetime) -> None:
        content = {
            "snapshot": 1,
            "label": label,
            "taken": wall.isoformat(timespec="seconds"),
            "identity": self.device.identify().to_dict(),
            "status": self.device.status_points(),
            "settings": dict(self.device.read_settings().values),
            "readings": {c.name: self.situation.value(c.name) for c in self.channels},
            "alarms": {w.name: self.situation.state(k).words
                       for k, w in enumerate(self.situation.board.watched)},
        }  # fmt: skip
        plain = "".join(c if c.isalnum() or c in "-_" else "-" for c in label)[:40]
        path = self.folder / f"{wall:%Y-%m-%dT%H%M%S.%fZ}-{plain}-snapshot.json"
        write_atomic(path, json.dumps(content, indent=1, ensure_ascii=False, default=str))

    # ------------------------------------------------------------------ outputs

    def _read_outputs(self) -> None:
        """What the outputs are, as the device says; what it does not say is as it was asked."""
        self.situation.outputs.update(self.switches.states)
        if not self._relays or self._lost:
            return
        try:
            found = self.device.read_points(list(self._relays.values()))
        except (LinkError, DeviceRefused):
            return
        shown = {name: str(found[point.name]) for name, point in self._relays.items()}
        self.situation.outputs.update(shown)

    def _switch(self, wall: datetime, now_s: float) -> None:
        # While nobody answers, or somebody else might, nothing is switched; it stays due.
        if self.means.armed and not self._lost:
            for name, state in self.switches.due(now_s):
                self._drive(name, state, wall)

    def _drive(self, name: str, state: str, wall: datetime) -> None:
        slot = self._terminals[name].slot
        family = self.device.datasheet.family(DRIVE_RELAY)
        try:
            if family is None:
                raise LinkError("this model's outputs cannot be driven over its link")  # noqa: TRY301
            self._with_rights(lambda: self.device.write_point(family.point(slot), state))
        except LinkError as error:
            self.switches.failed(name)
            self._tell_trouble(name, f"was not switched {state}: {error.message}", wall)
        except LeitwerkError as error:
            self.switches.refused(name)
            self._tell_trouble(name, f"was not switched {state}: {error.message}", wall)
        else:
            self._troubles.pop(name, None)
            self.switches.switched(name, state, self.means.clock())
            self._tell(wall, "output", name, state)

    def _tell_trouble(self, name: str, text: str, wall: datetime) -> None:
        """Tell what goes wrong with an output, once for as long as it is the same."""
        if self._troubles.get(name) != text:
            self._troubles[name] = text
            self._tell(wall, "trouble", name, text)

    def _leave(self) -> None:
        """Bring every output switched here to its safe state, and keep where everything stands."""
        wall = self.means.wall()
        if self.means.armed:
            for name, state in self.switches.unsafe():
                self._drive(name, state, wall)
        self._keep_state(wall)

    # ------------------------------------------------------------------ people

    def _act(self, alarm: str, act: OperatorAction, wall: datetime, lasts_s: float = 0.0) -> None:
        number = self.situation.board.number(alarm)
        until = wall.timestamp() + lasts_s if lasts_s else math.inf
        before = self.situation.state(number)
        self.situation.board.do(number, act, until_s=until)
        after = self.situation.state(number)
        changed = f"{before.words} -> {after.words}" if after != before else "changes nothing"
        self._tell(wall, "operator", alarm, f"{act.value}: {changed}")

    def _take_acts(self, wall: datetime) -> None:
        """What people asked for by ``leitwerk acknowledge``, in files of a folder."""
        folder = self.folder / "acts"
        if not folder.is_dir():
            return
        for path in sorted(folder.glob("*.json"))[:1000]:
            try:
                content = json.loads(read_bytes(path))
                alarm, act = str(content["alarm"]), OperatorAction(content["act"])
                self._act(alarm, act, wall, float(content.get("lasts_s", 0.0)))
            except (ValueError, KeyError, TypeError, FileProblem):
                self._tell(wall, "trouble", path.name[:24], "holds nothing that could be done")
            try:
                remove_file(path)
            except FileProblem as error:
                self._tell(wall, "trouble", path.name[:24], error.message)
                return  # what cannot be removed would be done again and again

    # ------------------------------------------------------------------ kept and taken up again

    def _keep_state(self, wall: datetime) -> None:
        content = {
            "attend": _STATE_FORMAT,
            "setup": content_hash(self.setup.source.content),
            "alarms": self.situation.board.to_dict(),
            "rules": self.engine.to_dict(self.means.clock()),
            "at_s": wall.timestamp(),
        }
        try:
            write_atomic(self.folder / "attend-state.json", json.dumps(content))
        except FileProblem as error:
            self._tell(wall, "trouble", "state", error.message)

    def _resume(self) -> None:
        """Go on where the last one ended, if it was by the same setup: nothing is told twice."""
        try:
            content = json.loads(read_bytes(self.folder / "attend-state.json"))
            if content["setup"] == content_hash(self.setup.source.content):
                self.situation.board.resume(content["alarms"])
                away_s = self.means.wall().timestamp() - float(content["at_s"])
                self.engine.resume(content["rules"], self.means.clock(), away_s)
        except (FileProblem, ValueError, KeyError, TypeError):
            return  # there was none, or it is of another setup or format
