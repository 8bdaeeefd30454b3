"""Recordings of sound and waveforms as WAV: blocks of samples, as parts of full scale."""

from __future__ import annotations

import struct
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.io import wavfile

from leitwerk.errors import FileProblem

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_BLOCK = 262_144  # samples of each channel at once
_MOST_CHANNELS = 64


@dataclass(frozen=True)
class SampledFile:
    """Samples of some channels, read block by block; 1 is full scale."""

    path: Path
    rate_hz: float
    channels: int
    count: int
    _samples: Any

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
    return SampledFile(path, float(rate), channels, samples.shape[0], samples)
