"""Aggregation of windows of 10 or 12 cycles to 3 s, 10 min and 2 h, with the tick of the clock and flags."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from collections.abc import Iterable

    from numpy.typing import NDArray

    from leitwerk.power.voltage_events import VoltageEvent

    Array = NDArray[np.float64]

TICK_S = 600.0  # IEC 61000-4-30:2015, 4.5.3: windows begin anew at each full ten minutes
_SHORT = 15  # windows of an interval of 150 or 180 cycles


@dataclass(frozen=True)
class Aggregated:
    """Values of intervals. ``share`` is the part of the interval that windows cover, ``flagged`` whether an
    event fell into it: a flagged value is kept, and left out of verdicts where the standard says so.
    """

    begins_s: Array
    values: Array
    share: Array
    flagged: NDArray[np.bool_]


def aggregate(
    begins_s: Array,
    ends_s: Array,
    values: Array,
    flagged: NDArray[np.bool_],
    interval_s: float = TICK_S,
    *,
    plain: bool = False,
) -> Aggregated:
    """Root mean squares of windows over intervals of the clock: 10 min, or 2 h; or their plain means.

    A window belongs to the interval in which it begins. Of windows that are not a number none counts, and the
    share of the interval says so.

    Parameters
    ----------
    begins_s, ends_s : array of shape (n,), in s since 1970-01-01 UTC
    values : array of shape (n,)
        RMS values of the windows.
    flagged : array of bool of shape (n,)
    interval_s : float
    plain : bool
        Means, for what may be negative: powers, a difference.

    Raises
    ------
    QuantityError
        The interval is no whole number of ticks, and is no whole part of one.

    References
    ----------
    IEC 61000-4-30:2015, 4.4.4, 4.5.3 (square root of the mean of squares), 4.7 (flagging).

    """
    if not interval_s > 0.0 or (interval_s % TICK_S and TICK_S % interval_s):
        raise QuantityError(
            f"{interval_s:g} s is no interval of the clock",
            valid="10 min, 2 h, or a part of 10 min",
        )
    number = np.floor(begins_s / interval_s).astype(np.int64)
    if not number.size:
        nothing = np.zeros(0)
        return Aggregated(nothing, nothing, nothing, np.zeros(0, bool))
    first = int(number[0])
    place = number - first
    count = int(place.max()) + 1
    good = np.isfinite(values)
    spent = np.where(good, ends_s - begins_s, 0.0)
    counted = np.where(good, values, 0.0)
    squares = np.bincount(place, spent * (counted if plain else counted**2), count)
    total = np.bincount(place, spent, count)
    with np.errstate(divide="ignore", invalid="ignore"):
        means = squares / total
        found = means if plain else np.sqrt(means)
    return Aggregated(
        begins_s=np.asarray((first + np.arange(count)) * interval_s, float),
        values=found,
        share=np.minimum(total / interval_s, 1.0),
        flagged=np.bincount(place, flagged, count) > 0,
    )


def aggregate_windows(values: Array, flagged: NDArray[np.bool_]) -> tuple[Array, NDArray[np.bool_]]:
    """Root mean squares of 150 or 180 cycles: of 15 windows each, without gaps; a rest is left out.

    References
    ----------
    IEC 61000-4-30:2015, 4.5.2.

    """
    count = values.size // _SHORT
    by_interval = values[: count * _SHORT].reshape(count, _SHORT)
    flags = flagged[: count * _SHORT].reshape(count, _SHORT)
    return np.sqrt((by_interval**2).mean(axis=1)), np.asarray(flags.any(axis=1), bool)


def flag(begins_s: Array, ends_s: Array, events: Iterable[VoltageEvent]) -> NDArray[np.bool_]:
    """Which windows a dip, a swell or an interruption touches.

    References
    ----------
    IEC 61000-4-30:2015, 4.7: so that one event is not counted under several quantities.

    """
    found = np.zeros(begins_s.size, bool)
    for event in events:
        if event.kind in {"dip", "swell", "interruption"}:
            end = event.begin_s + event.duration_s
            found |= (begins_s < end) & (ends_s > event.begin_s)
    return found


def resynchronised(crossings_s: Array, cycles: int) -> tuple[Array, Array]:
    """Windows of so many cycles that begin anew at the first crossing behind each full ten minutes.

    Parameters
    ----------
    crossings_s : array of shape (n,), in s since 1970-01-01 UTC
        Where cycles begin.
    cycles : int

    Returns
    -------
    begins, ends : int arrays of shape (windows,)
        Numbers of crossings. The last window before a tick may reach beyond it: it overlaps the next one.

    References
    ----------
    IEC 61000-4-30:2015, 4.5.3, figure 2: overlap 1.

    """
    if crossings_s.size <= cycles:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    ticks = np.arange(math.ceil(crossings_s[0] / TICK_S) * TICK_S, crossings_s[-1] + TICK_S, TICK_S)
    starts = np.unique([0, *np.searchsorted(crossings_s, ticks).tolist()])
    starts = starts[starts < crossings_s.size]
    begins = np.concatenate([
        np.arange(start, stop, cycles)
        for start, stop in zip(starts, [*starts[1:], crossings_s.size], strict=True)
    ])  # fmt: skip
    begins = begins[begins + cycles < crossings_s.size]
    return begins, begins + cycles
