"""Fetching a device's recordings into a store: only what is new, resumed where it stopped, and verified."""

from __future__ import annotations

import math
import zlib
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np

from leitwerk.analysis.series import Series, utc_text
from leitwerk.devices.device import Device
from leitwerk.devices.device_files import list_files
from leitwerk.devices.recordings import (
    Recording,
    RecordingInfo,
    RowBlock,
    list_recordings,
    look_at_recording,
    read_rows,
)
from leitwerk.errors import DeviceRefused, LinkError, QuantityError
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.recordings.about import NO_QUALITY, about_setup, clock_words
from leitwerk.recordings.fetch import RecordedWith, without_quality
from leitwerk.recordings.fetch_files import is_fetched
from leitwerk.recordings.fetch_notes import FetchNote, keep_note, note_of
from leitwerk.recordings.store import Store

_ROWS, _EVERY_S = 50_000, 60.0  # what is fetched is written after so many rows, or after so long
_BYTES = 4  # of a value, as devices store it

Progress = Callable[[str, int, int], None]


@dataclass(frozen=True)
class HeldRun:
    """A recording in a device, and how much of it the store has. Times are in s since 1970-01-01 UTC."""

    info: RecordingInfo
    run: str
    begin_s: float
    end_s: float
    fetched: int

    @property
    def size_bytes(self) -> int:
        """What its values take in the device."""
        return _BYTES * self.info.rows * self.info.columns

    @property
    def is_fetched(self) -> bool:
        """Whether the store has all of its rows."""
        return self.fetched >= self.info.rows

    def to_dict(self) -> dict[str, Any]:
        """The run as plain data for JSON."""
        return {
            "number": self.info.number, "from": utc_text(self.begin_s), "to": utc_text(self.end_s),
            "rows": self.info.rows, "interval_s": self.info.interval_s, "bytes": self.size_bytes,
            "fetched": self.fetched,
        }  # fmt: skip

    def __str__(self) -> str:
        state = "fetched" if self.is_fetched else f"{self.fetched:,} rows fetched"
        span = f"{utc_text(self.begin_s)} to {utc_text(self.end_s)}"
        return (
            f"{self.info.number}: {span}, {self.info.rows:,} rows, "
            f"every {self.info.interval_s:g} s, {self.size_bytes / 1000:,.0f} kB, "
            f"{state if self.fetched else 'not fetched'}"
        )


@dataclass(frozen=True)
class FetchedRun:
    """What came of fetching one recording. ``lost`` are (time in s, rows) that were overwritten before."""

    held: HeldRun
    rows: int
    lost: tuple[tuple[float, int], ...] = field(default=())
    verified: str = ""
    clock_off_s: float | None = None

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        lost = [{"at": utc_text(at), "rows": rows} for at, rows in self.lost]
        return {**self.held.to_dict(), "new": self.rows, "lost": lost, "verified": self.verified,
                "clock_off_s": self.clock_off_s}  # fmt: skip

    def __str__(self) -> str:
        text = f"{self.held.info.number}: {self.rows:,} new rows, verified by {self.verified}"
        for at, rows in self.lost:
            text += (
                f"\n   {rows:,} rows from {utc_text(at)} on were overwritten in the device before they were "
                "fetched"
            )
        if words := clock_words(self.clock_off_s):
            text += (
                f"\n   warning: the clock of the device was {words}; make a corrected version beside them: "
                "leitwerk correct-rows, with --clock noted, and --all-along if it was off from the start"
            )
        return text


def held_runs(device: Device, store: Store) -> list[HeldRun]:
    """What a device holds, and how much of it is in the store.

    Raises
    ------
    LinkError
        The device was not reached.
    QuantityError
        A recording has no date.

    """
    serial, found = device.identify().serial, list[HeldRun]()
    for info in list_recordings(device):
        taken = [held.run for held in found]
        found.append(_held(device, info, store, serial, taken))
    return found


def fetch_new(
    device: Device,
    recorded_with: RecordedWith,
    store: Store,
    *,
    only: Collection[int] = (),
    progress: Progress = lambda step, done, total: None,
    clock: Clock = REAL_TIME,
) -> Iterator[FetchedRun]:
    """Fetch what the store does not have; nothing is erased in the device.

    What was fetched is in the store also when the link is lost; the next fetch goes on behind it.

    Parameters
    ----------
    device : Device
    recorded_with : RecordedWith
        What the columns are.
    store : Store
    only : collection of int, optional
        The numbers of the recordings; all, if not given.
    progress : callable
        Called with the step, how many rows are done, and how many there are.
    clock : Clock

    Raises
    ------
    LinkError
        The device was not reached, or its rows do not have their check sum: none of them is kept then.
    QuantityError
        A recording has no date, or there is none of that number.
    FileProblem
        The store cannot be written.

    """
    with device.staying_the_same():
        held = {run.info.number: run for run in held_runs(device, store)}
        for number in only or held:
            if number not in held:
                raise QuantityError(f"there is no recording {number}", valid=f"1..{len(held)}")
            fetching = _Fetch(device, recorded_with, store, clock)
            step = partial(progress, f"fetch recording {number}")
            yield fetching.fetch(held[number].run, number, step)


def erase_fetched(device: Device, store: Store) -> None:
    """Erase the recordings and files of a device, all of which have to be in the store.

    The caller has logged in.

    Raises
    ------
    DeviceRefused
        One has rows that were not fetched, or the device does not erase.

    """
    for held in held_runs(device, store):
        if not held.is_fetched:
            missing = held.info.rows - held.fetched
            raise DeviceRefused(
                f"{missing:,} rows of recording {held.info.number} were not fetched: nothing is erased",
                remedy="fetch them first",
            )
    folder = store.files_folder(device.identify().serial)
    for file in list_files(device):
        if not is_fetched(folder, file):
            raise DeviceRefused(
                f"{file.name} was not fetched: nothing is erased", remedy="fetch it first"
            )
    device.command("erase recordings")
    if device.status().recordings:
        raise DeviceRefused("the device took the command, and holds recordings still")


class _Fetch:
    """Fetches one recording."""

    def __init__(
        self, device: Device, recorded_with: RecordedWith, store: Store, clock: Clock
    ) -> None:
        self.device, self.recorded_with, self.store, self.clock = (
            device,
            recorded_with,
            store,
            clock,
        )
        self.identity = device.identify()
        self._clock_off_s = _clock_off(device)
        self._files: list[Any] = []

    def fetch(self, run: str, number: int, progress: Callable[[int, int], None]) -> FetchedRun:
        """Fetch what is new of a recording, and verify it."""
        info = look_at_recording(self.device, number)
        held = replace(_held(self.device, info, self.store, self.identity.serial), run=run)
        note = note_of(self.store, self.identity.serial, held.run, info.overwritten)
        if note.end > info.overwritten + info.rows:
            fetched = note.end - info.overwritten
            raise LinkError(
                f"recording {number} has {info.rows:,} rows, {fetched:,} were fetched: is it another one?",
                remedy="set the clock of the device before it records",
            )
        before, lost = note, list[tuple[float, int]]()
        blocks: list[RowBlock] = []
        written_s, done = self.clock.monotonic(), 0
        try:
            for block in read_rows(self.device, info, note.end - info.overwritten):
                if block.lost:
                    gone = info.overwritten + block.first - block.lost
                    lost.append(
                        (held.begin_s + (gone - info.overwritten) * info.interval_s, block.lost)
                    )
                blocks.append(block)
                done += len(block.values)
                progress(block.first + len(block.values), info.rows)
                waits = sum(len(b.values) for b in blocks)
                if waits >= _ROWS or self.clock.monotonic() - written_s > _EVERY_S:
                    note, blocks = self._write(info, held, note, blocks), []
                    written_s = self.clock.monotonic()
        finally:
            # Also when the link is lost, or a person ends it: what is there is kept.
            note = self._write(info, held, note, blocks)
        verified = self._verified(info, held, note, before)
        return FetchedRun(
            replace(held, fetched=info.rows), done, tuple(lost), verified, self._clock_off_s
        )

    def _write(
        self, info: RecordingInfo, held: HeldRun, note: FetchNote, blocks: list[RowBlock]
    ) -> FetchNote:
        """Put rows into the store, then note how far it is."""
        if not blocks:
            return note
        values = np.concatenate([block.values for block in blocks])
        gaps = tuple((block.first - block.lost, block.lost) for block in blocks if block.lost)
        first = blocks[0].first - blocks[0].lost
        piece = Recording(info, values, self.device.clock_zone, first, gaps)
        series = self._dated(piece, held)
        about = about_setup(
            self.recorded_with.setup, self.identity, series.columns, source="recording", run=held.run,
            clock_off_s=self._clock_off_s,
        )  # fmt: skip
        if without_quality(self.device.datasheet, piece, range(1, values.shape[1] + 1)):
            about = about.model_copy(update={"notes": [*about.notes, NO_QUALITY]})
        self._files += self.store.append(series, about).files
        made = FetchNote(
            begin=note.begin,
            end=info.overwritten + blocks[-1].first + len(blocks[-1].values),
            lost=note.lost + sum(block.lost for block in blocks),
            crc=zlib.crc32(np.ascontiguousarray(values, ">f4").tobytes(), note.crc),
        )
        keep_note(self.store, self.identity.serial, held.run, made)
        return made

    def _dated(self, piece: Recording, held: HeldRun) -> Series:
        """Rows with their times, from the begin of the run on."""
        series = self.recorded_with.measured(piece, self.device.datasheet, stored_too=True)
        return replace(series, times_s=held.begin_s + piece.times_s())

    def _verified(
        self, info: RecordingInfo, held: HeldRun, note: FetchNote, before: FetchNote
    ) -> str:
        """By what the rows are verified: their check sum where it covers the same rows, else their count."""
        now = look_at_recording(self.device, info.number)
        count = self.store.run_rows(self.identity.serial, held.run)
        fetched = note.end - note.begin - note.lost
        if count != fetched:
            raise LinkError(
                f"the store has {count:,} rows of this run, {fetched:,} were fetched",
                remedy="was the store changed meanwhile? Look at it, and fetch again",
            )
        is_same = (now.rows, now.overwritten) == (
            note.end - note.begin,
            note.begin,
        ) and not note.lost
        if now.check_sum is None or not is_same:
            return "their count"
        if now.check_sum == note.crc:
            return "count and check sum"
        for path in self._files:
            path.unlink(missing_ok=True)
        keep_note(self.store, self.identity.serial, held.run, before)
        raise LinkError(
            f"the rows of recording {info.number} do not have its check sum, and are not kept",
            remedy="fetch it again; if that happens again, is the line disturbed?",
        )


def _held(
    device: Device, info: RecordingInfo, store: Store, serial: str, taken: Collection[str] = ()
) -> HeldRun:
    """A recording by the name of its run: when it began, with a number where several began then."""
    start = Recording(info, np.empty((0, info.columns)), device.clock_zone).start()
    if start is None:
        raise QuantityError(
            f"recording {info.number} has no date: the clock of the device was not set",
            valid="recordings with a date",
            remedy="fetch it into a CSV file, without --store",
        )
    begin_s = start.timestamp()
    first_s = begin_s - info.overwritten * info.interval_s
    if info.overwritten:  # what is shown of the oldest row has whole seconds, as the begin has
        first_s = math.ceil(first_s - 1e-6)
        begin_s = first_s + info.overwritten * info.interval_s
    name = run = utc_text(first_s)
    further = 2
    while run in taken:
        run, further = f"{name} ({further})", further + 1
    note = note_of(store, serial, run, info.overwritten)
    fetched = max(0, note.end - max(note.begin, info.overwritten))
    end_s = begin_s + max(0, info.rows - 1) * info.interval_s
    return HeldRun(info, run, begin_s, end_s, min(fetched, info.rows))


def _clock_off(device: Device) -> float | None:
    """How far the clock of a device is ahead, in s; None where it has none, or was never set."""
    try:
        reading = device.clock()
    except LinkError:
        return None
    return None if reading is None else reading.deviation_s
