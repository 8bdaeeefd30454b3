"""The outputs that a program drives, noted on disk: one that is killed leaves the note behind."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path

from filelock import FileLock, Timeout
from platformdirs import user_data_dir

from leitwerk.errors import FileProblem
from leitwerk.identity import Identity, folded_number
from leitwerk.project.files import remove_file, write_atomic
from leitwerk.project.kept_json import KeptFile, read_kept


@dataclass(frozen=True, slots=True)
class DrivenOutput:
    """An output that is driven: its name, its kind and index in the device, how it is released, since when.

    ``point`` is the name of the point by which it is driven, ``release`` what is written there.
    """

    name: str
    point: str
    slot: int
    release: str | float
    since: str

    def __str__(self) -> str:
        return f"output {self.name} was driven at {self.since}, and its program ended without releasing it"


class _Driven(KeptFile):
    name: str
    point: str
    slot: int
    release: str | float
    since: str


class _DrivenFile(KeptFile):
    outputs: list[_Driven]


class DrivenNote:
    """The outputs that this program drives on one device."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._outputs: dict[str, DrivenOutput] = {}

    def driven(self, name: str, point: str, slot: int, release: str | float) -> None:
        """Note an output before it is driven.

        Raises
        ------
        FileProblem
            The note cannot be written; the output must not be driven then.

        """
        if name not in self._outputs:
            since = datetime.now(UTC).isoformat(timespec="seconds").replace("+00:00", "Z")
            self._outputs[name] = DrivenOutput(name, point, slot, release, since)
            self._write()

    def released(self, name: str) -> None:
        """An output was released."""
        if self._outputs.pop(name, None) is not None:
            self._write()

    def _write(self) -> None:
        if self._outputs:
            content = {"driven": 1, "outputs": [asdict(o) for o in self._outputs.values()]}
            write_atomic(self._path, json.dumps(content, indent=1) + "\n")
        else:
            remove_file(self._path)


@contextmanager
def driving(identity: Identity) -> Iterator[DrivenNote]:
    """A note for the outputs of a device, alive as long as this program is.

    Raises
    ------
    FileProblem
        The note cannot be made.

    """
    path = _folder() / f"{_stem(identity)}-{os.getpid()}.json"
    lock = FileLock(path.with_suffix(".lock"))
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        lock.acquire(timeout=0)
    except (OSError, Timeout) as error:
        raise FileProblem(f"cannot note what is driven in {path}: {error}") from error
    try:
        yield DrivenNote(path)
    finally:
        lock.release()
        path.with_suffix(".lock").unlink(missing_ok=True)


@dataclass(frozen=True, slots=True)
class LeftDriven:
    """A note that a killed program left, and its outputs."""

    path: Path
    outputs: tuple[DrivenOutput, ...]

    def settle(self) -> None:
        """All of its outputs are released."""
        remove_file(self.path)
        self.path.with_suffix(".lock").unlink(missing_ok=True)


def left_driven(identity: Identity) -> list[LeftDriven]:
    """What programs on this computer drove on a device that have ended without releasing it."""
    found = []
    for path in sorted(_folder().glob(f"{_stem(identity)}-*.json")):
        lock = FileLock(path.with_suffix(".lock"))
        try:
            lock.acquire(timeout=0)
        except (OSError, Timeout):
            continue  # its program lives
        lock.release()
        try:
            file = read_kept(path, _DrivenFile, "a note of what is driven", "remove it")
            outputs = tuple(DrivenOutput(**entry.model_dump()) for entry in file.outputs)
        except FileProblem:
            continue  # it ended while it made the note: before it drove anything
        found.append(LeftDriven(path, outputs))
    return found


def _folder() -> Path:
    return Path(user_data_dir("leitwerk", appauthor=False)) / "driven"


def _stem(identity: Identity) -> str:
    return re.sub(r"[^\w-]+", "_", f"{identity.model}-{folded_number(identity.serial)}")
