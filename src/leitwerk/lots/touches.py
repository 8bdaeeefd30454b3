"""Channels that are touched: the baseline of each, what belongs to a touch, and where a threshold may lie."""

from __future__ import annotations

import math
from collections import deque
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.lots.thresholds import SuggestedThreshold, suggest_threshold

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

_MOST = 5_000  # samples of each kind and channel that are kept
_RESPONDS = 6.0  # standard deviations of the noise at rest
_HALF = 0.5  # of the largest response: what lies between rest and there is on its way
_LEAST_NOISE = 1e-9


class Touches:
    """Samples of some channels, parted into rest and touch.

    The first samples are the baseline. Afterwards a sample is a touch where it is further from the baseline
    than six standard deviations of the noise, and than half of the largest response of its channel: what lies
    between is on its way.

    Parameters
    ----------
    names : sequence of str

    """

    def __init__(self, names: tuple[str, ...]) -> None:
        self.names = names
        self._rest: list[deque[float]] = [deque(maxlen=_MOST) for _ in names]
        self._touched: list[deque[float]] = [deque(maxlen=_MOST) for _ in names]
        self._largest = np.zeros(len(names))
        self.baseline = np.full(len(names), math.nan)
        self.noise = np.full(len(names), math.nan)
        self.last = np.full(len(names), math.nan)

    def take_rest(self, values: ArrayLike) -> None:
        """Take a sample of shape (n_channels,) of which it is known that nothing is touched."""
        self.last = np.asarray(values, np.float64)
        for column, value in enumerate(self.last):
            if math.isfinite(value):
                self._rest[column].append(float(value))
        self.baseline = np.array([np.mean(r) if r else math.nan for r in self._rest])
        self.noise = np.array([np.std(r, ddof=1) if len(r) > 1 else math.nan for r in self._rest])

    def take(self, values: ArrayLike) -> NDArray[np.bool_]:
        """Take a sample of shape (n_channels,); which channels are touched."""
        self.last = np.asarray(values, np.float64)
        away = np.nan_to_num(np.abs(self.deviation))
        self._largest = np.maximum(self._largest, away)
        responds = away > _RESPONDS * np.maximum(np.nan_to_num(self.noise), _LEAST_NOISE)
        touched: NDArray[np.bool_] = responds & (away > _HALF * self._largest)
        for column in np.flatnonzero(np.isfinite(self.last)):
            if touched[column]:
                self._touched[column].append(float(self.last[column]))
            elif not responds[column]:
                self._rest[column].append(float(self.last[column]))
        return touched

    @property
    def deviation(self) -> NDArray[np.float64]:
        """How far the last sample of each channel is from its baseline, shape (n_channels,)."""
        found: NDArray[np.float64] = self.last - self.baseline
        return found

    @property
    def largest(self) -> NDArray[np.float64]:
        """The largest deviation of each channel up to now, shape (n_channels,)."""
        return self._largest

    def suggestion(self, name: str) -> SuggestedThreshold | None:
        """The threshold that a channel may have; None until it was touched often enough."""
        column = self.names.index(name)
        try:
            return suggest_threshold(list(self._rest[column]), list(self._touched[column]))
        except DomainError:
            return None
