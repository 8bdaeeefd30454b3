"""Files that a device holds (waveforms, sound, events), fetched into a folder and verified."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from itertools import count
from pathlib import Path
from typing import Any

from leitwerk.devices.device import Device
from leitwerk.devices.device_files import FileInfo, list_files, read_file
from leitwerk.errors import FileProblem
from leitwerk.parsing.quantities import bytes_text
from leitwerk.project.files import write_atomic

_PIECE = 1_048_576


@dataclass(frozen=True)
class FetchedFile:
    """A file of a device, and where it is now; ``is_new`` if it was not there before."""

    info: FileInfo
    path: Path
    is_new: bool

    def to_dict(self) -> dict[str, Any]:
        """The file as plain data for JSON."""
        return {
            "name": self.info.name,
            "bytes": self.info.size,
            "file": str(self.path),
            "new": self.is_new,
        }

    def __str__(self) -> str:
        state = "verified by its check sum" if self.is_new else "fetched before"
        return f"{self.path}: {bytes_text(self.info.size)}, {state}"


def fetch_files(
    device: Device,
    folder: Path,
    progress: Callable[[str, int, int], None] = lambda step, done, total: None,
) -> Iterator[FetchedFile]:
    """Fetch the files of a device that the folder does not have; nothing is erased.

    A file of the same name with another content stays, and the new one gets a number.

    Raises
    ------
    LinkError
        The device was not reached, or a file does not have its check sum: it is not kept then.
    FileProblem
        A file cannot be written.

    """
    with device.staying_the_same():
        for info in list_files(device):
            *_, target = _names(folder, info)
            is_new = not target.exists()
            if is_new:
                step = partial(progress, f"fetch {info.name}")
                write_atomic(target, read_file(device, info, step))
            yield FetchedFile(info, target, is_new)


def is_fetched(folder: Path, info: FileInfo) -> bool:
    """Whether a folder holds a file of a device, whole."""
    *_, target = _names(folder, info)
    return target.exists()


def _names(folder: Path, info: FileInfo) -> Iterator[Path]:
    """The names of a file in a folder, up to the first that is free or holds just this content."""
    path = Path(info.name)
    for number in count(1):
        target = folder / (path.name if number == 1 else f"{path.stem}-{number}{path.suffix}")
        yield target
        if not target.exists() or _holds(target, info):
            return


def _holds(path: Path, info: FileInfo) -> bool:
    """Whether a file has the size and the check sum of one in a device."""
    try:
        if path.stat().st_size != info.size:
            return False
        found = 0
        with path.open("rb") as file:
            while piece := file.read(_PIECE):
                found = zlib.crc32(piece, found)
    except OSError as error:
        raise FileProblem(f"cannot read {path}: {error.strerror or error}") from error
    return found == info.check_sum
