"""Recordings of sound and waveforms as WAV: blocks of samples, as parts of full scale."""

from __future__ import annotations

import struct
import warnings
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.io import wavfile

from leitwerk.errors import FileProblem, QuantityError
from leitwerk.parsing.quantities import Quantity, parse_quantity

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_BLOCK = 262_144  # samples of each channel at once
_MOST_CHANNELS = 64
_CHUNKS = 100  # that are looked through for what a file says of itself
# Description, date, time, and samples since midnight; before the date, who made it.
_BEXT = struct.Struct("<256s64x10s8sQ")
_CLOCK = "%Y-%m-%d %H:%M:%S"
_FULL_SCALE = "full scale "


@dataclass(frozen=True)
class SampledFile:
    """Samples of some channels, read block by block; 1 is full scale.

    ``began`` is the local time of the first sample, ``full_scale`` the quantities that 1 is, where the file
    says these.
    """

    path: Path
    rate_hz: float
    channels: int
    count: int
    _samples: Any
    began: datetime | None = None
    full_scale: tuple[Quantity, ...] = ()

    def blocks(self) -> Iterator[Array]:
        """Arrays of shape (n, channels)."""
        for begin in range(0, self.count, _BLOCK):
            piece = np.asarray(self._samples[begin : begin + _BLOCK]).reshape(-1, self.channels)
            if piece.dtype.kind == "f":
                yield piece.astype(float)
            elif piece.dtype == np.uint8:
                yield (piece.astype(float) - 128.0) / 128.0
            else:
                yield piece.astype(float) / float(np.iinfo(piece.dtype).max + 1.0)

    @property
    def duration_s(self) -> float:
        """How long it is."""
        return self.count / self.rate_hz


def open_samples(path: str | Path) -> SampledFile:
    """A WAV file (RIFF, PCM or floating point), whose samples stay on disk as far as its form allows.

    Raises
    ------
    FileProblem
        It cannot be read, is no WAV, is cut off, or holds no samples.

    """
    path = Path(path)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", wavfile.WavFileWarning)
            # Chunks with something else than samples are read here, or are of no concern.
            warnings.filterwarnings("ignore", "Chunk .non-data. not understood")
            try:
                rate, samples = wavfile.read(path, mmap=True)
            except ValueError:  # 24 bits have no type that could be mapped
                rate, samples = wavfile.read(path)
    except wavfile.WavFileWarning as warning:
        raise FileProblem(
            f"{path} is cut off, or has parts that are no WAV: {str(warning)[:100]}",
            remedy="copy it again from the device",
        ) from None
    except OSError as error:
        raise FileProblem(f"cannot read {path}: {error.strerror or error}") from None
    except (ValueError, struct.error, EOFError, KeyError, TypeError, MemoryError, OverflowError,
            ZeroDivisionError) as error:  # fmt: skip
        raise FileProblem(
            f"{path} is no WAV file that can be read: {str(error)[:100]}",
            remedy="WAV with PCM samples",
        ) from None
    channels = 1 if samples.ndim == 1 else samples.shape[1]
    if not samples.size or not rate > 0 or not 1 <= channels <= _MOST_CHANNELS:
        raise FileProblem(f"{path} holds no samples", remedy="a WAV file with samples")
    began, full_scale = _about(path, float(rate))
    return SampledFile(path, float(rate), channels, samples.shape[0], samples, began, full_scale)


def _about(path: Path, rate_hz: float) -> tuple[datetime | None, tuple[Quantity, ...]]:
    """When a file began, and what its full scale is, by its chunk 'bext' (EBU Tech 3285)."""
    found = _chunk(path, b"bext")
    if len(found) < _BEXT.size:
        return None, ()
    description, date, clock, since = _BEXT.unpack_from(found)
    began = None
    with suppress(ValueError, OverflowError):
        day = datetime.strptime(date.decode("ascii", "replace"), "%Y-%m-%d")  # noqa: DTZ007
        # Samples since midnight are finer than the time; some recorders leave them out.
        began = day + timedelta(seconds=since / rate_hz)
        if not since:
            began = datetime.strptime(f"{day:%Y-%m-%d} {clock.decode('ascii')}", _CLOCK)  # noqa: DTZ007
    text = description.split(b"\0")[0].decode("ascii", "replace").strip()
    full_scale: tuple[Quantity, ...] = ()
    if text.startswith(_FULL_SCALE):
        parts = text.removeprefix(_FULL_SCALE).split(",")
        with suppress(QuantityError):  # a remark of another maker
            full_scale = tuple(parse_quantity(part.strip()) for part in parts)
    return began, full_scale


def _chunk(path: Path, wanted: bytes) -> bytes:
    """The first bytes of a chunk of a RIFF file; empty where it has none."""
    with path.open("rb") as file:
        file.seek(12)
        for _ in range(_CHUNKS):
            name, size = file.read(4), file.read(4)
            if len(size) < 4 or name == b"data":
                return b""
            length = int.from_bytes(size, "little")
            if name == wanted:
                return file.read(min(length, _BEXT.size))
            file.seek(length + length % 2, 1)
    return b""
