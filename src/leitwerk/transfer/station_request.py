"""Changes for a station that sleeps: asked for now, in force when it wakes and says so."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from leitwerk.check.checked import CheckedSetup
from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.settings import DeviceSettings, SettingChange, diff_settings, lines_by_block
from leitwerk.errors import WrongDevice
from leitwerk.identity import same_number
from leitwerk.links.mqtt import StationLink
from leitwerk.project.files import write_atomic
from leitwerk.project.kept import device_folder
from leitwerk.project.kept_json import KeptFile, read_kept
from leitwerk.protocols.station import Desired, RequestStatus, State, is_overdue, judge
from leitwerk.transfer.task import UploadOptions

FILE = "requests.json"
_KEPT = 200  # requests of one station that are kept
_ID = 16  # characters


@dataclass(frozen=True)
class StationView:
    """A station as it was when it last woke, and how the change stands that is asked of it."""

    state: State
    status: RequestStatus
    desired: Desired | None
    waiting: tuple[SettingChange, ...]
    overdue: bool
    superseded: str
    now: datetime

    def rows(self) -> list[tuple[str, str]]:
        """Heading and text of each row."""
        state, desired = self.state, self.desired
        rows = [
            ("station", f"{state.maker} {state.model}, serial number {state.serial}".strip()),
            ("last awake", f"{_stamp(state.at)}, {_ago(self.now - state.at)} ago"),
            ("expected", f"{_stamp(state.next)}" + (", overdue" if self.overdue else "")),
            ("change", self._change()),
        ]
        if desired is not None:
            rows.append(("asked", f"{_stamp(desired.at)} by {desired.by}"))
            if desired.expires is not None and self.status is RequestStatus.REQUESTED:
                rows.append(("expires", _stamp(desired.expires)))
        if self.superseded:
            rows.append(("superseded", self.superseded))
        if state.self_test is not None:
            test = state.self_test
            text = "; ".join(test.reasons) or f"{test.outcome} ({', '.join(test.results)})"
            rows.append(("self-test", f"{_stamp(state.self_test.at)}: {text}"))
        shown = [(c.setting, f"{c.shown_old()} -> {c.shown_new()}") for c in self.waiting]
        rows += [("waiting", line) for line in lines_by_block(shown)]
        return rows

    def _change(self) -> str:
        answer = self.state.answer
        if self.status in {RequestStatus.IN_FORCE, RequestStatus.REFUSED} and answer is not None:
            why = f": {answer.reason}" if answer.reason else ""
            return f"{self.status.value} since {_stamp(answer.at)}{why}"
        return self.status.value

    def to_dict(self) -> dict[str, Any]:
        """The view as plain data for JSON."""
        return {
            "state": self.state.model_dump(mode="json"),
            "status": self.status.name.lower().replace("_", " "),
            "desired": self.desired.model_dump(mode="json") if self.desired else None,
            "waiting": [change.to_dict() for change in self.waiting],
            "overdue": self.overdue,
            "superseded": self.superseded,
        }


def request_setup(
    setup: CheckedSetup,
    link: StationLink,
    options: UploadOptions,
    *,
    expires_s: float | None = None,
    self_test: bool = False,
) -> StationView:
    """Ask a station for the settings of a setup; it takes them when it wakes, or refuses them.

    A change that is still waiting is replaced by this one, and shown as superseded. When the station
    has these settings already, and nothing else is waiting, nothing is asked for. With
    ``self_test`` it tests itself first: signal, battery, memory, every sensor; when something is
    wrong, it takes nothing and says what.

    Raises
    ------
    SetupError
        The setup has errors; nothing was asked for.
    WrongDevice
        The broker keeps the messages of another station.
    LinkError
        The broker was not reached, or did not confirm.

    """
    settings = setup.require().settings
    view = read_station(setup, link, options)
    changes = _changes(view.state, settings, setup.datasheet)
    if not changes and not self_test and view.status is not RequestStatus.REQUESTED:
        return view
    moment = _whole_second(options)
    text = json.dumps([dict(settings.values), moment.isoformat()], sort_keys=True)
    desired = Desired(
        id=hashlib.sha256(text.encode()).hexdigest()[:_ID],
        by=options.by,
        at=moment,
        expires=None if expires_s is None else moment + timedelta(seconds=expires_s),
        self_test=self_test,
        settings=dict(settings.values),
    )
    folder = device_folder(Path(options.folder), view.state.serial)
    kept = _read(folder / FILE)
    if view.status is RequestStatus.REQUESTED and view.desired is not None:
        kept = [
            {**entry, "superseded_by": desired.id} if entry.get("id") == view.desired.id else entry
            for entry in kept
        ]
    # On disk first: what was asked for is known here, also if the connection is lost.
    kept.append({**desired.model_dump(mode="json"), "setup": setup.setup.source.file})
    write_atomic(folder / FILE, json.dumps({"requests": kept[-_KEPT:]}, indent=2) + "\n")
    link.request(desired)
    return read_station(setup, link, options)


def read_station(setup: CheckedSetup, link: StationLink, options: UploadOptions) -> StationView:
    """How a station stands, by what the broker keeps of it. Nothing is asked of it.

    Raises
    ------
    WrongDevice
        The broker keeps the messages of another station.
    LinkError
        The broker was not reached, or keeps nothing of it.

    """
    wanted, datasheet = setup.setup.device, setup.datasheet
    state, desired, moment = link.state(), link.desired(), _whole_second(options)
    if state.model != wanted.model or not same_number(state.serial, wanted.serial):
        raise WrongDevice(
            f"{link.address} keeps the messages of {state.model} {state.serial}, the setup is for "
            f"{wanted.model} {wanted.serial}",
            remedy="is it the right broker, the right setup? Nothing was asked for.",
        )
    status = judge(desired, state, moment)
    waiting: list[SettingChange] = []
    if desired is not None and status is RequestStatus.REQUESTED:
        waiting = _changes(state, DeviceSettings(state.model, desired.settings), datasheet)
    kept = _read(device_folder(Path(options.folder), state.serial) / FILE)
    current = desired.id if desired is not None else ""
    replaced = [entry for entry in kept if entry.get("superseded_by") == current and current]
    superseded = ", ".join(f"{e.get('at', '?')} by {e.get('by', '?')}" for e in replaced)
    return StationView(
        state, status, desired, tuple(waiting), is_overdue(state, moment), superseded, moment
    )


def _changes(state: State, settings: DeviceSettings, datasheet: Datasheet) -> list[SettingChange]:
    known = {name: value for name, value in settings.values.items() if name in datasheet.settings}
    return diff_settings(
        DeviceSettings(state.model, state.settings), DeviceSettings(state.model, known), datasheet
    )


def _read(path: Path) -> list[dict[str, Any]]:
    """The requests that were made from here; a file that is not valid is not written over."""
    if not path.exists():
        return []
    return read_kept(path, _RequestsFile, "a list of requests", "move it away").requests


class _RequestsFile(KeptFile):
    requests: list[dict[str, Any]]


def _whole_second(options: UploadOptions) -> datetime:
    """The time, in whole seconds as messages have it."""
    return options.clock.now().replace(microsecond=0)


def _stamp(moment: datetime) -> str:
    return moment.isoformat(timespec="seconds").replace("+00:00", "Z")


def _ago(span: timedelta) -> str:
    seconds = max(0.0, span.total_seconds())
    for length, name in ((86400.0, "days"), (3600.0, "hours"), (60.0, "minutes")):
        if seconds >= 2.0 * length:
            return f"{seconds / length:.0f} {name}"
    return f"{seconds:.0f} s"
