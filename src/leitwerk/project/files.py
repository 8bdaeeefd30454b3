"""Reading a file with a limit, and writing one whole or not at all."""

from __future__ import annotations

import contextlib
import hashlib
import os
import tempfile
from collections.abc import Iterable
from pathlib import Path

from leitwerk.errors import FileProblem, LeitwerkError
from leitwerk.parsing.yaml_text import MAX_BYTES

# Names with these endings are those of files.
_FILES = {".yaml", ".yml", ".json", ".hex", ".h"}


def read_bytes(path: str | Path) -> bytes:
    """A file's content, one byte more than is allowed at most: enough to see that it is too much.

    Raises
    ------
    FileProblem
        The file cannot be read.

    """
    path = Path(path)
    try:
        size = path.stat().st_size if path.is_file() else 0
        if path.exists() and not path.is_file():
            raise FileProblem(f"{path} is not a file", remedy="name a setup file")
        with path.open("rb") as file:
            content = file.read(MAX_BYTES + 1)
    except OSError as error:
        remedy = "check the name and the folder" if isinstance(error, FileNotFoundError) else ""
        reason = error.strerror or type(error).__name__
        raise FileProblem(f"cannot read {path}: {reason}", remedy=remedy) from error
    if size > MAX_BYTES:
        message = f"{path} has {size / 1e6:.0f} MB; nothing of that size is a setup"
        raise FileProblem(message, remedy=f"at most {MAX_BYTES / 1e6:.0f} MB are read")
    return content


def names_file(text: str) -> bool:
    """Whether a text names a file, and not an address or a device.

    Raises
    ------
    FileProblem
        It looks like the name of a file, and there is none, or it is a folder.

    """
    path = Path(text)
    if not path.is_file() and "://" not in text and (path.suffix in _FILES or path.is_dir()):
        read_bytes(path)  # says what is wrong with it
    return path.is_file()


def write_atomic(path: Path, text: str | bytes | Iterable[bytes]) -> None:
    """Write a file whole or not at all; on disk when this returns.

    What raises while it gives its pieces leaves no file.

    A file that was there keeps its owner and mode, and a link leads to the new content.

    Raises
    ------
    FileProblem
        It cannot be written; what was there before still is.

    """
    try:
        path = path.resolve()
        path.parent.mkdir(parents=True, exist_ok=True)
        descriptor, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        try:
            with os.fdopen(descriptor, "wb") as file:
                pieces = text.encode() if isinstance(text, str) else text
                file.writelines([pieces] if isinstance(pieces, bytes) else pieces)
                file.flush()
                os.fsync(file.fileno())
            if path.exists():
                before = path.stat()
                if hasattr(os, "chown"):  # an administrator must not take a user's file away
                    with contextlib.suppress(OSError):
                        os.chown(temporary, before.st_uid, before.st_gid)
                Path(temporary).chmod(before.st_mode & 0o7777)
            Path(temporary).replace(path)
            _sync_folder(path.parent)
        except BaseException:
            Path(temporary).unlink(missing_ok=True)
            raise
    except LeitwerkError:
        raise  # of what gives the pieces: a time-out of a link is an OSError, too
    except UnicodeEncodeError as error:
        raise FileProblem(f"cannot write {path}: {error.reason}") from None
    except (OSError, RuntimeError) as error:  # a link that leads to itself is a RuntimeError
        reason = getattr(error, "strerror", None) or type(error).__name__
        remedy = "is the folder there, writable, and the disk not full?"
        raise FileProblem(f"cannot write {path}: {reason}", remedy=remedy) from error


def remove_file(path: Path) -> None:
    """Remove a file that may be gone already; it is gone from the disk when this returns.

    Raises
    ------
    FileProblem
        It cannot be removed.

    """
    try:
        path.unlink(missing_ok=True)
        if path.parent.is_dir():
            _sync_folder(path.parent)
    except OSError as error:
        reason = error.strerror or type(error).__name__
        remedy = "is the folder writable?"
        raise FileProblem(f"cannot remove {path}: {reason}", remedy=remedy) from error


def _sync_folder(folder: Path) -> None:
    """What was renamed or removed in a folder is so on disk; systems that cannot do that are left alone."""
    if os.name == "nt":
        return
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        with contextlib.suppress(OSError):
            os.fsync(descriptor)
    finally:
        os.close(descriptor)


def free_path(folder: Path, stem: str, suffixes: Iterable[str]) -> Path:
    """A path in ``folder`` (without suffix) that no file with any of the suffixes has yet."""
    every = tuple(suffixes)
    for number in range(1, 10_000):
        path = folder / (stem if number == 1 else f"{stem}-{number}")
        if not any(path.with_name(path.name + suffix).exists() for suffix in every):
            return path
    raise FileProblem(f"{folder} holds thousands of files named {stem}", remedy="tidy up there")


def content_hash(content: bytes) -> str:
    """SHA-256 of a file's content, in hexadecimal."""
    return hashlib.sha256(content).hexdigest()
