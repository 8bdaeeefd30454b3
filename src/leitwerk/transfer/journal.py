"""The journal: what an upload is about to do, on disk before it does it.

It is there while an upload is under way, and stays when one was interrupted; then it says what was
changed from what to what, so that the upload can be finished or undone.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.settings import SettingChange, same_stored
from leitwerk.errors import FileProblem
from leitwerk.identity import Identity
from leitwerk.project.files import content_hash, read_bytes, remove_file, write_atomic
from leitwerk.project.kept_json import KeptFile, KeptIdentity, StoredJson, read_kept
from leitwerk.transfer.receipt import JOURNAL, stored_value
from leitwerk.transfer.task import TaskSource

_VERSION = 1
_DAMAGED = (
    "an upload to this device was interrupted; read the device, compare it with the backups beside this "
    "file, then move the file away"
)


class _Change(KeptFile):
    setting: str
    old: StoredJson | None
    new: StoredJson
    unit: str


class _Device(KeptIdentity):
    address: str


class _Version(KeptFile):
    journal: int


class _JournalFile(_Version):
    what: dict[str, str]
    device: _Device
    by: str
    started: str
    stage: str
    recording_stopped: bool
    changes: list[_Change]
    secrets: list[str]
    before: dict[str, StoredJson]
    sha256: str


@dataclass(frozen=True)
class Journal:
    """An upload under way, or interrupted. ``stage`` is the last thing that it was about to do.

    ``secrets`` names those that it was to write; their values are in no file. ``before`` are all settings
    as they were before the first write.
    """

    path: Path
    source: TaskSource
    identity: Identity
    address: str
    by: str
    started: datetime
    changes: tuple[SettingChange, ...]
    stage: str
    stopped: bool = False
    secrets: tuple[str, ...] = ()
    before: Mapping[str, Stored] = field(default_factory=dict, repr=False)

    @property
    def old(self) -> dict[str, Stored]:
        """What the settings were before; those that were never read are missing."""
        return {c.setting: c.old for c in self.changes if c.old is not None}

    @property
    def new(self) -> dict[str, Stored]:
        """What the settings were to become."""
        return {c.setting: c.new for c in self.changes}

    def foreign(self, present: Mapping[str, Stored]) -> tuple[SettingChange, ...]:
        """What has changed since then that this upload did not ask for: somebody else did it."""
        own = {change.setting for change in self.changes}
        return tuple(
            SettingChange(name, old, present[name])
            for name, old in self.before.items()
            if name not in own and name in present and not same_stored(old, present[name])
        )

    def at(self, stage: str, *, stopped: bool | None = None) -> Journal:
        """The same at another stage, on disk.

        Raises
        ------
        FileProblem
            It cannot be written.

        """
        journal = replace(self, stage=stage, stopped=self.stopped if stopped is None else stopped)
        content = {
            "journal": _VERSION,
            "what": self.source.to_dict(),
            "device": {**self.identity.to_dict(), "address": self.address},
            "by": self.by,
            "started": self.started.isoformat(),
            "stage": journal.stage,
            "recording_stopped": journal.stopped,
            "changes": [change.to_dict() for change in self.changes],
            "secrets": list(self.secrets),
            "before": dict(self.before),
        }
        content["sha256"] = _digest(json.loads(json.dumps(content)))
        write_atomic(self.path, json.dumps(content, indent=2, ensure_ascii=False) + "\n")
        return journal

    def close(self) -> None:
        """The upload is finished, and there is nothing left to undo."""
        remove_file(self.path)

    def __repr__(self) -> str:
        return f"<Journal {self.path}>"

    def __str__(self) -> str:
        when = self.started.isoformat(timespec="seconds").replace("+00:00", "Z")
        return f"{self.source} of {when} by {self.by}, interrupted at the step '{self.stage}'"


def read_journal(folder: Path) -> Journal | None:
    """The journal in a device's folder; None when no upload is unfinished.

    Raises
    ------
    FileProblem
        There is one that cannot be read, is damaged, or was written by a newer version.

    """
    path = folder / JOURNAL
    if not path.exists():
        return None
    raw = read_bytes(path)  # once: the digest is that of what was parsed
    version = read_kept(path, _Version, "a journal", _DAMAGED, raw=raw).journal
    if version != _VERSION:
        raise FileProblem(
            f"{path} is a journal of version {version}, this Leitwerk knows {_VERSION}",
            remedy="finish or undo that upload with the Leitwerk that began it",
        )
    file = read_kept(path, _JournalFile, "a journal", _DAMAGED, raw=raw)
    try:
        if file.sha256 != _digest(json.loads(raw)):
            raise ValueError("its digest does not fit its content")  # noqa: TRY301
        return _journal(path, file)
    except ValueError as error:
        raise FileProblem(
            f"{path} is not a journal, or damaged: {error}", remedy=_DAMAGED
        ) from None


def _journal(path: Path, file: _JournalFile) -> Journal:
    changes = tuple(
        SettingChange(
            c.setting, None if c.old is None else stored_value(c.old), stored_value(c.new), c.unit
        )
        for c in file.changes
    )
    return Journal(
        path=path,
        source=TaskSource.from_dict(file.what),
        identity=file.device.identity(),
        address=file.device.address,
        by=file.by,
        started=datetime.fromisoformat(file.started),
        changes=changes,
        stage=file.stage,
        stopped=file.recording_stopped,
        secrets=tuple(file.secrets),
        before={name: stored_value(value) for name, value in file.before.items()},
    )


def _digest(content: Mapping[str, Any]) -> str:
    """SHA-256 of the content without its digest: of its JSON with sorted keys."""
    text = json.dumps({k: v for k, v in content.items() if k != "sha256"}, sort_keys=True)
    return content_hash(text.encode("utf-8"))
