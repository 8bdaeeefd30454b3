"""Chatter: how often an alarm comes and goes when its value rests at the limit and is noisy."""

from __future__ import annotations

import math

from leitwerk.alarms.definition import AlarmDefinition, Watch


def cycles_per_hour(alarm: AlarmDefinition, deviation: float, interval_s: float) -> float:
    """How often an alarm would trip and clear in an hour, at worst, from noise alone.

    The value is taken to rest half way between trip and clear point, with independent normal noise.
    A sample lies beyond either with the chance Q(h / 2σ); a delay asks for several in a row, and
    the mean wait for n in a row of chance p is (1 - pⁿ) / ((1 - p) pⁿ) samples (Feller, An
    Introduction to Probability Theory, vol. 1, XIII.7).

    Parameters
    ----------
    deviation : float, in the channel's unit
        The standard deviation of the value at rest.
    interval_s : float, in s
        From sample to sample.

    Examples
    --------
    >>> bare = AlarmDefinition.above("hot", 78.0)
    >>> round(cycles_per_hour(bare, 0.1, 1.0))
    900

    """
    if alarm.watch is not Watch.VALUE or deviation <= 0 or interval_s <= 0:
        return 0.0
    ends = zip(alarm.trip, alarm.clear, strict=True)
    apart = min((abs(t - c) for t, c in ends if math.isfinite(t)), default=math.inf)
    chance = 0.5 * math.erfc(apart / 2.0 / deviation / math.sqrt(2.0))
    if chance <= 0.0:
        return 0.0
    waits = (
        _wait(chance, math.ceil(delay / interval_s - 1e-9) + 1)
        for delay in (alarm.delay_s, alarm.clear_delay_s)
    )
    return 3600.0 / (sum(waits) * interval_s)


def _wait(chance: float, count: int) -> float:
    """The mean number of samples until this many in a row are beyond."""
    together = chance**count
    return math.inf if together == 0.0 else (1.0 - together) / ((1.0 - chance) * together)
