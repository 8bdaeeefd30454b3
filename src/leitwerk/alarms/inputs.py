"""What alarms look at that is no channel's value itself: changes and differences."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray


def breaks(times_s: NDArray[np.float64], gap_s: float = math.inf) -> NDArray[np.intp]:
    """Where time steps back, or leaps by more than ``gap_s``: the samples behind such steps."""
    step = np.diff(times_s)
    return np.flatnonzero((step < 0.0) | (step > gap_s)) + 1


def change(
    times_s: NDArray[np.float64],
    values: NDArray[np.float64],
    window_s: float,
    gap_s: float = math.inf,
) -> NDArray[np.float64]:
    """The change within ``window_s``, worked from each sample and the latest so much older.

    Where samples do not fall on the window's length, the change is told in proportion. NaN where
    there is no sample old enough, where either value is NaN, and across gaps and steps back.

    Parameters
    ----------
    times_s : array of shape (n,), in s
    values : array of shape (n,)
        NaN where bad.
    window_s : float, in s
        More than 0.

    """
    changes = np.full(values.shape, np.nan)
    edges = [0, *breaks(times_s, gap_s).tolist(), times_s.size]
    for first, last in pairwise(edges):
        t, v = times_s[first:last], values[first:last]
        # Of the samples at least so old, the latest; rounding may put the search off by some.
        old = np.searchsorted(t, t - window_s, side="right") - 1
        while (
            later := (old + 1 < t.size) & (t - t[np.minimum(old + 1, t.size - 1)] >= window_s)
        ).any():
            old[later] += 1
        while (early := (old >= 0) & (t - t[np.maximum(old, 0)] < window_s)).any():
            old[early] -= 1
        has = old >= 0
        then = old[has]
        changes[first:last][has] = (v[has] - v[then]) * window_s / (t[has] - t[then])
    return changes


def difference(
    values: NDArray[np.float64], other: NDArray[np.float64] | float
) -> NDArray[np.float64]:
    """The values less those of another channel, or less a number; NaN where either is NaN."""
    return values - other
