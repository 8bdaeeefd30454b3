"""Events of a supply: dips, swells, interruptions, rapid changes, inrush; from half-cycle RMS values."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_STEADY = 100  # half cycles of a steady voltage at 50 Hz: 1 s


@dataclass(frozen=True, slots=True)
class VoltageEvent:
    """An event: when it began, how long it took, its extreme value and the channels that were part of it.

    ``kind`` is *dip*, *swell*, *interruption*, *inrush* or *rapid change*. ``extreme`` is the residual
    voltage of a dip, the highest value of a swell, the largest difference of a rapid change.
    """

    kind: str
    begin_s: float
    duration_s: float
    extreme: float
    channels: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Thresholds:
    """Where events begin, as parts of the declared voltage, and the hysteresis that ends them.

    References
    ----------
    EN 50160:2022, 3 and IEC 61000-4-30:2015, 5.4.2 and 5.5.1: 90 %, 110 %, 5 %, and 2 %.

    """

    dip: float = 0.9
    swell: float = 1.1
    interruption: float = 0.05
    hysteresis: float = 0.02

    def __post_init__(self) -> None:
        if not 0.0 < self.hysteresis < 0.1 or not (
            0.0 < self.interruption < self.dip < 1.0 < self.swell < 10.0
        ):
            raise QuantityError(
                "these thresholds find no events",
                valid="interruption below dip below 1 below swell",
            )


class EventFinder:
    """Finds dips, swells and interruptions in half-cycle RMS values of all channels, block by block.

    A dip or a swell begins with the first channel that passes the threshold, and ends when the last one is
    back behind the hysteresis. An interruption begins when all channels are below its threshold.

    Parameters
    ----------
    declared_v : float
    channels : int
    thresholds : Thresholds

    Raises
    ------
    QuantityError
        The declared voltage is none.

    References
    ----------
    IEC 61000-4-30:2015, 5.4.2.1 (dips of polyphase systems), 5.4.3 (swells), 5.5.2 (interruptions). The time
    of an event is that of the Urms(1/2) which began it.

    """

    def __init__(
        self, declared_v: float, channels: int, thresholds: Thresholds | None = None
    ) -> None:
        if not (math.isfinite(declared_v) and declared_v > 0.0):
            raise QuantityError(f"{declared_v:g} V is no declared voltage", valid="above 0 V")
        t = thresholds or Thresholds()
        v, h = declared_v, t.hysteresis * declared_v
        self._now = np.full(channels, v)
        self._calm = (t.dip * v, t.swell * v)
        self._open = [
            _Open("dip", t.dip * v, t.dip * v + h, is_below=True, needs_all=False),
            _Open("swell", t.swell * v, t.swell * v - h, is_below=False, needs_all=False),
            _Open(
                "interruption",
                t.interruption * v,
                t.interruption * v + h,
                is_below=True,
                needs_all=True,
            ),
        ]

    def take(self, values: Sequence[tuple[Array, Array]]) -> Iterator[VoltageEvent]:
        """The events that ended with some more values: for each channel, times in s and RMS values in V.

        The values of all channels have to reach up to about the same time. What is not a number is no event,
        and ends none.
        """
        values = [(when[np.isfinite(one)], one[np.isfinite(one)]) for when, one in values]
        low, high = self._calm
        if not any(one.begin_s is not None for one in self._open) and all(
            rms.size == 0 or (rms.min() >= low and rms.max() <= high) for _, rms in values
        ):
            for channel, (_, one_rms) in enumerate(values):
                if one_rms.size:
                    self._now[channel] = one_rms[-1]
            return
        times = np.concatenate([when for when, _ in values])
        rms = np.concatenate([one for _, one in values])
        owners = np.concatenate([np.full(w.size, k) for k, (w, _) in enumerate(values)])
        for k in np.argsort(times, kind="stable").tolist():
            self._now[owners[k]] = rms[k]
            for one in self._open:
                event = one.follow(float(times[k]), self._now, int(owners[k]))
                if event is not None:
                    yield event

    @property
    def is_open(self) -> bool:
        """Whether an event goes on."""
        return any(one.begin_s is not None for one in self._open)


@dataclass(slots=True)
class _Open:
    """One kind of event, and the one that goes on."""

    kind: str
    begins_at: float
    ends_at: float
    is_below: bool
    needs_all: bool
    begin_s: float | None = None
    extreme: float = 0.0
    channels: frozenset[int] = frozenset()

    def follow(self, time_s: float, now: Array, channel: int) -> VoltageEvent | None:
        sign = 1.0 if self.is_below else -1.0
        past = sign * now < sign * self.begins_at
        if self.begin_s is None:
            if past.all() if self.needs_all else past.any():
                self.begin_s, self.extreme = time_s, float(now[channel])
                self.channels = frozenset(np.flatnonzero(past).tolist())
            return None
        self.channels |= frozenset(np.flatnonzero(past).tolist())
        worst = float(now.min() if self.is_below else now.max())
        if sign * worst < sign * self.extreme:
            self.extreme = worst
        back = sign * now >= sign * self.ends_at
        if not (back.any() if self.needs_all else back.all()):
            return None
        begin, self.begin_s = self.begin_s, None
        return VoltageEvent(
            self.kind, begin, time_s - begin, self.extreme, tuple(sorted(self.channels))
        )


class RapidChangeFinder:
    """Finds rapid voltage changes of one channel: from one steady voltage to another, without a dip or swell.

    Parameters
    ----------
    declared_v : float
    threshold : float
        As a part of the declared voltage.
    hysteresis : float
        Half of the threshold is usual.
    half_cycles : int
        Of a steady voltage: 100 at 50 Hz, 120 at 60 Hz.

    References
    ----------
    IEC 61000-4-30:2015, 5.11.

    """

    def __init__(
        self,
        declared_v: float,
        *,
        threshold: float = 0.05,
        hysteresis: float = 0.025,
        half_cycles: int = _STEADY,
        thresholds: Thresholds | None = None,
    ) -> None:
        if not 0.0 < hysteresis < threshold < 1.0:
            raise QuantityError(
                f"a threshold of {threshold:g} with a hysteresis of {hysteresis:g} finds no changes",
                valid="a hysteresis above 0 and below the threshold",
            )
        t = thresholds or Thresholds()
        self._v, self._threshold, self._hysteresis = declared_v, threshold, hysteresis
        self._outside = (t.dip * declared_v, t.swell * declared_v)
        self._last: deque[float] = deque(maxlen=half_cycles)
        self._times: deque[float] = deque(maxlen=half_cycles)
        self._sum = 0.0
        self._steady = False
        self._begin_s: float | None = None
        self._mean = 0.0
        self._largest = 0.0
        self._left = False

    def take(self, times_s: Array, rms: Array) -> Iterator[VoltageEvent]:
        """The changes that ended with some more values."""
        for time_s, value in zip(times_s.tolist(), rms.tolist(), strict=True):
            event = self._follow(time_s, value)
            if event is not None:
                yield event

    def _follow(self, time_s: float, value: float) -> VoltageEvent | None:
        if not math.isfinite(value):
            # Behind a gap it has to become steady anew.
            self._last.clear()
            self._times.clear()
            self._sum, self._steady, self._begin_s = 0.0, False, None
            return None
        whole = len(self._last) == self._last.maxlen
        mean = self._sum / len(self._last) if self._last else value
        if self._begin_s is None and self._steady and abs(value - mean) > self._threshold * self._v:
            self._begin_s, self._mean, self._largest, self._left = time_s, mean, 0.0, False
            self._steady = False
        if self._begin_s is not None:
            self._largest = max(self._largest, abs(value - self._mean))
            self._left |= not self._outside[0] <= value <= self._outside[1]
        if whole:
            self._sum -= self._last[0]
        self._last.append(value)
        self._times.append(time_s)
        self._sum += value
        if len(self._last) < (self._last.maxlen or 0) or self._steady:
            return None
        mean = self._sum / len(self._last)
        room = (
            self._threshold - (self._hysteresis if self._begin_s is not None else 0.0)
        ) * self._v
        if max(self._last) - mean > room or mean - min(self._last) > room:
            return None
        self._steady = True
        if self._begin_s is None:
            return None
        begin, self._begin_s = self._begin_s, None
        if self._left:
            return None  # it was a dip or a swell
        # It ended when the steady time began.
        spent = max(self._times[0] - begin, 0.0)
        return VoltageEvent("rapid change", begin, spent, self._largest, ())


class InrushFinder:
    """Finds inrush in half-cycle RMS values of one current, block by block.

    Parameters
    ----------
    threshold_a : float
        It begins above this.
    hysteresis : float
        It ends this part of the threshold below it; 2 % is usual.

    Raises
    ------
    QuantityError
        The threshold or the hysteresis finds nothing.

    References
    ----------
    IEC 61000-4-30:2015, annex B.4 (inrush current).

    """

    def __init__(self, threshold_a: float, hysteresis: float = 0.02) -> None:
        if not (0.0 <= hysteresis < 1.0 and math.isfinite(threshold_a) and threshold_a > 0.0):
            raise QuantityError(
                f"a threshold of {threshold_a:g} A with a hysteresis of {hysteresis:g} finds no inrush",
                valid="above 0 A, and a hysteresis below 1",
            )
        ends_a = (1.0 - hysteresis) * threshold_a
        self._one = _Open("inrush", threshold_a, ends_a, is_below=False, needs_all=False)

    def take(self, times_s: Array, rms: Array) -> Iterator[VoltageEvent]:
        """The events that ended with some more values; what is not a number is left out."""
        for time_s, value in zip(times_s.tolist(), rms.tolist(), strict=True):
            if math.isfinite(value):
                event = self._one.follow(time_s, np.array([value]), 0)
                if event is not None:
                    yield event
