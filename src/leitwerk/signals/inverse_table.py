"""A quick inverse of a smooth curve: a table of cubics, as fine as the curve needs it.

The span of the argument is cut into equal cells, and each cell into as many equal parts as it takes
to stay within the wanted error: few where the curve is nearly straight, many where it bends. Finding
the part is arithmetic, not a search, so a table serves a whole array in a dozen array operations.
Newton's iteration on the curve itself takes ten times as long.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

# From arguments to results and their slopes, exact.
Exact: TypeAlias = Callable[
    ["NDArray[np.float64]"], tuple["NDArray[np.float64]", "NDArray[np.float64]"]
]

_CELLS = 256
_LAST = math.nextafter(_CELLS, 0.0)  # the very end belongs to the last cell
_MOST_PARTS = 4096
_PROBES = (0.1, 0.25, 0.5, 0.75, 0.9)  # where in a part the error is looked at


class InverseTable:
    """Cubic Hermite pieces of a curve from ``low`` to ``high``.

    Parameters
    ----------
    exact : callable
        The curve: results and slopes for arguments.
    low, high : float
        The ends of the argument.
    tolerance : float
        The error that no probe may exceed, in the unit of the result.

    """

    def __init__(self, exact: Exact, low: float, high: float, tolerance: float) -> None:
        self.low, self.high = low, high
        self._per_unit = _CELLS / (high - low)
        parts = np.ones(_CELLS, dtype=np.intp)
        while True:
            self._build(exact, parts)
            cell = self._worst_cells(exact, tolerance)
            cell = cell[parts[cell] < _MOST_PARTS]
            if not cell.size:
                break
            parts[cell] *= 2

    def _build(self, exact: Exact, parts: NDArray[np.intp]) -> None:
        width = (self.high - self.low) / _CELLS
        cell = np.repeat(np.arange(_CELLS), parts)
        first = np.cumsum(parts) - parts
        within = np.arange(parts.sum()) - first[cell]
        step = width / parts[cell]
        start = self.low + cell * width + within * step
        (x0, s0), (x1, s1) = exact(start), exact(np.minimum(start + step, self.high))
        s0, s1 = s0 * step, s1 * step
        self._starts, self._steps, self._cell = start, step, cell
        self._parts = parts.astype(np.float64)
        self._first = first
        self._c0, self._c1 = x0, s0
        self._c2 = 3.0 * (x1 - x0) - 2.0 * s0 - s1
        self._c3 = 2.0 * (x0 - x1) + s0 + s1

    def _worst_cells(self, exact: Exact, tolerance: float) -> NDArray[np.intp]:
        y = (self._starts[:, None] + self._steps[:, None] * np.array(_PROBES)).ravel()
        found = np.empty_like(y)
        self.evaluate(y, found)
        off = np.abs(found - exact(y)[0]).reshape(-1, len(_PROBES)).max(axis=1) > tolerance
        return np.unique(self._cell[off])

    @property
    def size(self) -> int:
        """How many cubics there are."""
        return self._c0.size

    def evaluate(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fill ``out`` with the results for arguments between the ends; it may be ``y``."""
        u = y - self.low
        u *= self._per_unit
        np.clip(u, 0.0, _LAST, out=u)
        cell = u.astype(np.intp)
        u -= cell
        u *= self._parts.take(cell)
        part = u.astype(np.intp)
        u -= part
        part += self._first.take(cell)
        self._c3.take(part, out=out, mode="clip")
        out *= u
        out += self._c2.take(part)
        out *= u
        out += self._c1.take(part)
        out *= u
        out += self._c0.take(part)
