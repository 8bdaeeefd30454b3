"""How far the runs of a device have been fetched into a store: a file beside its rows."""

from __future__ import annotations

import json

from leitwerk.errors import LeitwerkError
from leitwerk.project.files import write_atomic
from leitwerk.project.kept_json import KeptFile, read_kept
from leitwerk.recordings.store import Store

_FILE = "fetched.json"


class FetchNote(KeptFile):
    """How far a run has been fetched. Rows are numbered from the first that was ever stored.

    ``crc`` is the CRC-32 of the rows from ``begin`` to ``end``, ``lost`` how many of them were overwritten
    before they were fetched.
    """

    begin: int
    end: int
    lost: int
    crc: int


class _Notes(KeptFile):
    runs: dict[str, FetchNote]


def note_of(store: Store, serial: str, run: str, first: int = 0) -> FetchNote:
    """How far a run was fetched; up to its row ``first``, where nothing is noted or its rows are gone."""
    note = _notes(store, serial).get(run)
    if note is not None and store.run_rows(serial, run) >= note.end - note.begin - note.lost:
        return note
    return FetchNote(begin=first, end=first, lost=0, crc=0)


def keep_note(store: Store, serial: str, run: str, note: FetchNote) -> None:
    """Note how far a run has been fetched."""
    try:
        held = _notes(store, serial)
    except LeitwerkError:
        held = {}
    content = {"runs": {**{k: v.model_dump() for k, v in held.items()}, run: note.model_dump()}}
    write_atomic(store.device_folder(serial) / _FILE, json.dumps(content, indent=1) + "\n")


def _notes(store: Store, serial: str) -> dict[str, FetchNote]:
    path = store.device_folder(serial) / _FILE
    if not path.exists():
        return {}
    return read_kept(
        path, _Notes, "how far recordings were fetched", "remove it; rows are compared"
    ).runs
