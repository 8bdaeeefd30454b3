"""What is carried to a device, where it comes from, and what is allowed on the way."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, TypeAlias

from leitwerk.check.account import Account
from leitwerk.datasheet.settings import DeviceSettings
from leitwerk.project.clock import REAL_TIME, Clock

# Called with the name of a step, how much of it is done, and how much it is in all.
Progress: TypeAlias = Callable[[str, int, int], None]
KINDS = ("upload", "restore", "finish", "undo", "rule", "give back")


@dataclass(frozen=True)
class UploadOptions:
    """Who changes a device, where it is kept, and what is allowed.

    Attributes
    ----------
    folder : path
        For backups, journals and receipts.
    passwords : mapping from role to password
        Asked only for roles that are needed.
    by : str
        Who does it, for the receipt.
    secrets : mapping from setting to value
        Values of the secrets that a setup names.
    discard_recordings : bool
        Whether recordings that have not been fetched may be erased.
    fetch_recordings : bool
        Whether they are fetched first, into files beside the backup, and then erased.
    stop_recording : bool
        Whether a running recording may be stopped; it is started again afterwards.
    change_radio : bool
        Whether the radio of a receiver may be changed: group, band, role.
    wait_s : float, in s
        How long to wait for another writer to end.
    on_progress : callable
        Called with the name of a step, how much of it is done, and how much it is in all.
    clock : Clock
        Where the time comes from.

    """

    folder: str | Path
    passwords: Mapping[str, str]
    by: str = "unnamed"
    secrets: Mapping[str, str] = field(default_factory=dict)
    discard_recordings: bool = False
    fetch_recordings: bool = False
    stop_recording: bool = False
    change_radio: bool = False
    wait_s: float = 10.0
    on_progress: Progress = lambda step, done, total: None
    clock: Clock = REAL_TIME

    def __repr__(self) -> str:
        # Passwords are never shown.
        return f"UploadOptions(folder={str(self.folder)!r}, by={self.by!r})"


@dataclass(frozen=True, slots=True)
class TaskSource:
    """Where wanted settings come from: the file, its title, and the SHA-256 of its content.

    ``kind`` is what is done with it: ``upload`` a setup, ``restore`` a backup, ``finish`` or
    ``undo`` an upload that was interrupted, ``rule`` a single change, ``give back`` what was changed
    for a while.
    """

    kind: str
    file: str
    title: str
    sha256: str

    def __str__(self) -> str:
        return f"{self.kind} of {self.file}"

    def to_dict(self) -> dict[str, str]:
        """The source as plain data for JSON."""
        return asdict(self)

    @classmethod
    def from_dict(cls, content: Mapping[str, Any]) -> TaskSource:
        """The source out of plain data.

        Raises
        ------
        KeyError, TypeError, ValueError
            The data is not a source.

        """
        texts = {name: content[name] for name in ("kind", "file", "title", "sha256")}
        if not all(isinstance(text, str) for text in texts.values()):
            raise TypeError("a source is made of texts")
        if texts["kind"] not in KINDS:
            raise ValueError(f"unknown operation {texts['kind']!r}")
        return cls(**texts)


@dataclass(frozen=True)
class UploadTask:
    """What is carried to which device, and where that comes from.

    ``backwards`` undoes: the last request comes first. ``replaces`` says that it settles an upload
    that was interrupted. ``rounded`` says what the device will round, ``left`` what is not carried and
    why, ``account`` where each entry of a setup ends, ``secrets`` names settings whose values
    are given apart. ``keeps_recordings``: those in the device stay, as they belong to other settings.
    """

    wanted: DeviceSettings
    source: TaskSource
    serial: str
    backwards: bool = False
    replaces: bool = False
    rounded: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    account: Account | None = None
    secrets: tuple[str, ...] = ()
    keeps_recordings: bool = False
