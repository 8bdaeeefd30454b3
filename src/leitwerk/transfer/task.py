"""The terms of a transaction: what is carried to a device, by whom, and what is allowed."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TypeAlias

from leitwerk.datasheet.settings import DeviceSettings

Progress: TypeAlias = Callable[[str, int, int], None]


@dataclass(frozen=True, slots=True)
class Allowed:
    """What a transaction may do besides changing settings.

    Attributes
    ----------
    discard_recordings : bool
        Whether recordings that nobody has fetched may be erased.
    fetch_recordings : bool
        Whether recordings that nobody has fetched are fetched first, into files beside the backup,
        and then erased.
    stop_recording : bool
        Whether a running recording may be stopped; it is started again afterwards.
    wait_s : float, in s
        How long to wait for another writer to end.

    """

    discard_recordings: bool = False
    stop_recording: bool = False
    fetch_recordings: bool = False
    wait_s: float = 10.0


NOTHING_MORE = Allowed()


@dataclass(frozen=True)
class Terms:
    """Who changes a device, where it is kept, and what is allowed.

    Attributes
    ----------
    keep : path
        The folder for backups, journals and receipts.
    passwords : mapping from role to password
        Asked only for roles that are needed.
    allowed : Allowed
        What may be done besides changing settings.
    by : str
        Who does it, for the receipt.
    progress : callable
        Called with the name of a step, how much of it is done, and how much it is in all.

    """

    keep: str | Path
    passwords: Mapping[str, str]
    allowed: Allowed = NOTHING_MORE
    by: str = "unnamed"
    progress: Progress = lambda step, done, total: None
    now: Callable[[], datetime] = lambda: datetime.now(UTC)


@dataclass(frozen=True)
class UploadTask:
    """What is carried to which device, and where that comes from.

    ``backwards`` undoes: the last request comes first. ``replaces`` says that it settles an upload
    that was broken off. ``rounded`` tells what the device will round.
    """

    wanted: DeviceSettings
    source: TaskSource
    serial: str
    backwards: bool = False
    replaces: bool = False
    rounded: tuple[str, ...] = ()


KINDS = ("upload", "restore", "finish", "undo", "rule")


@dataclass(frozen=True, slots=True)
class TaskSource:
    """Where wanted settings come from: the file, its title, and the SHA-256 of its content.

    ``kind`` is what is done with it: ``upload`` a setup, ``restore`` a backup, ``finish`` or
    ``undo`` an upload that was broken off, ``rule`` a single change.
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
            The data is none.

        """
        texts = {name: content[name] for name in ("kind", "file", "title", "sha256")}
        if not all(isinstance(text, str) for text in texts.values()):
            raise TypeError("a source is made of texts")
        if texts["kind"] not in KINDS:
            raise ValueError(f"{texts['kind']!r} is nothing that is done to a device")
        return cls(**texts)


def content_hash(content: bytes) -> str:
    """SHA-256 of a file's content, in hexadecimal."""
    return hashlib.sha256(content).hexdigest()
