"""What alarms look at that is not a channel's value itself: its change within a time."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.parsing.durations import CLOSE_S
from leitwerk.parsing.frames import like
from leitwerk.signals.angles import wrapped

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


def breaks(times_s: NDArray[np.float64], gap_s: float = math.inf) -> NDArray[np.intp]:
    """Where time steps back, or leaps by more than ``gap_s``: the samples behind such steps."""
    step = np.diff(times_s)
    return np.flatnonzero((step < 0.0) | (step > gap_s + CLOSE_S)) + 1


def change_within(
    times_s: ArrayLike,
    values: ArrayLike,
    window_s: float,
    gap_s: float = math.inf,
    turn: float = 0.0,
) -> NDArray[np.float64]:
    """The change within a time: each sample minus the newest one that is at least ``window_s`` older.

    Where samples do not fall on the window's length, the change is given in proportion. NaN where
    there is no sample old enough, where either value is NaN, and across gaps and steps back.

    Parameters
    ----------
    times_s : array_like of shape (n,), in s
    values : array_like of shape (n,)
        NaN where bad.
    window_s : float, in s
        More than 0.
    turn : float
        A full turn, of angles: the change is then on the shorter way round.

    """
    times, every = np.asarray(times_s, dtype=np.float64), np.asarray(values, dtype=np.float64)
    changes = np.full(every.shape, np.nan)
    edges = [0, *breaks(times, gap_s).tolist(), times.size]
    for first, last in pairwise(edges):
        t, v = times[first:last], every[first:last]
        # Of the samples at least so old, the latest; rounding may put the search off by some.
        least = window_s - CLOSE_S
        old = np.searchsorted(t, t - least, side="right") - 1
        while (
            later := (old + 1 < t.size) & (t - t[np.minimum(old + 1, t.size - 1)] >= least)
        ).any():
            old[later] += 1
        while (early := (old >= 0) & (t - t[np.maximum(old, 0)] < least)).any():
            old[early] -= 1
        has = old >= 0
        then = old[has]
        changes[first:last][has] = wrapped(v[has] - v[then], turn) * window_s / (t[has] - t[then])
    return like(values, changes)
