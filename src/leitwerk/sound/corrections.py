"""Corrections of sound by frequency: of a microphone, of its windscreen, to the free field."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

import numpy as np
from scipy import signal

from leitwerk.sound.evaluation import require_correction

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_RESOLUTION_HZ = 20.0  # between two frequencies at which the filter is designed
_HOP = 65_536  # samples that are filtered at once, whatever blocks they come in


class FrequencyCorrection:
    """Adds levels by frequency to a signal, block by block, without delay: a filter of linear phase.

    Between two frequencies the level is interpolated over their logarithm; beyond the first and the last it
    stays. A sample that is not a number stays one, and is 0 for those around it.

    Parameters
    ----------
    corrections : iterable of mapping
        Of each: frequency in Hz to the level in dB that is added there. Several add up.
    rate_hz : float

    Raises
    ------
    QuantityError
        A frequency or a level cannot be.

    """

    def __init__(self, corrections: Iterable[Mapping[float, float]], rate_hz: float) -> None:
        top = rate_hz / 2.0
        count = 2 * math.ceil(rate_hz / (2.0 * _RESOLUTION_HZ)) + 1
        hertz = np.linspace(0.0, top, count)
        level_db = np.zeros(count)
        for one in corrections:
            require_correction(one)
            known = np.array(sorted(one))
            wanted = np.array([one[f] for f in known.tolist()])
            level_db += np.interp(np.log(np.maximum(hertz, 1.0)), np.log(known), wanted)
        self._taps = signal.firwin2(count, hertz, 10.0 ** (level_db / 20.0), fs=rate_hz)
        self._late = (count - 1) // 2
        self._size = 1 << (_HOP + count - 2).bit_length()
        self._response = np.fft.rfft(self._taps, self._size)
        self._before = np.zeros(count - 1)

    def run(self, blocks: Iterable[Array]) -> Iterator[Array]:
        """The corrected signal, as many samples as came in; any division into blocks gives the same bits."""
        came, went, late = 0, 0, self._late
        bad = np.zeros(
            0, np.intp
        )  # the samples that are no number, of those that have not gone out
        for piece, count in _pieces(blocks, late):
            bad = np.append(bad, came + np.flatnonzero(np.isnan(piece)))
            done = self._filter(piece)[late:count]
            late, came = max(0, late - _HOP), came + _HOP
            own = bad < went + done.size
            done[bad[own] - went] = np.nan
            bad, went = bad[~own], went + done.size
            yield done

    def _filter(self, piece: Array) -> Array:
        whole = np.concatenate([self._before, np.nan_to_num(piece)])
        found = np.fft.irfft(np.fft.rfft(whole, self._size) * self._response, self._size)
        self._before = whole[-self._before.size :]
        return found[self._taps.size - 1 : self._taps.size - 1 + _HOP]


def _pieces(blocks: Iterable[Array], late: int) -> Iterator[tuple[Array, int]]:
    """Pieces of the same size, and how many samples of each count; behind the last come ``late`` zeros."""
    waiting = np.zeros(0)
    for block in blocks:
        waiting = np.concatenate([waiting, block])
        while waiting.size >= _HOP:
            yield waiting[:_HOP], _HOP
            waiting = waiting[_HOP:]
    waiting = np.concatenate([waiting, np.zeros(late)])
    for begin in range(0, waiting.size, _HOP):
        piece = waiting[begin : begin + _HOP]
        yield np.concatenate([piece, np.zeros(_HOP - piece.size)]), piece.size
