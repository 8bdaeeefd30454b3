"""The newest samples of a watch, in a bounded amount of memory."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

MOST_BYTES = 32_000_000
_LEAST = 256


class SampleHistory:
    """Times, values and qualities of the last ``capacity`` samples; what is older is dropped.

    Parameters
    ----------
    channels : int
    capacity : int, optional
        As many as fit into 32 MB, if not given, and 100,000 at most.

    """

    def __init__(self, channels: int, capacity: int | None = None) -> None:
        fit = MOST_BYTES // (2 * (9 * channels + 8))
        self.capacity = capacity or max(_LEAST, min(fit, 100_000))
        self._end = 0
        self._times = np.empty(_LEAST)
        self._values = np.empty((_LEAST, channels))
        self._qualities = np.empty((_LEAST, channels), np.uint8)

    def __len__(self) -> int:
        return min(self._end, self.capacity)

    def add(self, time_s: float, values: NDArray[np.float64], qualities: NDArray[np.uint8]) -> None:
        """Keep one sample of all channels."""
        if self._end == self._times.size:
            self._make_room()
        self._times[self._end] = time_s
        self._values[self._end] = values
        self._qualities[self._end] = qualities
        self._end += 1

    def _make_room(self) -> None:
        kept = slice(self._end - len(self), self._end)
        size = min(2 * self.capacity, max(_LEAST, 2 * len(self)))
        count = len(self)
        for name in ("_times", "_values", "_qualities"):
            old = getattr(self, name)
            fresh = old if old.shape[0] == size else np.empty((size, *old.shape[1:]), old.dtype)
            fresh[:count] = old[kept].copy() if fresh is old else old[kept]
            setattr(self, name, fresh)
        self._end = count

    def _view(self) -> slice:
        return slice(self._end - len(self), self._end)

    @property
    def times_s(self) -> NDArray[np.float64]:
        """Shape (n,): the oldest first. A view, until the next sample."""
        return self._times[self._view()]

    @property
    def values(self) -> NDArray[np.float64]:
        """Shape (n, n_channels)."""
        return self._values[self._view()]

    def known(self) -> NDArray[np.float64]:
        """The values, NaN where there is none; shape (n, n_channels)."""
        return np.where(Quality.has_value(self.qualities), self.values, np.nan)

    @property
    def qualities(self) -> NDArray[np.uint8]:
        """Shape (n, n_channels)."""
        return self._qualities[self._view()]
