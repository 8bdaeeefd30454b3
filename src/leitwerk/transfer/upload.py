"""The upload: identify, back up, write what differs, commit, read back, compare, receipt."""

from __future__ import annotations

import contextlib
import enum
import hashlib
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import TypeAlias, TypeVar

from leitwerk.check import check_setup
from leitwerk.errors import DeviceRefused, LeitwerkError, UploadError, WrongDevice
from leitwerk.identity import Identity
from leitwerk.image import Change, Image, compare_images, encode_setup
from leitwerk.links import Device, Status
from leitwerk.setup import Setup
from leitwerk.transfer.receipt import KeptFiles, Receipt

Progress: TypeAlias = Callable[[str, int, int], None]

T = TypeVar("T")
_AGAIN = (
    "mend the cause, then run the same upload again: it reads the device and goes on from there"
)


class _Settings(enum.StrEnum):
    """What the device's settings are if the upload ends at this moment."""

    UNTOUCHED = "unchanged; no setting of it was touched"
    STAGED = (
        "it works with its old settings; what was written waits in it uncommitted, has no effect, "
        "and is dropped by the next upload"
    )
    PARTLY = (
        "some of its settings are new and some are old, as it has no commit; the backup holds what "
        "it had"
    )
    COMMITTING = (
        "unknown: the new settings were written and the commit sent, but not confirmed; it works "
        "either with all of the old or with all of the new settings"
    )
    UNVERIFIED = "it works with the new settings, but they have not been verified"
    DIFFERENT = "it works with settings that are not those of the setup"
    VERIFIED = "it works with the new settings, and they have been verified"


def upload(
    setup: Setup,
    device: Device,
    *,
    keep: str | Path,
    passwords: Mapping[str, str],
    discard_recordings: bool = False,
    stop_recording: bool = False,
    by: str = "unnamed",
    progress: Progress = lambda step, done, total: None,
    now: Callable[[], datetime] = lambda: datetime.now(UTC),
) -> Receipt:
    """Carry a setup to the device that it names, and prove that it arrived.

    Parameters
    ----------
    keep : path
        The folder for backups and receipts.
    passwords : mapping from role to password
        Asked only for roles that are needed.
    discard_recordings : bool
        Whether recordings that nobody has fetched may be erased.
    stop_recording : bool
        Whether a running recording may be stopped; it is started again afterwards.
    by : str
        Who uploads, for the receipt.
    progress : callable
        Called with the name of a step, how much of it is done, and how much it is in all.

    Returns
    -------
    Receipt
        It and the backup are also kept as files.

    Raises
    ------
    SetupError
        The setup has errors on this device; nothing was written.
    WrongDevice
        Another device answered; nothing was written.
    UploadError
        Anything else; it says what state the device is in and what to do.

    """
    attempt = _Attempt(setup, device, encode_setup(setup, device.datasheet), progress)
    files = KeptFiles.at(Path(keep), setup.device.serial, started := now())
    try:
        identity = attempt.identify()
        status = attempt.step("look what it is doing", device.status)
        before = attempt.back_up(files, identity, started)
        changes = compare_images(before, attempt.image, device.datasheet)
        attempt.require_idle(status, changes, discard=discard_recordings, stop=stop_recording)
        requests = 0
        if changes or status.uncommitted or attempt.erases:
            attempt.log_in(passwords, changes)
            attempt.make_ready(status)
            if changes:
                requests = attempt.write(changes)
                attempt.commit()
        verified = attempt.verify(before)
        attempt.finish()
        receipt = Receipt(
            by=by,
            started=started,
            finished=now(),
            setup_file=setup.source.file,
            setup_title=setup.title,
            setup_sha256=hashlib.sha256(setup.source.content).hexdigest(),
            identity=identity,
            address=str(device.address),
            changes=tuple(changes),
            requests=requests,
            together=device.commits,
            verified=verified,
            rounded=_rounded(setup, device),
            discarded=attempt.discarded,
            restarted=attempt.restarted,
            restart=tuple(
                c.setting
                for c in changes
                if device.datasheet.settings[c.setting].needs == "restart"
            ),
            backup=str(files.path("backup.json")),
        )
        attempt.step("keep the receipt", lambda: files.write_receipt(receipt))
    except (UploadError, WrongDevice):
        raise  # they say it all
    except (LeitwerkError, KeyboardInterrupt) as error:
        state = attempt.retreat()
        # While nothing has happened, the cause's own remedy is the better one.
        own_remedy = getattr(error, "remedy", "") if state == _Settings.UNTOUCHED else ""
        raise UploadError(
            getattr(error, "message", "the upload was stopped by the keyboard"),
            state=state,
            remedy=own_remedy or _AGAIN,
        ) from error
    return receipt


class _Attempt:
    """One upload on its way, and what it has done to the device so far."""

    def __init__(self, setup: Setup, device: Device, image: Image, progress: Progress) -> None:
        self.setup = setup
        self.device = device
        self.image = image
        self.progress = progress
        self.settings = _Settings.UNTOUCHED
        self.logged_in = False
        self.stops = False
        self.erases = False
        self.stopped = False
        self.restarted = False
        self.discarded = 0

    def step(self, name: str, act: Callable[[], T]) -> T:
        """Do one step and show it before and after."""
        self.progress(name, 0, 1)
        result = act()
        self.progress(name, 1, 1)
        return result

    def identify(self) -> Identity:
        return self.step("identify the device", lambda: self.device.require(self.setup))

    def require_idle(
        self, status: Status, changes: list[Change], *, discard: bool, stop: bool
    ) -> None:
        """Insist that nothing is disturbed that was not given up."""
        sheet = self.device.datasheet
        at_work = sheet.takes_while_recording(change.setting for change in changes)
        self.erases = discard and status.unfetched > 0
        if status.recording and not stop and (self.erases or not at_work):
            raise UploadError(
                "the device is recording, and takes settings only when stopped",
                state=_Settings.UNTOUCHED,
                remedy="wait for its end, or allow it to be stopped (--stop-recording)",
            )
        if status.unfetched and not discard and not at_work:
            raise UploadError(
                f"the device holds {_counted(status.unfetched)} that nobody has fetched; a new "
                "setup would erase what they mean",
                state=_Settings.UNTOUCHED,
                remedy="fetch them first, or say that they may go (--discard-recordings)",
            )
        self.stops = status.recording and (self.erases or not at_work)

    def back_up(self, files: KeptFiles, identity: Identity, moment: datetime) -> Image:
        before = self.step("read its settings", self.device.read_settings)
        self.step("keep a backup", lambda: files.write_backup(before, identity, moment))
        return before

    def log_in(self, passwords: Mapping[str, str], changes: list[Change]) -> None:
        role = self.device.datasheet.role_for(change.setting for change in changes)
        if not role:
            return  # a device that asks nobody
        step = f"log in as the {role}"
        self.step(step, lambda: self.device.log_in_with(role, passwords))
        self.logged_in = True

    def make_ready(self, status: Status) -> None:
        """Nothing may be recording, in the way, or left from an upload that was broken off."""
        if self.stops:
            self.step("stop the recording", lambda: self.device.command("stop"))
            self.stopped = True
        if self.erases:
            self.step("erase recordings", lambda: self.device.command("erase recordings"))
            self.discarded = status.unfetched
        if self.device.commits:
            self.device.command("drop")

    def write(self, changes: list[Change]) -> int:
        self.settings = _Settings.STAGED if self.device.commits else _Settings.PARTLY
        return self.device.write_settings(
            {change.setting: change.new for change in changes},
            lambda done, total: self.progress("write what differs", done, total),
        )

    def commit(self) -> None:
        if not self.device.commits:
            self.settings = _Settings.UNVERIFIED
            return
        self.settings = _Settings.COMMITTING
        try:
            self.step("commit", lambda: self.device.command("commit"))
        except DeviceRefused:
            # It has answered, and said no: what was written still waits.
            self.settings = _Settings.STAGED
            raise
        self.settings = _Settings.UNVERIFIED

    def verify(self, before: Image) -> int:
        """Read everything back; what was asked must be there, and the rest be as it was."""
        after = self.step("read everything back", self.device.read_settings)
        asked = Image(after.model, {**before.settings, **self.image.settings})
        wrong = compare_images(after, asked, self.device.datasheet)
        if wrong:
            self.settings = _Settings.DIFFERENT
            raise UploadError(
                "the device does not hold what it was told: "
                + "; ".join(f"{c.setting} is {c.old!r} instead of {c.new!r}" for c in wrong[:5])
                + (f" and {len(wrong) - 5} more" if len(wrong) > 5 else ""),
                state=self.retreat(),
                remedy="upload again; if it stays like this, the datasheet does not fit the device",
            )
        self.settings = _Settings.VERIFIED
        return len(asked.settings)

    def finish(self) -> None:
        if self.stopped:
            self.step("start the recording again", lambda: self.device.command("start"))
            self.restarted = True
        if self.logged_in:
            # All is done and proven; a login ends by itself if the device is not heard any more.
            with contextlib.suppress(LeitwerkError):
                self.device.log_out()

    def retreat(self) -> str:
        """Leave a device in order as far as it still hears, and say what state it is in.

        Settings that wait to be committed are dropped. A recording is started again only when its
        settings are the ones that it began with.
        """
        with contextlib.suppress(LeitwerkError):  # the state below tells what could not be done
            if self.settings is _Settings.STAGED:
                self.device.command("drop")
                self.settings = _Settings.UNTOUCHED
            if self.stopped and not self.restarted and self.settings is _Settings.UNTOUCHED:
                self.device.command("start")
                self.restarted = True
            if self.logged_in:
                self.device.log_out()
        parts = [self.settings.value]
        if self.discarded:
            parts.append(f"{_counted(self.discarded)} erased, as told")
        if self.stopped:
            again = "is running again" if self.restarted else "has not been started again"
            parts.append(f"its recording was stopped and {again}")
        return "; ".join(parts)


def _counted(recordings: int) -> str:
    return f"{recordings} recording{'s' if recordings != 1 else ''}"


def _rounded(setup: Setup, device: Device) -> tuple[str, ...]:
    findings = check_setup(setup, device.datasheet)
    return tuple(f"{f.path}: {f.message}" for f in findings if f.rule == "rounded")
