"""Statistics that grow with every sample, of many channels at once."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


class RunningStatistics:
    """Count, minimum, maximum, mean, deviation and change of several channels since a start.

    All arrays have shape (n,); they are NaN where there is no value yet.

    Attributes
    ----------
    count : array of int
        The values so far.
    minimum, maximum, mean : arrays
    first, last : arrays
        The first value since the start, and the newest.

    References
    ----------
    B. P. Welford, Note on a method for calculating corrected sums of squares and products, Technometrics 4
    (1962) 419-420.

    """

    def __init__(self, channels: int) -> None:
        self.count = np.zeros(channels, np.int64)
        self.minimum, self.maximum, self.mean = (np.full(channels, np.nan) for _ in range(3))
        self.first, self.last = np.full(channels, np.nan), np.full(channels, np.nan)
        self._squares = np.zeros(channels)

    def take(self, values: Array) -> None:
        """Take one value of each channel, NaN where there is none."""
        here = ~np.isnan(values)
        self.count += here
        is_first = here & (self.count == 1)
        np.copyto(self.first, values, where=is_first)
        np.copyto(self.mean, 0.0, where=is_first)
        np.copyto(self.last, values, where=here)
        np.fmin(self.minimum, values, out=self.minimum)
        np.fmax(self.maximum, values, out=self.maximum)
        step = np.where(here, values - self.mean, 0.0)
        self.mean += step / np.maximum(self.count, 1)
        self._squares += step * np.where(here, values - self.mean, 0.0)

    @property
    def deviation(self) -> Array:
        """The standard deviation, with Bessel's correction; NaN for fewer than two values."""
        found = np.full(self.count.size, np.nan)
        several = self.count > 1
        found[several] = np.sqrt(self._squares[several] / (self.count[several] - 1))
        return found

    def deviation_of(self, channel: int) -> float:
        """The standard deviation of one channel."""
        count = int(self.count[channel])
        return math.sqrt(float(self._squares[channel]) / (count - 1)) if count > 1 else math.nan

    @property
    def change(self) -> Array:
        """From the first value to the newest."""
        found: Array = self.last - self.first
        return found

    def reset(self, channels: Sequence[int] | slice = slice(None)) -> None:
        """Begin anew, for some channels or for all."""
        self.count[channels] = 0
        self._squares[channels] = 0.0
        for array in (self.minimum, self.maximum, self.mean, self.first, self.last):
            array[channels] = np.nan
