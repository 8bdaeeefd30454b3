"""The terms of a transaction: what is carried to a device, by whom, and what is allowed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TypeAlias

from leitwerk.image import Image
from leitwerk.transfer.source import Source

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
class Task:
    """What is carried to which device, and where that comes from.

    ``backwards`` undoes: the last request comes first. ``replaces`` says that it settles an upload
    that was broken off. ``rounded`` tells what the device will round.
    """

    wanted: Image
    source: Source
    serial: str
    backwards: bool = False
    replaces: bool = False
    rounded: tuple[str, ...] = ()
