"""One writer per device: a lock that holds between processes, too."""

from __future__ import annotations

import hashlib
import os
import re
import socket
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout
from platformdirs import user_data_dir

from leitwerk.errors import DeviceInUse, FileProblem
from leitwerk.identity import Identity, folded_number

_LOOK_S = 0.05  # from one look at a lock that is taken to the next


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
        with _for_all_users(name, wait_s, busy):
            yield
    finally:
        lock.release()


@contextmanager
def _for_all_users(name: str, wait_s: float, busy: DeviceInUse) -> Iterator[None]:
    """The same lock for the whole machine, where the system has one that needs no file: on Linux.

    A file that all users may open could be taken away by each of them. A name of a socket goes with
    its process, too. ``LEITWERK_LOCKS`` gives programs that belong together names of their own, such as
    tests that run beside each other.
    """
    if sys.platform != "linux":
        yield
        return
    deadline = time.monotonic() + wait_s
    space = os.environ.get("LEITWERK_LOCKS", "")
    digest = hashlib.sha256(f"{space}/{name}".encode()).hexdigest()
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as mark:
        while True:
            try:
                mark.bind(f"\0leitwerk/{digest}")
                break
            except OSError:
                if time.monotonic() >= deadline:
                    raise busy from None
                time.sleep(_LOOK_S)
        yield
