"""Statistics that grow with every sample, of many channels at once."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.levels import powers
from leitwerk.signals.angles import Directions, wrapped, wrapped_each

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


class RunningStatistics:
    """Count, minimum, maximum, mean, deviation and change of several channels since a start.

    All arrays have shape (n,); they are NaN where there is no value yet. Angles have a mean direction and a
    circular deviation, and neither minimum nor maximum; levels in dB have the mean of their powers.

    Parameters
    ----------
    channels : int
        How many there are.
    turns : sequence of float, optional
        A full turn of each channel that is an angle, else 0.
    levels : sequence of bool, optional
        Which channels are levels in dB.

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

    def __init__(
        self, channels: int, *, turns: Sequence[float] = (), levels: Sequence[bool] = ()
    ) -> None:
        self.count = np.zeros(channels, np.int64)
        self._turn = np.array(turns or [0.0] * channels)
        self._angles = np.flatnonzero(self._turn)
        self._directions = {k: Directions(self._turn[k]) for k in self._angles.tolist()}
        self._levels = np.flatnonzero(np.array(levels or [False] * channels))
        self._powers = np.zeros(channels)
        self._arithmetic = np.full(channels, np.nan)
        self.minimum, self.maximum, self.mean = (np.full(channels, np.nan) for _ in range(3))
        self.first, self.last = np.full(channels, np.nan), np.full(channels, np.nan)
        self._squares = np.zeros(channels)

    def take(self, values: Array) -> None:
        """Take one value of each channel, NaN where there is none."""
        here = ~np.isnan(values)
        self.count += here
        is_first = here & (self.count == 1)
        np.copyto(self.first, values, where=is_first)
        np.copyto(self.last, values, where=here)
        np.fmin(self.minimum, values, out=self.minimum)
        np.fmax(self.maximum, values, out=self.maximum)
        mean = self._arithmetic
        np.copyto(mean, 0.0, where=is_first)
        step = np.where(here, values - mean, 0.0)
        mean += step / np.maximum(self.count, 1)
        self._squares += step * np.where(here, values - mean, 0.0)
        self.mean = mean
        if self._angles.size or self._levels.size:
            self.mean = mean.copy()
            self._take_others(values, here)

    def _take_others(self, values: Array, here: NDArray[np.bool_]) -> None:
        """What is not averaged as a plain number: angles, and levels in dB."""
        for k, directions in self._directions.items():
            if here[k]:
                directions.take(values[k : k + 1])
            self.mean[k] = directions.mean
            self.minimum[k] = self.maximum[k] = np.nan
        those = self._levels
        come = here[those]
        self._powers[those] += np.where(come, powers(np.where(come, values[those], 0.0)), 0.0)
        with np.errstate(divide="ignore", invalid="ignore"):
            self.mean[those] = 10.0 * np.log10(self._powers[those] / self.count[those])

    @property
    def deviation(self) -> Array:
        """The standard deviation, with Bessel's correction; NaN for fewer than two values."""
        found = np.full(self.count.size, np.nan)
        several = self.count > 1
        found[several] = np.sqrt(self._squares[several] / (self.count[several] - 1))
        for k, directions in self._directions.items():
            found[k] = directions.deviation
        return found

    def deviation_of(self, channel: int) -> float:
        """The standard deviation of one channel."""
        if channel in self._directions:
            return self._directions[channel].deviation
        count = int(self.count[channel])
        return math.sqrt(float(self._squares[channel]) / (count - 1)) if count > 1 else math.nan

    @property
    def change(self) -> Array:
        """From the first value to the newest."""
        return wrapped_each(self.last - self.first, self._turn)

    def change_of(self, channel: int) -> float:
        """That of one channel."""
        return float(wrapped(self.last[channel] - self.first[channel], float(self._turn[channel])))

    def reset(self, channels: Sequence[int] | slice = slice(None)) -> None:
        """Begin anew, for some channels or for all."""
        self.count[channels] = 0
        self._squares[channels] = self._powers[channels] = 0.0
        arrays = (self.minimum, self.maximum, self.mean, self._arithmetic, self.first, self.last)
        for array in arrays:
            array[channels] = np.nan
        for k in np.arange(self.count.size)[channels].tolist():
            if k in self._directions:
                self._directions[k] = Directions(float(self._turn[k]))
