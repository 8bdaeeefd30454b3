"""The cycles of a sampled voltage: zero crossings of its fundamental, its frequency, half-cycle RMS."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from scipy import signal

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_REACH = (0.5, 1.6)  # the band around the nominal frequency in which the fundamental is looked for
_APART = (0.75, 1.35)  # of the period before: what counts as the next crossing
_ALIKE = 0.002  # a net's period changes less than this part from one cycle to the next
_FAR = 0.01  # of a period: a jump of the frequency, not its noise
_FOLLOWS = 0.15  # how much of a small difference is taken over
_SURE = 2  # periods that are alike, until a crossing counts
_SAMPLES = 20  # a cycle has at least so many


class CycleTracker:
    """Finds where the fundamental of a voltage crosses zero upwards, block by block.

    Where the voltage is gone, cycles go on with the last period, as the time between events does.

    Parameters
    ----------
    rate_hz : float
        Samples a second.
    nominal_hz : float
    least : float
        A fundamental whose peak is below this counts as gone.

    Raises
    ------
    QuantityError
        There are too few samples for a cycle.

    """

    def __init__(self, rate_hz: float, nominal_hz: float, least: float) -> None:
        if not (math.isfinite(rate_hz) and nominal_hz > 0.0 and rate_hz >= _SAMPLES * nominal_hz):
            raise QuantityError(
                f"{rate_hz:g} samples a second are too few for {nominal_hz:g} Hz",
                valid=f"at least {_SAMPLES * nominal_hz:g} samples a second",
            )
        edges = [part * nominal_hz for part in _REACH]
        self._filter = signal.butter(2, edges, "bandpass", output="sos", fs=rate_hz)
        self._state = np.zeros((len(self._filter), 2))
        self._rate_hz, self._least = rate_hz, least
        self._period = rate_hz / nominal_hz
        self._usual = self._period
        self._last: float | None = None
        self._seen = -math.inf  # the last crossing of the filtered voltage that was found
        self._spent, self._alike = (
            0.0,
            0,
        )  # the time between two of them, and how often it was alike
        self._raw = 0.0  # the last crossing of the filtered voltage that was taken
        self._before = 0.0
        self._highest = 0.0  # of the filtered voltage since the last crossing
        self._done = 0
        # By how much the filter delays a crossing, in samples, by the period.
        frequencies = np.linspace(0.8, 1.2, 81) * nominal_hz
        _, response = signal.sosfreqz(self._filter, frequencies, fs=rate_hz)
        self._periods = (rate_hz / frequencies)[::-1]
        self._delays = (-np.angle(response) / (2 * np.pi) * rate_hz / frequencies)[::-1]

    def take(self, x: Array) -> Array:
        """The crossings that are certain with some more samples: positions in samples since the beginning."""
        y, self._state = signal.sosfilt(self._filter, x, zi=self._state)
        before = np.concatenate([[self._before], y[:-1]]) if y.size else y
        rising = np.flatnonzero((before < 0.0) & (y >= 0.0))
        found: list[float] = []
        begin = 0
        for k in rising.tolist():
            self._highest = max(self._highest, float(y[begin:k].max(initial=0.0)))
            begin = k
            if self._highest >= self._least:
                at = self._done + k - float(y[k]) / float(y[k] - before[k])
                self._cross(at, found)
            self._highest = 0.0
        self._highest = max(self._highest, float(y[begin:].max(initial=0.0)))
        self._done += x.size
        self._before = float(y[-1]) if y.size else self._before
        # Without a crossing for a cycle and a half, the last period goes on.
        while self._last is not None and self._done > self._raw + _APART[1] * self._period:
            self._emit(self._raw + self._period, found)
        return np.array(found)

    def _cross(self, at: float, found: list[float]) -> None:
        """A crossing of the filtered voltage: taken, or passed over where a step has moved it."""
        spent, self._seen = at - self._seen, at
        self._alike = self._alike + 1 if abs(spent - self._spent) <= _ALIKE * spent else 0
        self._spent = spent
        is_sure = self._alike >= _SURE and self._fits(spent)
        if self._last is None:
            if is_sure:
                self._period = spent
                self._emit(at, found)
            return
        while at > self._raw + _APART[1] * self._period:
            self._emit(self._raw + self._period, found)
        if at < self._raw + _APART[0] * self._period:
            return
        off = spent - self._period
        if is_sure:
            self._period += off if abs(off) > _FAR * self._period else _FOLLOWS * off
            self._emit(at, found)
        else:
            # A step of the voltage moves crossings for some cycles; the net behind it keeps its time.
            expected = self._raw + self._period
            most = _FAR * self._period
            self._emit(expected + _FOLLOWS * min(max(at - expected, -most), most), found)

    def _fits(self, spent: float) -> bool:
        return _APART[0] * self._usual <= spent <= _APART[1] * self._usual

    def _emit(self, at: float, found: list[float]) -> None:
        self._raw = at
        delay = float(np.interp(self._period, self._periods, self._delays))
        self._last = max(at - delay, self._last + 1.0 if self._last is not None else -math.inf)
        found.append(self._last)


def frequency_of(crossings: Array, rate_hz: float) -> float:
    """The frequency in Hz: whole cycles by the time that they take; not a number of fewer than one.

    References
    ----------
    IEC 61000-4-30:2015, 5.1.1 (over 10 s).

    Examples
    --------
    >>> frequency_of(np.array([0.0, 200.0, 400.0]), 10_000.0)
    50.0

    """
    if crossings.size < 2 or not crossings[-1] > crossings[0]:
        return math.nan
    return float(rate_hz * (crossings.size - 1) / (crossings[-1] - crossings[0]))


class HalfCycleRms:
    """The RMS over one cycle, anew at each half cycle: Urms(1/2), block by block.

    Parameters
    ----------
    rate_hz, nominal_hz, least
        As for ``CycleTracker``.

    References
    ----------
    IEC 61000-4-30:2015, 3.34 and 5.4.1: each channel by the zero crossings of its own fundamental.

    """

    def __init__(self, rate_hz: float, nominal_hz: float, least: float) -> None:
        self.rate_hz = rate_hz
        self._tracker = CycleTracker(rate_hz, nominal_hz, least)
        self._squares = np.zeros(0)
        self._bad = np.zeros(0, bool)
        self._begin = 0  # which sample stands first among the squares
        self._crossings = np.zeros(0)
        self._next = 0.0

    def take(self, x: Array) -> tuple[Array, Array]:
        """Times in s at which cycles begin, and the RMS of each, of shape (n,).

        A cycle with a sample that is not a number is none, either.
        """
        bad = ~np.isfinite(x)
        x = np.where(bad, 0.0, x) if bad.any() else x
        self._crossings = np.concatenate([self._crossings, self._tracker.take(x)])
        self._squares = np.concatenate([self._squares, x * x])
        self._bad = np.concatenate([self._bad, bad])
        if self._crossings.size < 2:
            return np.zeros(0), np.zeros(0)
        middles = 0.5 * (self._crossings[:-1] + self._crossings[1:])
        edges = np.empty(2 * self._crossings.size - 1)
        edges[::2], edges[1::2] = self._crossings, middles
        have = self._begin + self._squares.size
        edges = edges[edges <= have]
        begins, ends = edges[:-2], edges[2:]
        new = begins >= max(self._next, float(self._begin))
        begins, ends = begins[new], ends[new]
        if not begins.size:
            return np.zeros(0), np.zeros(0)
        total = np.concatenate([[0.0], np.cumsum(self._squares)])

        def up_to(at: Array) -> Array:
            return np.asarray(np.interp(at - self._begin, np.arange(total.size), total))

        means = (up_to(ends) - up_to(begins)) / (ends - begins)
        if self._bad.any():
            count = np.concatenate([[0], np.cumsum(self._bad)])
            first, last = (np.clip(e - self._begin, 0, count.size - 1) for e in (begins, ends))
            spoilt = count[np.ceil(last).astype(int)] > count[np.floor(first).astype(int)]
            means = np.where(spoilt, np.nan, means)
        self._next = float(np.nextafter(begins[-1], np.inf))
        self._forget(float(begins[-1]))
        return begins / self.rate_hz, np.sqrt(np.maximum(means, 0.0))

    def _forget(self, at: float) -> None:
        """Give up what no later cycle needs."""
        keep = int(at) - self._begin - 1
        if keep > 0:
            self._squares, self._bad = self._squares[keep:], self._bad[keep:]
            self._begin += keep
        first = int(np.searchsorted(self._crossings, at)) - 1
        self._crossings = self._crossings[max(first, 0) :]
