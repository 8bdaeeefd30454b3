"""The terms of a transaction: who carries what to a device, and what is allowed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TypeAlias

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
    replace_unfinished : bool
        Whether an upload that was broken off may be left behind: this one finishes or undoes it.

    """

    discard_recordings: bool = False
    stop_recording: bool = False
    fetch_recordings: bool = False
    wait_s: float = 10.0
    replace_unfinished: bool = False


NOTHING_MORE = Allowed()


@dataclass(frozen=True)
class Terms:
    """Who carries what to a device, where it is kept, and what is allowed."""

    source: Source
    serial: str
    keep: Path
    passwords: Mapping[str, str]
    allowed: Allowed = NOTHING_MORE
    by: str = "unnamed"
    backwards: bool = False
    rounded: tuple[str, ...] = ()
    progress: Progress = lambda step, done, total: None
    now: Callable[[], datetime] = lambda: datetime.now(UTC)
