"""Turning back a relation that only rises or only falls, by bisection."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

_HALVINGS = 54  # one more than the bits of a double


def bisect(
    kernel: Callable[[NDArray[np.float64], NDArray[np.float64]], None],
    wanted: NDArray[np.float64],
    ends: tuple[float, float],
    out: NDArray[np.float64],
) -> None:
    """Fill ``out`` with the arguments for which a kernel gives the ``wanted`` results.

    Slow and sure: it needs no slope, and converges wherever the relation is monotone. The quick
    ways of the sensors' curves are tested against it.
    """
    low, high = np.full_like(wanted, ends[0]), np.full_like(wanted, ends[1])
    at_ends = np.empty(2)
    kernel(np.array(ends), at_ends)
    rising = bool(at_ends[1] > at_ends[0])
    middle, found = np.empty_like(wanted), np.empty_like(wanted)
    for _ in range(_HALVINGS):
        np.multiply(low + high, 0.5, out=middle)
        kernel(middle, found)
        below = (found < wanted) if rising else (found > wanted)
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    # An end that was never left is meant exactly.
    out[...] = np.where(low == ends[0], low, np.where(high == ends[1], high, middle))
