"""Windows of 10 or 12 cycles of several channels, block by block, anew at each full ten minutes."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.power.aggregation import TICK_S
from leitwerk.power.cycles import CycleTracker
from leitwerk.power.harmonics import cycles_of, window_points

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_MARGIN = 64  # samples that a window needs on both sides, to find points between samples


@dataclass(frozen=True)
class Windows:
    """Some windows: when they begin and end, in s, and their points, of shape (windows, channels, points)."""

    begins_s: Array
    ends_s: Array
    points: Array


class WindowStream:
    """Cuts windows of 10 or 12 cycles of one channel, the reference, out of all channels.

    Parameters
    ----------
    rate_hz, nominal_hz : float
    least : float
        Peak of the reference below which it counts as gone; cycles go on with the last period then.
    channels : int
    begin_s : float
        The time of the first sample, in s since 1970-01-01 UTC.

    References
    ----------
    IEC 61000-4-30:2015, 4.4 and 4.5.3.

    """

    def __init__(
        self, rate_hz: float, nominal_hz: float, least: float, channels: int, begin_s: float = 0.0
    ) -> None:
        self._cycles = cycles_of(nominal_hz)
        self._rate_hz, self._begin_s = rate_hz, begin_s
        self._tracker = CycleTracker(rate_hz, nominal_hz, least)
        self._samples = np.zeros((0, channels))
        self._first = 0  # which sample stands first
        self._crossings = np.zeros(0)
        self._start: float | None = None  # the crossing at which the next window begins

    def take(self, block: Array, channel: int = 0) -> Windows:
        """The windows that are complete with some more samples, of shape (n, channels).

        ``channel`` is the reference, the same at each call.
        """
        reference = block[:, channel]
        bad = ~np.isfinite(reference)
        found = self._tracker.take(np.where(bad, 0.0, reference) if bad.any() else reference)
        self._crossings = np.concatenate([self._crossings, found])
        self._samples = np.concatenate([self._samples, block])
        edges = self._edges()
        channels = self._samples.shape[1]
        if not edges:
            return Windows(np.zeros(0), np.zeros(0), np.zeros((0, channels, 0)))
        begins, ends = (np.array(side) for side in zip(*edges, strict=True))
        local = np.stack([begins, ends]) - self._first
        points = np.stack(
            [window_points(self._samples[:, k], local[0], local[1], self._rate_hz) for k in range(channels)],
            axis=1,
        )  # fmt: skip
        self._forget(float(begins[-1]))
        return Windows(
            self._begin_s + begins / self._rate_hz, self._begin_s + ends / self._rate_hz, points
        )

    def _edges(self) -> list[tuple[float, float]]:
        """Begin and end of each window that the samples hold, in samples since the beginning."""
        have = self._first + self._samples.shape[0] - _MARGIN
        c = self._crossings
        found: list[tuple[float, float]] = []
        at = 0
        if self._start is not None:
            at = int(np.searchsorted(c, self._start - 0.5))
        while at + self._cycles < c.size and c[at + self._cycles] <= have:
            begin, end = float(c[at]), float(c[at + self._cycles])
            tick = self._tick_behind(begin)
            at += self._cycles
            if tick <= end:
                at = int(np.searchsorted(c, tick))
            if begin - self._first >= _MARGIN:
                found.append((begin, end))
            if at >= c.size:
                return found
            self._start = float(c[at])
        return found

    def _tick_behind(self, sample: float) -> float:
        """The sample at the next full ten minutes behind one."""
        time_s = self._begin_s + sample / self._rate_hz
        tick_s = (math.floor(time_s / TICK_S + 1e-9) + 1.0) * TICK_S
        return (tick_s - self._begin_s) * self._rate_hz

    def _forget(self, begin: float) -> None:
        keep = int(min(begin, self._start or begin)) - 2 * _MARGIN - self._first
        if keep > 0:
            self._samples = self._samples[keep:]
            self._first += keep
        first = int(np.searchsorted(self._crossings, self._first)) - 1
        self._crossings = self._crossings[max(first, 0) :]
