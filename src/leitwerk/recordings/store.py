"""The store of a project: recordings as Parquet, by device, version and month.

It is a folder that other tools read, too: ``device=K2-00417/version=1/month=2026-03/….parquet``. Version 1
is what came from the device; a correction is a further version beside it, with its reason in
``version.json``. A row is known by its run and its time: none is stored twice. Every file is written whole or
not at all.
"""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from filelock import FileLock, Timeout

from leitwerk.analysis.series import Series, utc_text
from leitwerk.analysis.steps import head_of
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.evaluation.judged import Judged, survey
from leitwerk.evaluation.summary import Summary, summarise
from leitwerk.identity import same_number
from leitwerk.project.files import content_hash, write_atomic
from leitwerk.project.kept_json import KeptFile, read_kept
from leitwerk.recordings.about import About
from leitwerk.recordings.catalogue import Catalogue, Part
from leitwerk.recordings.fetch import DerivedRows
from leitwerk.recordings.parquet import write_table
from leitwerk.recordings.part_rows import (
    batches,
    joined,
    overlapping,
    read_part,
    units_of,
    with_columns,
)
from leitwerk.recordings.rows import (
    cut,
    in_order,
    in_units,
    millis,
    require_same,
    rows_of,
    sliced,
)
from leitwerk.recordings.tables import arrow, series_of, table_of
from leitwerk.setup.papers import Papers

if TYPE_CHECKING:
    import pandas as pd

FOLDER = "recordings"  # the usual name of a store
_VERSION = "version.json"
_ROWS = 1_000_000  # of a chunk
_WAIT_S = 30.0
_SMALL_FILES, _SMALL_ROWS = 50, 20_000  # so many files of at most so many rows are joined


class StoreVersion(KeptFile):
    """A version of a device's rows: what it was made from, why, when, and by whom."""

    version: int
    made_from: int
    reason: str
    made: str
    by: str


@dataclass(frozen=True)
class Appended:
    """What came of an append: rows that are new, rows that were there already, and the files written."""

    rows: int
    known: int
    files: tuple[Path, ...]


@dataclass(frozen=True)
class Holding:
    """What a store holds of one run of a device, in one version. Times are in s since 1970-01-01 UTC."""

    device: str
    version: int
    run: str
    source: str
    begin_s: float
    end_s: float
    rows: int
    columns: tuple[str, ...]

    def __str__(self) -> str:
        span = f"{utc_text(self.begin_s)} to {utc_text(self.end_s)}"
        version = f", version {self.version}" if self.version > 1 else ""
        return f"{self.device}  {span}  {self.rows:,} rows of {len(self.columns)} channels{version}"


class Store:
    """A folder of recordings.

    Parameters
    ----------
    root : str or Path
        It is made with the first append.

    """

    def __init__(self, root: str | Path = FOLDER) -> None:
        self.root = Path(root)

    # ------------------------------------------------------------------ what there is

    def parts(self, device: str | None = None, version: int | None = None) -> list[Part]:
        """The files of a device, in one version (the newest if not given), by time.

        Raises
        ------
        FileProblem
            A file cannot be read.

        """
        if not self.root.is_dir():
            return []
        every = Catalogue(self.root).parts()
        if device is not None:
            every = [part for part in every if same_number(part.device, device)]
        if version is None:
            newest = {part.device: part.version for part in every}  # in rising order
            return [part for part in every if part.version == newest[part.device]]
        return [part for part in every if part.version == version]

    def holdings(
        self,
        *,
        device: str | None = None,
        channel: str | None = None,
        begin_s: float = -np.inf,
        end_s: float = np.inf,
    ) -> list[Holding]:
        """What it holds: of a device, a channel, a time; one entry for each run and version.

        Raises
        ------
        FileProblem
            A file cannot be read.

        """
        if not self.root.is_dir():
            return []
        found: dict[tuple[str, int, str], list[Part]] = {}
        for part in Catalogue(self.root).parts():
            is_meant = device is None or same_number(part.device, device)
            has = channel is None or channel in part.columns
            if is_meant and has and part.overlaps(begin_s * 1e3, end_s * 1e3):
                found.setdefault((part.device, part.version, part.run), []).append(part)
        return [
            Holding(
                *key[:2], key[2], parts[0].about.source,
                min(p.begin_ms for p in parts) / 1e3, max(p.end_ms for p in parts) / 1e3,
                sum(p.rows for p in parts), tuple(dict.fromkeys(n for p in parts for n in p.columns)),
            )
            for key, parts in found.items()
        ]  # fmt: skip

    def versions(self, device: str) -> list[StoreVersion]:
        """The corrected versions of a device's rows, by number; version 1 needs no reason.

        Raises
        ------
        FileProblem
            One cannot be read.

        """
        own = self.device_folder(device)
        paths = sorted(own.glob(f"version=*/{_VERSION}"), key=lambda path: _number(path.parent))
        return [read_kept(p, StoreVersion, "the reason of a version", "restore it") for p in paths]

    def run_rows(self, device: str, run: str) -> int:
        """How many rows of a run are there, as they came from the device."""
        return sum(part.rows for part in self.parts(device, 1) if part.run == run)

    # ------------------------------------------------------------------ adding

    def append(self, series: Series, about: About) -> Appended:
        """Add rows of a device, those that are not there yet.

        Parameters
        ----------
        series : Series
            In any order of time. Columns that are there already are converted to their units.
        about : About
            Whose rows they are; ``device`` has to be known.

        Raises
        ------
        QuantityError
            The rows have no dates; or two of one time differ, among themselves or from those in the store.
        FileProblem
            The device is not known; or the store cannot be read or written, and is as it was.

        """
        if about.device is None:
            raise FileProblem("it is not known of which device these rows are", remedy="name it")
        if not series.dated:
            raise QuantityError(
                "these rows have no date",
                valid="rows with times in UTC",
                remedy="set the clock first",
            )
        series = in_order(series)
        with self._locked():
            parts = self.parts(about.device.serial, 1)
            held = {name: unit for part in parts for name, unit in part.columns.items()}
            series = in_units(series, held)
            fresh, known = self._without_known(series, about.run, parts)
            files = self._write(fresh, about, self._version_folder(about.device.serial, 1))
            self._merge(about.device.serial, about.run)
        return Appended(fresh.times_s.size, known, tuple(files))

    def make_version(
        self,
        device: str,
        change: Callable[[Series, About], tuple[Series, About]],
        *,
        reason: str,
        by: str,
        made_from: int | None = None,
    ) -> StoreVersion:
        """Make a corrected version beside the others, file by file; nothing else is touched.

        Parameters
        ----------
        device : str
            Its serial number.
        change : callable
            Given the rows of a file and what is known of them: the same, corrected.
        reason : str
        by : str
        made_from : int, optional
            The version that is corrected; the newest, if not given.

        Raises
        ------
        FileProblem
            The device has no rows, or the store cannot be written.

        """
        parts = self.parts(device, made_from)
        if not parts:
            raise FileProblem(f"{self.root} has no rows of {device}", remedy=self._devices())
        with self._locked():
            own = self.device_folder(device)
            number = 1 + max(_number(path) for path in own.glob("version=*"))
            now = datetime.now(UTC).isoformat(timespec="seconds")
            made = StoreVersion(
                version=number, made_from=parts[0].version, reason=reason, made=now, by=by
            )
            folder = own / f"version={number}"
            temporary = own / f".version={number}.new"
            shutil.rmtree(temporary, ignore_errors=True)
            try:
                for part in parts:
                    series, about = change(series_of(read_part(part.path)), part.about)
                    notes = [*about.notes, reason]
                    about = about.model_copy(update={"source": "correction", "notes": notes})
                    self._write(series, about, temporary)
                write_atomic(temporary / _VERSION, made.model_dump_json(indent=1) + "\n")
                temporary.rename(folder)
            except OSError as error:
                raise FileProblem(f"cannot write {folder}: {error.strerror}") from error
            finally:
                shutil.rmtree(temporary, ignore_errors=True)
        return made

    # ------------------------------------------------------------------ reading

    def read(
        self,
        device: str,
        channels: Sequence[str] | None = None,
        *,
        begin_s: float = -np.inf,
        end_s: float = np.inf,
        version: int | None = None,
    ) -> Series:
        """Rows of a device in the order of time; both ends count.

        Parameters
        ----------
        device : str
            Its serial number.
        channels : sequence of str, optional
            All, if not given.
        begin_s, end_s : float, in s since 1970-01-01 UTC
        version : int, optional
            The newest, if not given.

        Raises
        ------
        FileProblem
            There are no such rows, or a file cannot be read.

        """
        parts = self._meant(device, channels, begin_s, end_s, version)
        return cut(joined(parts, units_of(parts, channels)), begin_s, end_s)

    def chunks(
        self,
        device: str,
        channels: Sequence[str] | None = None,
        *,
        begin_s: float = -np.inf,
        end_s: float = np.inf,
        version: int | None = None,
        rows: int = _ROWS,
    ) -> Iterator[Series]:
        """The same piece by piece, each of so many rows at most: memory stays what a piece needs.

        Runs that overlap in time are read together.
        """
        parts = self._meant(device, channels, begin_s, end_s, version)
        wanted = units_of(parts, channels)
        for group in overlapping(parts):
            if len(group) == 1:
                pieces = batches(group[0], wanted, rows)
                found: Iterator[Series] = map(series_of, (with_columns(p, wanted) for p in pieces))
            else:
                found = sliced(joined(group, wanted), rows)
            for series in found:
                piece = cut(series, begin_s, end_s)
                if piece.times_s.size:
                    yield piece

    def dataset(self, device: str, version: int | None = None) -> Any:
        """The rows of a device as a dataset of Arrow, for tools that take one.

        Raises
        ------
        FileProblem
            There are none.

        """
        pa = arrow()
        from pyarrow import dataset, parquet  # noqa: PLC0415 - an optional package, and large

        parts = self._meant(device, None, -np.inf, np.inf, version)
        schemas = [parquet.read_schema(part.path) for part in parts]
        schema = pa.unify_schemas(schemas, promote_options="permissive")
        return dataset.dataset([str(part.path) for part in parts], schema=schema, format="parquet")

    def to_dataframe(
        self, device: str, channels: Sequence[str] | None = None, **span: Any
    ) -> pd.DataFrame:
        """The good values of ``read``, a column for each channel; ``attrs["units"]`` has their units."""
        return self.read(device, channels, **span).to_dataframe()

    def summarise(
        self,
        device: str,
        channels: Sequence[str] | None = None,
        setup: CheckedSetup | None = None,
        *,
        rows: int = _ROWS,
        span: Mapping[str, Any] | None = None,
    ) -> Summary:
        """Summarise rows of a device with constant memory, piece by piece; see ``summarise``.

        Parameters
        ----------
        device, channels
            As for ``read``.
        setup : CheckedSetup, optional
            With its derived channels, alarms and bands.
        rows : int
            Of a piece.
        span : mapping, optional
            ``begin_s``, ``end_s``, ``version``, as for ``read``.

        """
        pieces = self.pieces(device, channels, setup, rows=rows, span=span)
        return summarise(pieces, () if setup is None else setup.channels)

    def pieces(
        self,
        device: str,
        channels: Sequence[str] | None = None,
        setup: CheckedSetup | None = None,
        *,
        rows: int = _ROWS,
        span: Mapping[str, Any] | None = None,
    ) -> Iterator[Series]:
        """Rows piece by piece as ``chunks``, with the derived channels of a setup; see ``summarise``."""
        pieces = self.chunks(device, channels, rows=rows, **(span or {}))
        head = head_of(pieces)
        if setup is None or not head:
            yield from chain(head, pieces)
            return
        yield from map(DerivedRows(setup.channels, head).take, chain(head, pieces))

    def survey(
        self,
        device: str,
        setup: CheckedSetup,
        channels: Sequence[str] | None = None,
        *,
        rows: int = _ROWS,
        span: Mapping[str, Any] | None = None,
    ) -> tuple[Summary, Judged]:
        """Summarise rows of a device, and judge them as the section ``papers`` of the setup says.

        The memory is that of a piece. Parameters are as for ``summarise``.

        Raises
        ------
        QuantityError
            The rows lack a channel of the exposure, or a unit does not fit.

        """
        pieces = self.pieces(device, channels, setup, rows=rows, span=span)
        return survey(pieces, setup.setup.papers or Papers(), setup.channels, setup.setup.zone)

    # ------------------------------------------------------------------ within

    def _meant(
        self,
        device: str,
        channels: Sequence[str] | None,
        begin_s: float,
        end_s: float,
        version: int | None,
    ) -> list[Part]:
        parts = self.parts(device, version)
        if not parts:
            raise FileProblem(f"{self.root} has no rows of {device}", remedy=self._devices())
        for name in channels or ():
            if not any(name in part.columns for part in parts):
                valid = ", ".join(dict.fromkeys(n for part in parts for n in part.columns))
                raise FileProblem(f"{device} has no channel {name!r}", remedy=valid)
        found = [part for part in parts if part.overlaps(begin_s * 1e3, end_s * 1e3)]
        if not found:
            span = f"{utc_text(parts[0].begin_ms / 1e3)} to {utc_text(parts[-1].end_ms / 1e3)}"
            raise FileProblem(f"{device} has no rows in this time", remedy=f"it has {span}")
        return found

    def _devices(self) -> str:
        known = sorted({part.device for part in self.parts()})
        return f"it has {', '.join(known)}" if known else "it is empty"

    def device_folder(self, serial: str) -> Path:
        """Where the rows of a device lie, however its serial number is written."""
        for own in sorted(self.root.glob("device=*")):
            if same_number(own.name.partition("=")[2], serial):
                return own
        return self.root / f"device={re.sub(r'[^A-Za-z0-9_-]', '_', serial) or '_'}"

    def files_folder(self, serial: str) -> Path:
        """Where the files lie that a device held beside its rows."""
        return self.device_folder(serial) / "files"

    def _version_folder(self, serial: str, version: int) -> Path:
        return self.device_folder(serial) / f"version={version}"

    @contextmanager
    def _locked(self) -> Iterator[None]:
        try:
            self.root.mkdir(parents=True, exist_ok=True)
            with FileLock(self.root / ".lock", timeout=_WAIT_S):
                yield
        except Timeout:
            raise FileProblem(
                f"another program has been writing to {self.root} for {_WAIT_S:g} s",
                remedy="try again when it has finished",
            ) from None
        except OSError as error:
            raise FileProblem(f"cannot write {self.root}: {error.strerror}") from error

    @staticmethod
    def _without_known(series: Series, run: str, parts: Sequence[Part]) -> tuple[Series, int]:
        """The rows that are not there yet, and how many are; one that differs is refused."""
        if not series.times_s.size:
            return series, 0
        begin_ms, end_ms = 1e3 * series.times_s[0], 1e3 * series.times_s[-1]
        is_known = np.zeros(series.times_s.size, bool)
        for part in parts:
            if part.run != run or not part.overlaps(begin_ms, end_ms):
                continue
            held = series_of(read_part(part.path))
            _, here, there = np.intersect1d(
                millis(series.times_s), millis(held.times_s), return_indices=True
            )
            require_same(series, here, held, there)
            is_known[here] = True
        return rows_of(series, ~is_known), int(is_known.sum())

    def _merge(self, serial: str, run: str) -> None:
        """Join small files of a month, once there are many; what ends in the middle leaves no row twice."""
        small: dict[tuple[Path, str], list[Part]] = {}
        every, left = Catalogue(self.root).read()
        for path in left:  # this was broken off before
            path.unlink()
        for part in every:
            own = same_number(part.device, serial) and (part.version, part.run) == (1, run)
            if own and part.rows <= _SMALL_ROWS:
                alike = part.about.model_copy(update={"replaces": []}).to_json()
                small.setdefault((part.path.parent, alike), []).append(part)
        for parts in small.values():
            if len(parts) < _SMALL_FILES:
                continue
            series = joined(parts, units_of(parts, None))
            # A file that another one names is no part of the store any more.
            about = parts[0].about.model_copy(update={"replaces": [p.path.name for p in parts]})
            write_table(
                table_of(series, about.to_json()), _part_path(parts[0].path.parent, series, run)
            )
            for part in parts:
                part.path.unlink()

    @staticmethod
    def _write(series: Series, about: About, folder: Path) -> list[Path]:
        """Write rows in the order of time, a file for each month in UTC."""
        months = series.times_s.astype("datetime64[s]").astype("datetime64[M]")
        files = []
        for month in np.unique(months):
            piece = rows_of(series, months == month)
            table = table_of(piece, about.to_json())
            own = folder / f"month={month}"
            try:
                own.mkdir(parents=True, exist_ok=True)
            except OSError as error:
                raise FileProblem(f"cannot write {own}: {error.strerror}") from error
            path = _part_path(own, piece, about.run)
            write_table(table, path)
            files.append(path)
        return files


def _part_path(folder: Path, series: Series, run: str) -> Path:
    """Where a part is kept: named by its first time and by what it holds."""
    digest = content_hash(
        series.times_s.tobytes() + np.nan_to_num(series.values).tobytes() + run.encode()
    )
    first = utc_text(series.times_s[0]).replace(":", "").replace(".", "-")
    return folder / f"{first}-{digest[:12]}.parquet"


def _number(folder: Path) -> int:
    text = folder.name.partition("=")[2]
    return int(text) if text.isdecimal() else 0
