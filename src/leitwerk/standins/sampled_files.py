"""Sampled signals as simulated devices keep them: WAV of 16 bits, with a chunk that says when and how much.

The chunk is that of EBU Tech 3285 (broadcast wave): the local date and time of the first sample, and what
full scale is, in its description.
"""

from __future__ import annotations

import struct
from datetime import datetime
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

_FULL = 32_767


def wave_file(
    samples: NDArray[np.float64], rate_hz: int, began: datetime, full_scale: str
) -> bytes:
    """A WAV file of samples of shape (n, channels), in parts of full scale.

    ``full_scale`` says what 1 is, such as ``800 V, 300 A``.
    """
    words = np.clip(np.round(samples * _FULL), -_FULL - 1, _FULL).astype("<i2")
    channels = words.shape[1]
    midnight = began.replace(hour=0, minute=0, second=0, microsecond=0)
    since = round((began - midnight).total_seconds() * rate_hz)
    about = struct.pack(
        "<256s32s32s10s8sQH64s190s",
        f"full scale {full_scale}".encode(), b"", b"", f"{began:%Y-%m-%d}".encode(),
        f"{began:%H:%M:%S}".encode(), since, 1, b"", b"",
    )  # fmt: skip
    form = struct.pack("<HHIIHH", 1, channels, rate_hz, rate_hz * 2 * channels, 2 * channels, 16)
    chunks = b"".join(
        name + struct.pack("<I", len(data)) + data
        for name, data in ((b"bext", about), (b"fmt ", form), (b"data", words.tobytes()))
    )
    return b"RIFF" + struct.pack("<I", 4 + len(chunks)) + b"WAVE" + chunks
