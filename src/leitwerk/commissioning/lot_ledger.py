"""The ledger of a lot: one line for each unit that was tested, on disk before its verdict is shown."""

from __future__ import annotations

import math
import os
from collections.abc import Iterator
from collections.abc import Set as AbstractSet
from pathlib import Path
from typing import IO, Self

from pydantic import Field

from leitwerk.commissioning.unit_tests import TestResult
from leitwerk.errors import FileProblem
from leitwerk.identity import folded_number
from leitwerk.project.kept_json import KeptFile, KeptIdentity, parse_kept
from leitwerk.results import Outcome

_LONGEST = 1 << 20  # bytes of one line


def _finite(number: float) -> float | None:
    return number if math.isfinite(number) else None


class KeptResult(KeptFile):
    """What came of one test of one channel; None for numbers that it does not have."""

    test: str
    channel: str = ""
    verdict: str
    fault: str = ""
    detail: str = ""
    value: float | None = None
    unit: str = ""
    low: float | None = None
    high: float | None = None
    tries: int = 1

    @classmethod
    def of(cls, result: TestResult) -> Self:
        """A result as it is kept."""
        return cls(
            test=result.test, channel=result.channel, verdict=result.verdict, fault=result.fault,
            detail=result.detail, value=_finite(result.value), unit=result.unit,
            low=_finite(result.low), high=_finite(result.high), tries=result.tries,
        )  # fmt: skip


class UnitRecord(KeptFile):
    """One unit: who it is, when it was tested, with which plan and setup, and what came of each test.

    ``number`` counts the lines of the ledger. ``again`` is whether it was tested before.
    """

    unit: int = 1
    number: int
    device: KeptIdentity
    started: str
    took_s: float
    by: str
    plan_hash: str
    setup_hash: str
    verdict: str
    again: bool = False
    results: list[KeptResult] = Field(default_factory=list)

    @property
    def serial(self) -> str:
        """Its serial number."""
        return self.device.serial

    @property
    def passed(self) -> bool:
        """Whether all tests passed."""
        return self.verdict == Outcome.PASSED.value

    @property
    def is_known(self) -> bool:
        """Whether it has a verdict; not where the unit stopped to answer."""
        return self.verdict != Outcome.UNKNOWN.value

    @property
    def word(self) -> str:
        """Its verdict in one word: PASS, FAIL or UNKNOWN."""
        return "PASS" if self.passed else "FAIL" if self.is_known else "UNKNOWN"

    @property
    def faults(self) -> tuple[str, ...]:
        """The names of its faults, each once."""
        return tuple(dict.fromkeys(one.fault for one in self.results if one.fault))

    @property
    def details(self) -> tuple[str, ...]:
        """Its faults with their numbers."""
        return tuple(one.detail or one.fault for one in self.results if one.fault)

    def line(self) -> str:
        """One line of text for people."""
        what = f"  {'; '.join(self.details)}" if self.details else ""
        return f"{self.word}  {self.serial}{what}"


class Ledger:
    """The file of a lot, of lines that are only added to.

    A line that was cut off when a computer stopped is no record: it is taken away before the next is added.
    """

    def __init__(self, path: str | Path) -> None:
        self.path = Path(path)
        self.records: list[UnitRecord] = []
        self._last: dict[str, UnitRecord] = {}
        self._decided: set[str] = set()
        self._file: IO[bytes] | None = None

    def __enter__(self) -> Self:
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._file = self.path.open("ab")
            self._lock()
            # Only now: what another command has added before it let go is read, and not cut off.
            self._file.truncate(self.read())
        except OSError as error:
            self.__exit__()
            raise FileProblem(
                f"cannot write {self.path}: {error.strerror or error}",
                remedy="is the folder there? Does another command test this lot?",
            ) from error
        except FileProblem:
            self.__exit__()
            raise
        return self

    def __exit__(self, *error: object) -> None:
        if self._file is not None:
            self._file.close()
            self._file = None

    def _lock(self) -> None:
        try:
            import fcntl  # noqa: PLC0415 - not on Windows
        except ImportError:
            return
        assert self._file is not None
        fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)

    def read(self) -> int:
        """Read the records; how many bytes of the file they are.

        Raises
        ------
        FileProblem
            A whole line is no record.

        """
        self.records, self._last, self._decided = [], {}, set()
        if not self.path.exists():
            return 0
        at = 0
        for number, line in enumerate(_lines(self.path), 1):
            if not line.endswith(b"\n"):
                break  # it was cut off
            try:
                self._note(parse_kept(line, UnitRecord))
            except ValueError as error:
                raise FileProblem(
                    f"{self.path}:{number} is no record of a unit, or damaged: {error}",
                    remedy="move the file away: what it holds stays readable line by line",
                ) from None
            at += len(line)
        return at

    @property
    def numbers(self) -> AbstractSet[str]:
        """The serial numbers of the units that have a verdict, in the form that is compared."""
        return self._decided

    def find(self, serial: str) -> UnitRecord | None:
        """The last record of a unit; None where it was not tested."""
        return self._last.get(folded_number(serial))

    def latest(self) -> list[UnitRecord]:
        """The last record of each unit, in the order of their first test."""
        return list(self._last.values())

    def _note(self, record: UnitRecord) -> None:
        number = folded_number(record.serial)
        self.records.append(record)
        self._last[number] = record
        if record.is_known:
            self._decided.add(number)

    def add(self, record: UnitRecord) -> None:
        """Add a record; it is on disk when this returns.

        Raises
        ------
        FileProblem
            It cannot be written.

        """
        assert self._file is not None, "the ledger is open"
        try:
            self._file.write(record.model_dump_json().encode() + b"\n")
            self._file.flush()
            os.fsync(self._file.fileno())
        except OSError as error:
            raise FileProblem(
                f"cannot write {self.path}: {error.strerror or error}", remedy="is the disk full?"
            ) from error
        self._note(record)


def _lines(path: Path) -> Iterator[bytes]:
    try:
        with path.open("rb") as file:
            while line := file.readline(_LONGEST):
                yield line
    except OSError as error:
        raise FileProblem(f"cannot read {path}: {error.strerror or error}") from error
