"""A bundle for whoever is to help with a device: one ZIP with a list of what is in it, and no secret."""

from __future__ import annotations

import hashlib
import json
import os
import platform
import tempfile
import zipfile
from collections.abc import Iterable
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path

from leitwerk.errors import FileProblem
from leitwerk.project.kept import device_folder
from leitwerk.reports.device_page import DevicePage
from leitwerk.reports.visits import visit_files

_NEWEST = 50  # visits and receipts
_LARGEST = 10_000_000  # bytes of one file
_MASK = b"***"
_LEAST = 3  # characters of a password that can be looked for without spoiling everything
_PACKAGES = ("leitwerk", "numpy", "pymodbus", "pyserial", "paho-mqtt", "matplotlib", "pydantic")


def pack(
    path: Path,
    page: DevicePage,
    kept: Path,
    *,
    setup: Path | None = None,
    trace: Iterable[str] = (),
    secrets: Iterable[str] = (),
) -> list[str]:
    """Write the bundle; returns the names of what is in it.

    Parameters
    ----------
    path : Path
    page : DevicePage
    kept : Path
        The folder with receipts and visits of all devices.
    setup : Path, optional
        Its setup file.
    trace : iterable of str
        The frames on the link, with passwords masked.
    secrets : iterable of str
        Texts that must not be in it: they are masked wherever they stand.

    Raises
    ------
    FileProblem
        It cannot be written.

    """
    hidden = [text.encode() for text in secrets if len(text) >= _LEAST]
    files = {
        "device.json": json.dumps(
            page.to_dict(), indent=1, ensure_ascii=False, default=str
        ).encode(),
        "versions.json": json.dumps(_versions(), indent=1).encode(),
        "trace.txt": "".join(f"{line}\n" for line in trace).encode(),
    }
    if setup is not None:
        files[f"setup/{setup.name}"] = _content(setup)
    own = device_folder(kept, page.identity.serial)
    receipts = sorted(own.glob("*-receipt.*")) if own.is_dir() else []
    for folder, found in (
        ("visits", visit_files(kept, page.identity.serial)),
        ("receipts", receipts),
    ):
        for file in found[-_NEWEST:]:
            files[f"{folder}/{file.name}"] = _content(file)
    files = {name: _masked(content, hidden) for name, content in files.items()}
    manifest = {
        name: {"bytes": len(content), "sha256": hashlib.sha256(content).hexdigest()}
        for name, content in files.items()
    }
    files["manifest.json"] = json.dumps(manifest, indent=1).encode()
    _write(path, files)
    return sorted(files)


def _write(path: Path, files: dict[str, bytes]) -> None:
    try:
        with (
            tempfile.NamedTemporaryFile(dir=path.parent, suffix=".zip", delete=False) as temporary,
            zipfile.ZipFile(temporary, "w", zipfile.ZIP_DEFLATED) as archive,
        ):
            for name, content in sorted(files.items()):
                archive.writestr(name, content)
        Path(temporary.name).replace(path)
    except OSError as error:
        reason = error.strerror or type(error).__name__
        raise FileProblem(
            f"cannot write {path}: {reason}", remedy="is the folder there, and writable?"
        ) from error


def _content(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(_LARGEST)
    except OSError as error:
        return f"cannot be read: {error.strerror}".encode()


def _masked(content: bytes, hidden: list[bytes]) -> bytes:
    for text in hidden:
        content = content.replace(text, _MASK)
    return content


def known_secrets() -> list[str]:
    """The passwords and secrets that stand in the environment."""
    heads = ("LEITWERK_PASSWORD_", "LEITWERK_SECRET_")
    return [value for name, value in os.environ.items() if name.startswith(heads)]


def _versions() -> dict[str, str]:
    found = {"python": platform.python_version(), "system": platform.platform()}
    for package in _PACKAGES:
        try:
            found[package] = version(package)
        except PackageNotFoundError:
            found[package] = "not installed"
    return found
