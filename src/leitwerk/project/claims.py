"""What a program changes on a device for a while: noted on disk before it is changed, and given back.

A program that is killed leaves its note behind; one that lives has a claim, and no other program on this
computer changes the settings of the device meanwhile. The device is told by what
stands inside a note, never by its name.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from filelock import FileLock, Timeout
from platformdirs import user_data_dir
from pydantic import Field

from leitwerk.errors import DeviceInUse, FileProblem
from leitwerk.identity import Identity, folded_number, same_number
from leitwerk.project.files import remove_file, write_atomic
from leitwerk.project.kept_json import KeptFile, StoredJson, read_kept


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


@dataclass(frozen=True, slots=True)
class ForAWhile:
    """A setting that an act changes only for a while: what it was, and what it is meanwhile."""

    before: float | int | str
    meanwhile: float | int | str


class _Output(KeptFile):
    name: str
    point: str
    slot: int
    release: str | float
    since: str


class _Setting(KeptFile):
    before: StoredJson
    meanwhile: StoredJson


class _ClaimFile(KeptFile):
    model: str
    serial: str
    act: str
    since: str
    address: str = ""
    is_alone: bool = False
    outputs: list[_Output] = Field(default_factory=list)
    settings: dict[str, _Setting] = Field(default_factory=dict)
    records: bool = False


class Claim:
    """What this program changes for a while on one device, while its ``with`` block lasts."""

    def __init__(
        self, path: Path, identity: Identity, act: str, address: str, *, alone: bool
    ) -> None:
        self._path = path
        self._head = {
            "model": identity.model, "serial": identity.serial, "act": act,
            "since": _now(), "address": address, "is_alone": alone,
        }  # fmt: skip
        self._outputs: dict[str, DrivenOutput] = {}
        self._settings: dict[str, ForAWhile] = {}
        self._records = False
        self._write()

    def driven(self, name: str, point: str, slot: int, release: str | float) -> None:
        """Note an output before it is driven.

        Raises
        ------
        FileProblem
            The note cannot be written; the output must not be driven then.

        """
        if name not in self._outputs:
            self._outputs[name] = DrivenOutput(name, point, slot, release, _now())
            self._write()

    def released(self, name: str) -> None:
        """An output was released."""
        if self._outputs.pop(name, None) is not None:
            self._write()

    def changes(self, settings: Mapping[str, ForAWhile], *, records: bool = False) -> None:
        """Note settings before they are changed, and whether a recording will be started.

        Raises
        ------
        FileProblem
            The note cannot be written; nothing must be changed then.

        """
        self._settings, self._records = dict(settings), records
        self._write()

    def given_back(self) -> None:
        """All settings are given back, and the recording has ended."""
        self._settings, self._records = {}, False
        self._write()

    @property
    def is_settled(self) -> bool:
        """Whether nothing is left to be given back."""
        return not (self._outputs or self._settings or self._records)

    def _write(self) -> None:
        content = {
            "claim": 1,
            **self._head,
            "outputs": [asdict(o) for o in self._outputs.values()],
            "settings": {name: asdict(one) for name, one in self._settings.items()},
            "records": self._records,
        }
        write_atomic(self._path, json.dumps(content, indent=1) + "\n")


@contextmanager
def claiming(
    identity: Identity, act: str, *, address: object = "", alone: bool = False
) -> Iterator[Claim]:
    """A claim on a device, alive as long as this program is; what is not given back stays noted.

    Parameters
    ----------
    identity : Identity
    act : str
        What is done, for people: ``test run``.
    address : object
        Where the device is.
    alone : bool
        Whether no other program may write settings meanwhile.

    Raises
    ------
    DeviceInUse
        Another program has a claim for itself alone.
    FileProblem
        The note cannot be made.

    """
    require_unclaimed(identity)
    path = _folder() / f"{_stem(identity)}-{os.getpid()}-{re.sub(r'[^a-z]+', '_', act)}.json"
    lock = FileLock(path.with_suffix(".lock"))
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        lock.acquire(timeout=0)
    except (OSError, Timeout) as error:
        raise FileProblem(f"cannot note what is changed for a while in {path}: {error}") from error
    try:
        claim = Claim(path, identity, act, str(address), alone=alone)
        try:
            yield claim
        finally:
            if claim.is_settled:
                remove_file(path)
    finally:
        lock.release()
        path.with_suffix(".lock").unlink(missing_ok=True)


@dataclass(frozen=True, slots=True)
class LeftClaim:
    """What a program that has ended did not give back. ``problem`` says why its note cannot be read."""

    path: Path
    act: str = ""
    since: str = ""
    outputs: tuple[DrivenOutput, ...] = ()
    settings: Mapping[str, ForAWhile] = field(default_factory=dict)
    records: bool = False
    problem: str = ""

    @property
    def changes_settings(self) -> bool:
        """Whether settings or a recording are to be given back, beside outputs."""
        return bool(self.settings or self.records)

    def settle(self) -> None:
        """All of it is given back."""
        remove_file(self.path)
        self.path.with_suffix(".lock").unlink(missing_ok=True)

    def __str__(self) -> str:
        if self.problem:
            return f"a note of what a program changed for a while cannot be read: {self.problem}"
        parts = [
            f"{name} is {one.meanwhile} instead of {one.before}"
            for name, one in self.settings.items()
        ]
        parts += ["a recording may be running"] if self.records else []
        return f"the {self.act} of {self.since} was broken off: {', '.join(parts) or 'nothing is left'}"


def left_claims(identity: Identity) -> list[LeftClaim]:
    """What programs on this computer changed on a device for a while, and ended without giving back.

    A note that cannot be read may be of this device: it is among them, with its ``problem``.
    """
    found = []
    for path, is_alive in _notes():
        if is_alive:
            continue
        try:
            file = _read(path)
        except FileProblem as error:
            found.append(LeftClaim(path, problem=error.message))
            continue
        if not _is_of(file, identity):
            continue
        outputs = tuple(DrivenOutput(**entry.model_dump()) for entry in file.outputs)
        settings = {n: ForAWhile(one.before, one.meanwhile) for n, one in file.settings.items()}
        found.append(LeftClaim(path, file.act, file.since, outputs, settings, records=file.records))
    return found


def require_unclaimed(identity: Identity) -> None:
    """Insist that no other program has the device for itself alone.

    Raises
    ------
    DeviceInUse
        One has: it will give settings back, and would undo what is written meanwhile.

    """
    for path, is_alive in _notes():
        if not is_alive or f"-{os.getpid()}-" in path.name:
            continue
        try:
            file = _read(path)
        except FileProblem:
            continue  # it is being written just now, by a program that looks at this one's lock
        if file.is_alone and _is_of(file, identity):
            raise DeviceInUse(
                f"a {file.act} on {file.model} {file.serial} has been under way since {file.since}",
                remedy="wait until it has ended: it gives back what it changed",
            )


def _notes() -> Iterator[tuple[Path, bool]]:
    """All notes, and whether their programs live."""
    for path in sorted(_folder().glob("*.json")):
        lock = FileLock(path.with_suffix(".lock"))
        try:
            lock.acquire(timeout=0)
        except (OSError, Timeout):
            yield path, True
            continue
        lock.release()
        if path.exists():
            yield path, False


def _read(path: Path) -> _ClaimFile:
    return read_kept(
        path, _ClaimFile, "a note of what is changed for a while", "look at the device"
    )


def _is_of(file: _ClaimFile, identity: Identity) -> bool:
    return file.model == identity.model and same_number(file.serial, identity.serial)


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds").replace("+00:00", "Z")


def _folder() -> Path:
    return Path(user_data_dir("leitwerk", appauthor=False)) / "claims"


def _stem(identity: Identity) -> str:
    """A name for people; what counts stands inside."""
    return re.sub(r"[^\w-]+", "_", f"{identity.model}-{folded_number(identity.serial)}")
