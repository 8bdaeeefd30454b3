"""A transaction: settings carried to a device whole, or not at all, and proven."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TypeVar

from leitwerk.datasheet.settings import (
    DeviceSettings,
    SettingChange,
    diff_settings,
    same_stored,
)
from leitwerk.datasheet.vocabulary import RADIO_SETTINGS, UNCOMMITTED
from leitwerk.devices.device import Device, Status
from leitwerk.errors import (
    DeviceInUse,
    DeviceRefused,
    LeitwerkError,
    LinkError,
    UploadError,
    WrongDevice,
)
from leitwerk.identity import Identity
from leitwerk.project.claims import require_unclaimed
from leitwerk.project.held_signals import signals_held
from leitwerk.project.locks import only_writer
from leitwerk.recordings.fetch import RecordedWith, fetch_recordings
from leitwerk.transfer.history import head_of
from leitwerk.transfer.journal import Journal, read_journal
from leitwerk.transfer.receipt import KeptFiles, Receipt, settings_hash
from leitwerk.transfer.secrets import SecretsPlan, plan_secrets, unset_secrets
from leitwerk.transfer.settings_state import AS_BEFORE, NOTHING_TO_RECOVER, SettingsState
from leitwerk.transfer.task import UploadOptions, UploadTask

T = TypeVar("T")
_AGAIN = (
    "remove the cause, then run the same upload again: it reads the device and goes on from there"
)


def carry(device: Device, task: UploadTask, options: UploadOptions) -> Receipt:
    """Carry settings to a device, and prove that they arrived.

    Parameters
    ----------
    device : Device
    task : UploadTask
        The settings that it shall have; all others stay as they are.
    options : UploadOptions

    Returns
    -------
    Receipt
        It and the backup are also kept as files.

    Raises
    ------
    WrongDevice
        Another device answered; nothing was written.
    DeviceInUse
        Another program is writing to it; nothing was written.
    UploadError
        Anything else; it says what state the device is in and what to do.

    """
    started = options.clock.now()
    attempt = _Attempt(device, task, options)
    try:
        identity = attempt.identify()
        with only_writer(identity, options.wait_s):
            require_unclaimed(identity)
            return attempt.run(identity, started)
    except (UploadError, DeviceInUse):
        raise  # they say it all
    except (Exception, KeyboardInterrupt, SystemExit) as error:  # also what nothing here expects
        if isinstance(error, WrongDevice) and attempt.settings is SettingsState.UNTOUCHED:
            raise
        if isinstance(error, WrongDevice):
            attempt.settings = SettingsState.SWAPPED
        with signals_held():
            state = attempt.retreat()
        # While nothing has happened, the cause's own remedy is the better one.
        own_remedy = getattr(error, "remedy", "") if state == SettingsState.UNTOUCHED else ""
        raise UploadError(_reason(error), state=state, remedy=own_remedy or _AGAIN) from error


def _reason(error: BaseException) -> str:
    """What ended a transaction."""
    if isinstance(error, LeitwerkError):
        return error.message
    if isinstance(error, KeyboardInterrupt):
        return "the upload was stopped by the keyboard or a signal"
    return f"the upload was ended by {type(error).__name__}" + (f": {error}" if str(error) else "")


class _Attempt:
    """One transaction on its way, and what it has done to the device so far."""

    def __init__(self, device: Device, task: UploadTask, options: UploadOptions) -> None:
        self.device = device
        self.task = task
        self.options = options
        self.settings = SettingsState.UNTOUCHED
        self.journal: Journal | None = None
        self.earlier: Journal | None = None
        self.changes: list[SettingChange] = []
        self.logged_in = False
        self.stops = False
        self.erases = False
        self.recommits = False
        self.stopped = False
        self.started_again = False
        self.discarded = 0
        self.fetched: list[Path] = []
        self.adjusted: list[SettingChange] = []
        self.clock = ""
        self.secrets = SecretsPlan({}, ())
        self.remarks: list[str] = []

    def step(self, name: str, act: Callable[[], T]) -> T:
        """Do one step and show it before and after."""
        self.progress(name, 0, 1)
        result = act()
        self.progress(name, 1, 1)
        return result

    def progress(self, name: str, done: int, total: int) -> None:
        """Show how far a step is; a terminal or a pipe that is gone ends nothing."""
        with contextlib.suppress(Exception, SystemExit):
            self.options.on_progress(name, done, total)

    def identify(self) -> Identity:
        return self.step(
            "identify the device",
            lambda: self.device.require(self.task.wanted.model, self.task.serial),
        )

    def run(self, identity: Identity, started: datetime) -> Receipt:
        """All steps after the device is known and locked for other programs."""
        options, device = self.options, self.device
        files = KeptFiles.at(Path(options.folder), identity.serial, started)
        self.earlier = read_journal(files.folder)
        self.require_own()
        status = self.step("look what it is doing", device.status)
        # What was stopped by an interrupted upload is started again by this one.
        self.stopped = self.earlier is not None and self.earlier.stopped and not status.recording
        self.drop_leftovers(status)
        before = self.step("read its settings", device.read_settings)
        self.step("keep a backup", lambda: files.write_backup(before, identity, started))
        self.changes = diff_settings(before, self.task.wanted, device.datasheet)
        self.secrets = plan_secrets(
            self.task.secrets, device, identity.serial, files.folder, options
        )
        self.require_idle(status)
        self.require_radio()
        requests = 0
        self.look_for_foreign(before)
        writes = bool(self.changes or self.secrets.values or self.recommits)
        if writes or self.erases or self.stopped:
            self.require_fit()
            self.require_state()
            self.look_at_clock()
            self.log_in(device.datasheet.role_for(self.written()))
            if writes or self.stops:
                self.open_journal(files, identity, started, before)
            self.make_ready(status, files, before)
            if writes:
                requests = self.write()
                self.commit()
        restart = self.restart()
        after = self.verify(before)
        self.finish()
        receipt = Receipt(
            by=options.by,
            started=started,
            finished=options.clock.now(),
            source=self.task.source,
            identity=identity,
            address=str(device.address),
            changes=tuple(self.changes),
            requests=requests,
            together=device.commits,
            verified=len({**before.values, **self.task.wanted.values}),
            settings_sha256=settings_hash(after),
            previous=head_of(files.folder),
            clock=self.clock,
            rounded=self.task.rounded,
            left=self.task.left,
            account=self.task.account,
            adjusted=tuple(
                f"{c.setting} to {c.shown_old()}, asked {c.shown_new()}" for c in self.adjusted
            ),
            discarded=self.discarded,
            fetched=tuple(str(path) for path in self.fetched),
            restarted=self.started_again,
            restart=restart,
            secrets=self.secrets.entries,
            remarks=tuple(self.remarks),
            backup=str(files.path("backup.json")),
        )
        self.step("keep the receipt", lambda: files.write_receipt(receipt))
        # The receipt is on disk: nothing is left to be finished or undone.
        files.close_journal()
        return receipt

    # ------------------------------------------------------------------ before the first write

    def require_own(self) -> None:
        """Insist that an upload which was interrupted is this one, or is settled by it."""
        earlier, mine = self.earlier, self.task.source
        if earlier is None or self.task.replaces:
            return
        if (earlier.source.kind, earlier.source.sha256) == (mine.kind, mine.sha256):
            return  # the same again: it goes on from where it stopped
        raise UploadError(
            f"an earlier upload to this device was interrupted: {earlier}",
            state="not known before it is read; 'leitwerk recover' reads it",
            remedy="finish or undo that one first: leitwerk recover, with --finish or --undo",
        )

    def require_idle(self, status: Status) -> None:
        """Insist that nothing is disturbed that was not given up."""
        sheet, options = self.device.datasheet, self.options
        at_work = sheet.takes_while_recording(self.written())
        given_up = not self.task.keeps_recordings and (
            options.discard_recordings or options.fetch_recordings
        )
        self.erases = given_up and status.unfetched > 0
        if status.recording and not options.stop_recording and (self.erases or not at_work):
            raise UploadError(
                "the device is recording, and takes settings only when stopped",
                state=SettingsState.UNTOUCHED,
                remedy="wait for its end, or allow it to be stopped (--stop-recording)",
            )
        kept = given_up or self.task.keeps_recordings
        if status.unfetched and not kept and not at_work:
            raise UploadError(
                f"{counted(status.unfetched)} not fetched from the device; after a new "
                "setup their columns could no longer be identified",
                state=SettingsState.UNTOUCHED,
                remedy="fetch them first (--fetch-recordings), or allow to erase them "
                "(--discard-recordings)",
            )
        self.stops = status.recording and (self.erases or not at_work)

    def require_radio(self) -> None:
        """Insist that the radio of a receiver is not changed by mistake."""
        names = {known.name for known in RADIO_SETTINGS}
        radio = [change for change in self.changes if change.setting in names]
        if radio and not self.options.change_radio:
            shown = "; ".join(f"{c.setting} {c.shown_old()} -> {c.shown_new()}" for c in radio)
            raise UploadError(
                f"this would change the radio of the receiver ({shown})",
                state=SettingsState.UNTOUCHED,
                remedy="all transmitters of another group or band fall silent; allow it with --change-radio",
            )

    def written(self) -> list[str]:
        """The names of all that is written: settings that change, and secrets."""
        return [*(change.setting for change in self.changes), *self.secrets.values]

    def require_fit(self) -> None:
        """Insist that the device can be written to: that it is awake, its battery, what it needs."""
        if self.device.sleeps and self.written():
            raise UploadError(
                "a station that sleeps takes no settings at once",
                state=SettingsState.UNTOUCHED,
                remedy="ask for them with 'leitwerk request'; it takes them when it wakes",
            )
        least = self.device.datasheet.writing.minimum
        if not least:
            return
        status = self.step("see that it is fit", self.device.status_points)
        for name, (value, unit) in least.items():
            found = status.get(name)
            if isinstance(found, float) and found < value:
                raise UploadError(
                    f"the device is not fit to be written to: {name} is {found:g} {unit}, at least "
                    f"{value:g} {unit} is needed",
                    state=SettingsState.UNTOUCHED,
                    remedy="charge or change its battery, or supply it, then upload again",
                )

    def require_state(self) -> None:
        """Insist on what the datasheet requires before these are written, and before the commit."""
        sheet = self.device.datasheet
        points = [(sheet.settings | sheet.secrets)[name] for name in self.written()]
        if self.device.commits:
            points.append(sheet.command_point("commit"))
        self.device.require_state(points, "take these settings")

    def look_at_clock(self) -> None:
        """What is recorded has its times from the device's clock: a wrong one is reported."""
        if not self.device.has_clock:
            return
        try:
            reading = self.step("look at its clock", self.device.clock)
            self.clock = str(reading)
        except LinkError as error:
            self.clock = error.message

    def log_in(self, role: str) -> None:
        if not role:
            return  # a device without passwords
        passwords = self.options.passwords
        self.step(f"log in as the {role}", lambda: self.device.log_in_with(role, passwords))
        self.logged_in = True

    def open_journal(
        self, files: KeptFiles, identity: Identity, started: datetime, before: DeviceSettings
    ) -> None:
        """What is about to happen is on disk before it does.

        After an interrupted upload, what the device had *before that* is what counts; and
        once it is being undone, there is no other way than back.
        """
        changes = {change.setting: change for change in self.changes}
        for change in self.earlier.changes if self.earlier is not None else ():
            own = changes.get(change.setting, change)
            if self.task.source.kind == "undo" and change.old is not None:
                own = replace(own, new=change.old)
            changes[change.setting] = replace(own, old=change.old)
        journal = Journal(
            path=files.journal,
            source=self.task.source,
            identity=identity,
            address=str(self.device.address),
            by=self.options.by,
            started=started,
            changes=tuple(changes.values()),
            stage="",
            stopped=self.stopped,
            secrets=tuple(self.secrets.values),
            before=before.values if self.earlier is None else self.earlier.before,
        )
        self.journal = self.step("keep a journal", lambda: journal.at("write what differs"))

    # ------------------------------------------------------------------ writing

    def make_ready(self, status: Status, files: KeptFiles, before: DeviceSettings) -> None:
        """Nothing may be recording, in the way, or left from an interrupted upload."""
        if self.stops:
            if self.journal is not None:
                self.journal = self.journal.at("stop the recording", stopped=True)
            self.stopped = True  # from here on it may be, whether its answer comes or not
            try:
                self.step("stop the recording", lambda: self.device.command("stop"))
            except DeviceRefused:
                self.stopped = False
                raise
        if self.erases:
            if self.options.fetch_recordings:
                self.fetched = fetch_recordings(
                    self.device, RecordedWith(before), files.stem, self.progress
                )
            else:
                self.discarded = status.unfetched
            self.step("erase recordings", lambda: self.device.command("erase recordings"))
        if self.device.drops:
            self.device.command("drop")

    def drop_leftovers(self, status: Status) -> None:
        """Settings that wait for a commit since another program wrote them are not what counts.

        Some devices show them as if they were in force, and some do not say whether there are any.
        """
        if not self.device.commits:
            return
        says = self.device.datasheet.has(UNCOMMITTED)
        found = status.uncommitted > 0 if says else True
        if found and self.device.drops:
            self.log_in(self.device.datasheet.role)
            self.step("drop what waits for a commit", lambda: self.device.command("drop"))
        # What cannot be dropped counts: it comes into force with the next commit, and here it is seen.
        self.recommits = (found or self.earlier is not None) and not self.device.drops
        if status.uncommitted:
            end = "were dropped" if self.device.drops else "came into force with this commit"
            self.remarks.append(
                f"{status.uncommitted} registers that another program had written and not committed {end}"
            )

    def look_for_foreign(self, before: DeviceSettings) -> None:
        """What somebody else changed since an interrupted upload is reported."""
        for change in self.earlier.foreign(before.values) if self.earlier is not None else ():
            self.remarks.append(
                f"{change.setting} was changed by somebody else since the interrupted upload: "
                f"{change.shown_old()} -> {change.shown_new()}"
            )

    def write(self) -> int:
        # Immediately before the first write: is it still this device?
        self.device.identify()
        self.settings = self.uncommitted()
        requests = self.device.write_settings(
            {change.setting: change.new for change in self.changes},
            lambda done, total: self.progress("write what differs", done, total),
            backwards=self.task.backwards,
        )
        # Last, as they cannot be undone where each setting counts at once.
        if self.secrets.values:
            requests += self.step(
                "write secrets", lambda: self.device.write_secrets(self.secrets.values)
            )
        return requests

    def uncommitted(self) -> SettingsState:
        """What the settings are between the first write and the commit."""
        if not self.device.commits:
            return SettingsState.PARTLY
        return SettingsState.STAGED if self.device.drops else SettingsState.WAITING

    def commit(self) -> None:
        if not self.device.commits:
            self.settings = SettingsState.UNVERIFIED
            return
        if self.journal is not None:
            self.journal = self.journal.at("commit")
        self.settings = SettingsState.COMMITTING
        try:
            self.step("commit", lambda: self.device.command("commit"))
        except DeviceRefused:
            # It has answered, and said no: what was written still waits.
            self.settings = self.uncommitted()
            raise
        self.settings = SettingsState.UNVERIFIED

    def restart(self) -> tuple[str, ...]:
        """Restart a device that needs it and has a command for it; returns what still waits for one."""
        points = self.device.datasheet.settings | self.device.datasheet.secrets
        waiting = tuple(name for name in self.written() if points[name].needs == "restart")
        if not waiting or not self.device.restarts:
            return waiting
        self.step("restart it, and wait until it answers", self.device.restart)
        self.logged_in = False
        return ()

    def verify(self, before: DeviceSettings) -> DeviceSettings:
        """Read everything back; what was asked must be there, and the rest be as it was."""
        after = self.step("read everything back", self.device.read_settings)
        self.device.identify()  # what was read back is this device's
        asked = DeviceSettings(after.model, {**before.values, **self.task.wanted.values})
        settings = self.device.datasheet.settings
        other = diff_settings(after, asked, self.device.datasheet)
        # A device that adjusts a setting by itself has not failed; the receipt says what it stored.
        self.adjusted = [c for c in other if settings[c.setting].self_adjusting]
        wrong = [c for c in other if not settings[c.setting].self_adjusting]
        if wrong:
            self.settings = SettingsState.DIFFERENT
            raise UploadError(
                "the device does not hold what was written: "
                + "; ".join(f"{c.setting} is {c.old!r} instead of {c.new!r}" for c in wrong[:5])
                + (f" and {len(wrong) - 5} more" if len(wrong) > 5 else ""),
                state=self.retreat(),
                remedy="upload again; if it stays like this, the datasheet does not fit the device",
            )
        self.verify_secrets()
        self.settings = SettingsState.VERIFIED
        return after

    def verify_secrets(self) -> None:
        """As far as the device shows it: each secret that was written is set."""
        if not self.secrets.values:
            return
        states = self.device.secret_states()
        entries = (replace(e, state=states[e.setting]) for e in self.secrets.entries)
        self.secrets = replace(self.secrets, entries=tuple(entries))
        if missing := unset_secrets(self.secrets, states):
            self.settings = SettingsState.DIFFERENT
            raise UploadError(
                f"the device took the value of {', '.join(missing)}, and says that it is not set",
                state=self.retreat(),
                remedy="does the device accept such a value? Look into its manual",
            )

    def finish(self) -> None:
        if self.stopped:
            self.step("start the recording again", lambda: self.device.command("start"))
            self.started_again = True
        if self.logged_in:
            # All is done and proven; a login ends by itself if the device is not heard any more.
            with contextlib.suppress(LeitwerkError):
                self.device.log_out()

    # ------------------------------------------------------------------ when something is wrong

    def retreat(self) -> str:
        """Leave a device in order as far as it still hears, and say what state it is in.

        Settings that wait to be committed are dropped; without a commit, what was written is undone
        in reverse. A recording is started again only when its settings are those it began with, or
        those that were asked for.
        """
        with contextlib.suppress(LeitwerkError):  # the state below says what could not be done
            if self.settings is SettingsState.SWAPPED:
                return "; ".join([self.settings.value, *self.happened()])
            if self.settings is not SettingsState.UNTOUCHED:
                self.device.identify()  # nothing is dropped or started in another device
            if self.settings is SettingsState.STAGED:
                self.device.command("drop")
                self.settings = SettingsState.UNTOUCHED
            if self.settings in {SettingsState.PARTLY, SettingsState.WAITING}:
                self._undo()
            untouched = self.settings is SettingsState.UNTOUCHED and self.earlier is None
            whole = untouched or self.settings in {SettingsState.UNDONE, SettingsState.VERIFIED}
            if self.stopped and not self.started_again and whole:
                # The command may have arrived, and only its answer be lost.
                if not self.device.status().recording:
                    self.device.command("start")
                self.started_again = True
            if self.logged_in:
                self.device.log_out()
        if self.journal is not None and self.settings in NOTHING_TO_RECOVER:
            with contextlib.suppress(LeitwerkError):
                if self.earlier is not None and self.settings in AS_BEFORE:
                    # What was interrupted before this attempt still is.
                    self.earlier.at(self.earlier.stage)
                else:
                    self.journal.close()
        return "; ".join([self.settings.value, *self.happened()])

    def happened(self) -> list[str]:
        """What has happened to the device besides its settings, for the message."""
        parts = []
        if self.secrets.values and self.settings is SettingsState.UNDONE:
            parts.append(
                f"secrets that may have been written stay: {', '.join(self.secrets.values)}"
            )
        if self.discarded:
            parts.append(f"{counted(self.discarded)} erased, as allowed")
        if self.fetched:
            parts.append(f"{counted(len(self.fetched))} fetched into files, then erased")
        if self.stopped:
            again = "is running again" if self.started_again else "has not been started again"
            parts.append(f"its recording was stopped and {again}")
        return parts

    def _undo(self) -> None:
        # With a journal of an attempt before this one, what the device had before that is the old.
        old = self.journal.old if self.journal is not None else {}
        self.device.identify()  # never undone in another device
        self.device.write_settings(old, backwards=not self.task.backwards)
        present = self.device.read_settings().values
        if all(same_stored(present.get(name), value) for name, value in old.items()):
            self.settings = SettingsState.UNDONE


def counted(recordings: int) -> str:
    """A number of recordings, in words."""
    return f"{recordings} recording{'s' if recordings != 1 else ''}"
