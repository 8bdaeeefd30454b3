"""One writer per device: a lock that holds between processes, too."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout
from platformdirs import user_data_dir

from leitwerk.errors import DeviceInUse, FileProblem
from leitwerk.identity import Identity, folded_number


@contextmanager
def only_writer(identity: Identity, wait_s: float) -> Iterator[None]:
    """Hold a lock: no other program on this machine writes to the device meanwhile.

    The system gives the lock up when a process ends, however it ends.

    Raises
    ------
    DeviceInUse
        Another program is writing to it, and has not finished within ``wait_s``.
    FileProblem
        The lock cannot be taken for another reason.

    """
    busy = DeviceInUse(
        f"another program is writing to {identity.model} {identity.serial}",
        remedy="wait until that upload has ended, then try again (--wait S waits for it)",
    )
    with _only_one("", identity, wait_s, busy):
        yield


@contextmanager
def only_attendant(identity: Identity) -> Iterator[None]:
    """Hold a lock: no other program on this machine attends the device. Two would send every message twice.

    Raises
    ------
    DeviceInUse
        Another program does.
    FileProblem
        The lock cannot be taken for another reason.

    """
    busy = DeviceInUse(
        f"{identity.model} {identity.serial} is attended already",
        remedy="end the other 'leitwerk attend' first",
    )
    with _only_one("attend-", identity, 0.0, busy):
        yield


@contextmanager
def _only_one(what: str, identity: Identity, wait_s: float, busy: DeviceInUse) -> Iterator[None]:
    name = what + re.sub(r"[^\w-]+", "_", f"{identity.model}-{folded_number(identity.serial)}")
    path = Path(user_data_dir("leitwerk", appauthor=False)) / "locks" / f"{name}.lock"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        lock = FileLock(path)
        lock.acquire(timeout=wait_s)
    except Timeout:
        raise busy from None
    except OSError as error:
        reason = error.strerror or type(error).__name__
        remedy = "is the folder there and writable?"
        raise FileProblem(f"cannot lock {path}: {reason}", remedy=remedy) from error
    try:
        yield
    finally:
        lock.release()
