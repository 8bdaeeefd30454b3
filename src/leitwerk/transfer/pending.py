"""Settings that are stored and not in force: they wait for a restart of the device."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from pydantic import AwareDatetime, Field

from leitwerk.datasheet.points import Stored
from leitwerk.project.files import write_atomic
from leitwerk.project.kept import device_folder
from leitwerk.project.kept_json import KeptFile, read_kept
from leitwerk.transfer.history import read_history

_FILE = "restarted.json"


@dataclass(frozen=True, slots=True)
class PendingRestart:
    """The settings that wait, by name, and since when; both empty if only the device says it."""

    settings: tuple[str, ...]
    since: str

    def __str__(self) -> str:
        if not self.settings:
            return "RESTART PENDING: the device says that settings wait for it"
        return f"RESTART PENDING since {self.since}: not in force: {', '.join(self.settings)}"


def pending_restart(
    folder: str | Path, serial: str, says: Stored | None, uptime_s: float | None, now: datetime
) -> PendingRestart | None:
    """What waits for a restart of a device; None if nothing does.

    By the receipts in a folder, until the device was restarted: it says so itself (``says`` is its
    ``restart_pending``), or how long it has been running, or somebody has noted it (``note_restart``).
    """
    if says is not None and says != "yes":
        return None
    own = device_folder(Path(folder), serial)
    restarted = _noted(own)
    if uptime_s is not None:
        started = now - timedelta(seconds=uptime_s)
        restarted = started if restarted is None else max(started, restarted)
    waiting: dict[str, str] = {}
    for receipt in read_history(own).receipts:
        finished = str(receipt.get("finished", ""))
        try:
            at = datetime.fromisoformat(finished)
        except ValueError:
            continue
        names = receipt.get("in_force_after_restart")
        if isinstance(names, list) and (restarted is None or at > restarted):
            waiting |= {str(name): finished for name in names if str(name) not in waiting}
    if not waiting:
        return PendingRestart((), "") if says == "yes" else None
    return PendingRestart(tuple(waiting), min(waiting.values()))


def note_restart(folder: str | Path, serial: str, at: datetime, by: str) -> None:
    """Note that a device was switched off and on: what waited for that is in force.

    Raises
    ------
    FileProblem
        It cannot be written.

    """
    path = device_folder(Path(folder), serial) / _FILE
    write_atomic(path, json.dumps({"restarted": at.isoformat(timespec="seconds"), "by": by}) + "\n")


def _noted(own: Path) -> datetime | None:
    path = own / _FILE
    if not path.exists():
        return None
    remedy = "remove it, and note the restart once more"
    return read_kept(path, _RestartedFile, "the note of a restart", remedy).restarted


class _RestartedFile(KeptFile):
    restarted: AwareDatetime = Field(strict=False)  # a file holds its text
