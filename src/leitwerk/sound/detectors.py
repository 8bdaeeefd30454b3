"""Detectors: time weightings F, S and I of a squared pressure, and the peak between its samples."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from scipy import signal

from leitwerk.errors import QuantityError
from leitwerk.sound.evaluation import TIME_CONSTANTS

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_IMPULSE_DECAY_S = 1.5
_FINER = 4  # points that are looked at between two samples, for a peak
_REACH = 32  # samples to either side of which such a point is made


class TimeWeighting:
    """An exponential mean of a squared pressure, sample by sample; it goes on where it left off.

    Parameters
    ----------
    letter : str
        *F*, *S* or *I*.
    rate_hz : float
        Samples a second.

    Raises
    ------
    QuantityError
        There is no such time weighting.

    References
    ----------
    IEC 61672-1:2013, 3.6: the mean is of the square of the pressure. It begins at 0.

    """

    def __init__(self, letter: str, rate_hz: float) -> None:
        if letter not in TIME_CONSTANTS:
            raise QuantityError(
                f"there is no time weighting {str(letter)[:20]!r}", valid=", ".join(TIME_CONSTANTS)
            )
        keep = math.exp(-1.0 / (rate_hz * TIME_CONSTANTS[letter]))
        self._top, self._bottom = [1.0 - keep], [1.0, -keep]
        self._state = np.zeros(1)
        self._decay = 1.0 / (rate_hz * _IMPULSE_DECAY_S) if letter == "I" else None
        self._held = -math.inf

    def take(self, squares: Array) -> Array:
        """The weighted squares of some more samples, in the unit of the squares."""
        found, self._state = signal.lfilter(self._top, self._bottom, squares, zi=self._state)
        if self._decay is None or not squares.size:
            weighted: Array = found
            return weighted
        # The highest of all that came before, each fallen since then: a running maximum of logarithms.
        fallen = self._decay * np.arange(1.0, squares.size + 1.0)
        with np.errstate(divide="ignore"):
            logs = np.log(np.maximum(found, 0.0)) + fallen
        held = np.maximum.accumulate(np.maximum(logs, self._held)) - fallen
        self._held = float(held[-1])
        return np.exp(held)


class PeakDetector:
    """The highest amount of a pressure, also between its samples; it goes on where it left off."""

    def __init__(self) -> None:
        self._before = np.zeros(2 * _REACH)
        self._filter = _interpolator()

    def take(self, pressure: Array) -> float:
        """The highest amount in some more samples, delayed by the reach of the interpolation, in Pa."""
        whole = np.concatenate([self._before, pressure])
        self._before = whole[-2 * _REACH :]
        if not pressure.size:
            return 0.0
        fine = signal.upfirdn(self._filter, whole, up=_FINER)
        # Only points that have all samples of their reach on both sides.
        begin = 2 * _REACH * _FINER
        inner = fine[begin : begin + pressure.size * _FINER]
        return float(np.abs(inner).max())


def _interpolator() -> Array:
    """A low-pass filter that makes points between samples: gain 1 up to 0.45 of their rate."""
    taps = signal.firwin(2 * _REACH * _FINER + 1, 0.95, window=("kaiser", 7.0), fs=2.0 * _FINER)
    found: Array = taps * _FINER
    return found
