"""Keeping what is watched: a CSV file that grows with every sample, and Parquet made of it at the end.

A row is on its way to the disk when the next sample is taken. What cannot be written, as while the disk
is full, waits in memory and is tried again; a row is never written half. A file that is there is continued.
"""

from __future__ import annotations

import csv
import io
import os
from collections import deque
from collections.abc import Sequence
from pathlib import Path
from typing import Self

from leitwerk.analysis.series import Column, series_heading, series_row
from leitwerk.errors import FileProblem
from leitwerk.monitoring.watching import DeviceWatch, TakenSample
from leitwerk.project.files import write_atomic
from leitwerk.recordings.about import about_setup
from leitwerk.recordings.parquet import csv_to_parquet, require_parquet

_PARTS = 4  # into so many files a limited amount is divided
_WAITING = 100_000  # rows that wait in memory at most
_PARQUET = ".parquet"


class GrowingFile:
    """A CSV file to which rows are added, each whole or not at all.

    Parameters
    ----------
    path : Path
        A file that is there has to have the same first line; it is continued.
    heading : sequence of str

    Raises
    ------
    FileProblem
        Another file is there, or it cannot be read.

    """

    def __init__(self, path: Path, heading: Sequence[str]) -> None:
        self.path, self.size = path, 0
        first = _line(heading)
        try:
            if path.exists():
                self.size = self._whole_lines(first)
        except OSError as error:
            raise _problem("read", path, error) from error
        self.waiting: deque[bytes] = deque([] if self.size else [first])
        self.trouble, self.dropped = "", 0

    def _whole_lines(self, first: bytes) -> int:
        """The size up to the last whole line: what a loss of power left of a line is given up."""
        with self.path.open("rb") as file:
            found = file.readline(len(first) + 1)
            if found and found != first:
                raise FileProblem(
                    f"{self.path} has other columns than this watch",
                    remedy="name another file; nothing is written over it",
                )
            file.seek(0, os.SEEK_END)
            end = file.tell()
            step = min(end, 1 << 20)
            file.seek(end - step)
            return end - step + file.read(step).rfind(b"\n") + 1

    def add(self, row: Sequence[str]) -> None:
        """Write a row, with those that wait."""
        if len(self.waiting) >= _WAITING:
            self.waiting.popleft()
            self.dropped += 1
        self.waiting.append(_line(row))
        self.write()

    def write(self) -> None:
        """Write what waits; ``trouble`` says why it could not be."""
        if not self.waiting:
            return
        text = b"".join(self.waiting)
        try:
            self._append(text)
        except OSError as error:
            self.trouble = error.strerror or type(error).__name__
            return
        self.size += len(text)
        self.waiting.clear()
        self.trouble = ""

    def _append(self, text: bytes) -> None:
        self.path.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(self.path, os.O_RDWR | os.O_CREAT, 0o666)
        try:
            os.ftruncate(descriptor, self.size)
            os.lseek(descriptor, self.size, os.SEEK_SET)
            left = memoryview(text)
            while left:
                left = left[os.write(descriptor, left) :]
        except OSError:
            os.ftruncate(descriptor, self.size)
            raise
        finally:
            os.close(descriptor)


class SampleKeeper:
    """Keeps the samples of one device under a path that ends with ``.csv`` or ``.parquet``.

    Beside it, ``NAME.about.json`` says of which device and setup the values are. While the device does not
    answer there is one row, which says so.

    Parameters
    ----------
    path : Path
    watch : DeviceWatch
    limit_bytes : int, optional
        How much is kept: it goes into several files, and the oldest of them is removed.

    Raises
    ------
    FileProblem
        The file is there already with other columns, or it cannot be written.

    """

    def __init__(self, path: Path, watch: DeviceWatch, *, limit_bytes: int | None = None) -> None:
        if path.suffix not in {".csv", _PARQUET}:
            raise FileProblem(
                f"{path} is neither CSV nor Parquet",
                remedy="a name that ends with .csv or .parquet",
            )
        self._path, self._limit = path, limit_bytes
        self._columns = [Column(c.name, c.symbol) for c in watch.board.channels]
        self._about = _about(watch)
        if path.suffix == _PARQUET:
            require_parquet()
        self._number = 1
        while self._part(self._number + 1).exists() or self._is_finished(self._number):
            self._number += 1
        self._file: GrowingFile | None = None
        self._is_silent = False
        self.events: list[str] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def _part(self, number: int) -> Path:
        """The CSV file of a part."""
        path = self._path.with_suffix(".csv")
        return path if number == 1 else path.with_stem(f"{path.stem}-{number}")

    def _is_finished(self, number: int) -> bool:
        """Whether a part is Parquet already."""
        is_parquet = self._path.suffix == _PARQUET
        return is_parquet and self._part(number).with_suffix(_PARQUET).exists()

    def take(self, sample: TakenSample) -> None:
        """Keep one sample."""
        if sample.error and self._is_silent:
            return
        self._is_silent = bool(sample.error)
        if self._file is None:
            self._begin()
        assert self._file is not None
        self._file.add(series_row(sample.time_s, sample.values.tolist(), sample.qualities.tolist()))
        if self._limit and self._file.size > self._limit // _PARTS:
            self._next_part()

    @property
    def trouble(self) -> str:
        """Why rows wait in memory; empty where none do."""
        if self._file is None or not self._file.trouble:
            return ""
        waiting = len(self._file.waiting)
        return f"{self._file.path}: {self._file.trouble}; {waiting} rows wait in memory"

    def close(self) -> None:
        """Write the rest, and Parquet where that was asked for.

        Raises
        ------
        FileProblem
            Rows are left that could not be written.

        """
        if self._file is None:
            return
        self._file.write()
        left = len(self._file.waiting) + self._file.dropped
        if left:
            raise FileProblem(
                f"cannot write {self._file.path}: {self._file.trouble}; {left} rows are lost",
                remedy="is the folder there, writable, and the disk not full?",
            )
        self._finish(self._file.path)
        self._file = None

    def _begin(self) -> None:
        about = self._path.with_suffix(".about.json")
        try:
            write_atomic(about, self._about)
        except FileProblem as error:
            self.events.append(error.message)
        self._file = GrowingFile(self._part(self._number), series_heading(self._columns))

    def _next_part(self) -> None:
        assert self._file is not None
        assert self._limit is not None
        self._finish(self._file.path)
        self._number += 1
        self._file = GrowingFile(self._part(self._number), series_heading(self._columns))
        oldest = self._part(self._number - _PARTS)
        for path in (oldest, oldest.with_suffix(_PARQUET)):
            if self._number > _PARTS and path.exists():
                path.unlink()
                self.events.append(
                    f"{path} is removed: the limit of {self._limit:,} bytes is reached"
                )

    def _finish(self, path: Path) -> None:
        if self._path.suffix == _PARQUET:
            csv_to_parquet(path, path.with_suffix(_PARQUET), self._about)
            path.unlink()


def _line(row: Sequence[str]) -> bytes:
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerow(row)
    return text.getvalue().encode()


def _problem(act: str, path: Path, error: OSError) -> FileProblem:
    reason = error.strerror or type(error).__name__
    return FileProblem(
        f"cannot {act} {path}: {reason}",
        remedy="is the folder there, writable, and the disk not full?",
    )


def _about(watch: DeviceWatch) -> str:
    """Of which device and setup the values are, as JSON."""
    columns = [Column(channel.name, channel.symbol) for channel in watch.board.channels]
    run = watch.started.isoformat(timespec="seconds")
    return about_setup(watch.setup, watch.identity, columns, source="samples", run=run).to_json()
