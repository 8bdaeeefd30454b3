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
from leitwerk.project.files import read_bytes, remove_file, write_atomic
from leitwerk.transfer.receipt import JOURNAL, stored_value
from leitwerk.transfer.task import TaskSource

_VERSION = 1


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
    try:
        content: Any = json.loads(read_bytes(path))
        version = content["journal"]
        if version != _VERSION:
            raise FileProblem(
                f"{path} is a journal of version {version}, this Leitwerk knows {_VERSION}",
                remedy="finish or undo that upload with the Leitwerk that began it",
            )
        return _parse(path, content)
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise FileProblem(
            f"{path} is not a journal, or damaged: {error}",
            remedy="an upload to this device was interrupted; read the device, compare it with the "
            "backups beside this file, then move the file away",
        ) from error


def _parse(path: Path, content: Mapping[str, Any]) -> Journal:
    device = content["device"]
    changes = tuple(
        SettingChange(
            _text(c["setting"]), _stored(c["old"]), stored_value(c["new"]), _text(c["unit"])
        )
        for c in content["changes"]
    )
    return Journal(
        path=path,
        source=TaskSource.from_dict(content["what"]),
        identity=Identity(*(_text(device[k]) for k in ("maker", "model", "serial", "firmware"))),
        address=_text(device["address"]),
        by=_text(content["by"]),
        started=datetime.fromisoformat(content["started"]),
        changes=changes,
        stage=_text(content["stage"]),
        stopped=content["recording_stopped"] is True,
        secrets=tuple(_text(name) for name in content.get("secrets", ())),
        before={_text(k): stored_value(v) for k, v in content.get("before", {}).items()},
    )


def _text(value: object) -> str:
    if not isinstance(value, str):
        raise TypeError(f"{value!r} is not a text")
    return value


def _stored(value: object) -> Stored | None:
    return None if value is None else stored_value(value)
