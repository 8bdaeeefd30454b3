"""Files in a device: which there are, and reading one piece by piece, verified by its check sum."""

from __future__ import annotations

import re
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from leitwerk.datasheet.vocabulary import (
    FILE_BLOCK,
    FILE_CHECK_SUM,
    FILE_FIRST,
    FILE_NAME,
    FILE_SELECT,
    FILE_SHOWN,
    FILE_SIZE,
    FILE_WORD,
    FILES,
)
from leitwerk.devices.device import Device
from leitwerk.errors import LinkError, QuantityError
from leitwerk.parsing.quantities import bytes_text

_FILES_AT_MOST = 10_000
_BYTES_AT_MOST = 4_000_000_000  # what a WAV file can hold
# A name comes from a device and becomes one of this machine: nothing in it leads elsewhere.
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,63}")


@dataclass(frozen=True, slots=True)
class FileInfo:
    """A file in a device: its number from 1, its name, its size in bytes and its CRC-32."""

    number: int
    name: str
    size: int
    check_sum: int

    def __str__(self) -> str:
        return f"{self.name}, {bytes_text(self.size)}"


def list_files(device: Device) -> list[FileInfo]:
    """The files that a device holds; none where its datasheet has none.

    Raises
    ------
    LinkError
        The device was not reached, or says what cannot be.

    """
    sheet = device.datasheet
    if not (sheet.has(FILES) and sheet.has(FILE_SELECT)):
        return []
    count = _number(device.status_points()[FILES.name], _FILES_AT_MOST, device, "number of files")
    return [_look(device, number) for number in range(1, count + 1)]


def read_file(
    device: Device, info: FileInfo, progress: Callable[[int, int], None] = lambda done, total: None
) -> Iterator[bytes]:
    """The bytes of a file, piece by piece; what comes last is held back until the check sum was right.

    Parameters
    ----------
    device : Device
    info : FileInfo
        As ``list_files`` gave it.
    progress : callable
        Called with the bytes that are done, and how many there are.

    Raises
    ------
    QuantityError
        The device has no such file any more.
    LinkError
        It was not reached, shows another piece than was asked for, or the bytes do not have the check sum.

    """
    if _look(device, info.number) != info:
        raise QuantityError(
            f"file {info.number} of the device is not {info.name} any more",
            remedy="list its files again",
        )
    sheet, done, sum_now = device.datasheet, 0, 0
    words = sheet.family(FILE_WORD)
    points = [sheet.point(FILE_BLOCK)] if words is None else list(words.points())
    read, shown = device.block_reader(points), device.reader([sheet.point(FILE_SHOWN)])
    while done < info.size:
        device.write_point(sheet.point(FILE_FIRST), float(done))
        piece, at = read()[: info.size - done], float(shown()[0])
        if at != done or not piece:
            raise LinkError(
                f"{device.address}: it shows byte {at:g} of {info.name}, byte {done} was asked for",
                remedy="does another program read files? Try again when it has finished",
            )
        sum_now, done = zlib.crc32(piece, sum_now), done + len(piece)
        if done == info.size and sum_now != info.check_sum:
            raise LinkError(
                f"{device.address}: {info.name} does not have its check sum, and is not kept",
                remedy="fetch it again; if that happens again, is the line disturbed?",
            )
        yield piece
        progress(done, info.size)


def _look(device: Device, number: int) -> FileInfo:
    sheet = device.datasheet
    device.write_point(sheet.point(FILE_SELECT), float(number))
    shown = (FILE_NAME, FILE_SIZE, FILE_CHECK_SUM)
    found = device.read_points([sheet.point(known) for known in shown])
    name = str(found[FILE_NAME.name])
    if not _NAME.fullmatch(name):
        raise LinkError(
            f"{device.address}: {name[:40]!r} is no name for a file here",
            remedy="letters, digits, '.', '_' and '-' are taken; does the datasheet fit this device?",
        )
    size = _number(found[FILE_SIZE.name], _BYTES_AT_MOST, device, f"size of {name}")
    return FileInfo(number, name, size, int(float(found[FILE_CHECK_SUM.name])))


def _number(value: object, at_most: int, device: Device, what: str) -> int:
    """A count that a device gives."""
    number = value if isinstance(value, int | float) else -1
    if not 0 <= number <= at_most:
        raise LinkError(
            f"{device.address}: {str(value)[:40]} is no {what}",
            remedy="does the datasheet fit this device?",
        )
    return int(number)
