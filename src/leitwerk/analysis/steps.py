"""Integrals over intervals of values that each stand for a time: a step function with gaps."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


def integrals(
    times_s: Array, values: Array, stands_s: Array, edges_s: Array
) -> tuple[Array, Array]:
    """The integral of each interval, and the time of it for which there are values.

    A value that stands across an edge is divided there.

    Parameters
    ----------
    times_s : array of shape (n,), in s, ascending
        When each value begins to stand.
    values : array of shape (n,)
        NaN where there is none.
    stands_s : array of shape (n,), in s
        For how long each one stands, at most until the next: see ``analysis.summary.weights``.
    edges_s : array of shape (m + 1,), in s, ascending
        Interval k runs from edge k to edge k + 1.

    Returns
    -------
    integrals : array of shape (m,), in the unit of the values times s
    covered : array of shape (m,), in s

    """
    if not times_s.size:
        none = np.zeros(max(0, edges_s.size - 1))
        return none, none.copy()
    good = np.isfinite(values)
    covers = np.where(good, stands_s, 0.0)
    areas = np.where(good, values, 0.0) * covers
    # Two nodes for each value: where it begins to stand, and where it ends.
    nodes = np.stack([times_s, times_s + stands_s], axis=1).ravel()

    def between(steps: Array) -> Array:
        sums = np.stack([np.cumsum(steps) - steps, np.cumsum(steps)], axis=1).ravel()
        found: Array = np.diff(np.interp(edges_s, nodes, sums))
        return found

    return between(areas), between(covers)
