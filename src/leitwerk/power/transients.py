"""Transients: where a voltage leaves the envelope around its own form, one cycle before."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Transient:
    """A transient: when it began, how long the voltage was outside, and how far at most, in V."""

    begin_s: float
    duration_s: float
    peak: float


class TransientFinder:
    """Finds transients of one voltage, block by block: samples outside an envelope around the cycle before.

    Parameters
    ----------
    rate_hz, nominal_hz : float
    threshold_v : float
        Half of the width of the envelope.

    Raises
    ------
    QuantityError
        The threshold is none, or there are too few samples for a cycle.

    References
    ----------
    IEC 61000-4-30:2015, annex A.3 (envelope method).

    """

    def __init__(self, rate_hz: float, nominal_hz: float, threshold_v: float) -> None:
        self._cycle = round(rate_hz / nominal_hz) if rate_hz > 0.0 < nominal_hz else 0
        if self._cycle < 20 or not (math.isfinite(threshold_v) and threshold_v > 0.0):
            raise QuantityError(
                f"an envelope of {threshold_v:g} V at {rate_hz:g} samples a second finds no transient",
                valid=f"above 0 V, and at least {20 * nominal_hz:g} samples a second",
            )
        self._rate_hz, self._threshold = rate_hz, threshold_v
        self._before = np.zeros(0)
        self._done = 0

    def take(self, x: Array) -> Iterator[Transient]:
        """The transients that begin in some more samples.

        What follows within a cycle belongs to the same one: the envelope of the next cycle has it, too.
        """
        whole = np.concatenate([self._before, x])
        begin = self._done - self._before.size
        self._before, self._done = whole[-2 * self._cycle :], self._done + x.size
        # By the frequency of the net the cycle before lies a little off: the nearer of three places counts.
        k = self._cycle
        if whole.size <= k + 1:
            return
        now = whole[k + 1 : -1]
        off = np.min(
            [np.abs(now - whole[1 + s : whole.size - k - 1 + s]) for s in (-1, 0, 1)], axis=0
        )
        first = max(self._done - x.size - begin - k - 1, 0)
        places = np.flatnonzero(off[first:] > self._threshold) + first
        if not places.size:
            return
        groups = np.split(places, np.flatnonzero(np.diff(places) > k) + 1)
        for group in groups:
            own = group[group <= group[0] + k // 2]
            if own[-1] - own[0] > 0.4 * k:
                continue  # the wave itself has changed: a dip, a swell, an interruption
            at = (begin + k + 1 + int(own[0])) / self._rate_hz
            spent = (int(own[-1] - own[0]) + 1) / self._rate_hz
            yield Transient(at, spent, float(off[own].max()))
