"""Angles: quantities that are the same again after a full turn, such as directions and phases.

A mean of 350° and 10° is 0°, not 180°; the change from 359° to 1° is 2°. What counts as an angle is
decided by the unit. A shaft that is counted over many turns is none: its channel says ``circular: no``.

References: K. V. Mardia, P. E. Jupp, Directional Statistics, Wiley 2000, 2.2 and 2.3.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.parsing.units import Unit, convert, parse_unit

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


def full_turn(unit: Unit | None) -> float:
    """A full turn in a unit, ``360.0`` for °; 0 where it is not a unit of angle."""
    if unit is None or unit.dimension != "angle":
        return 0.0
    return float(convert(360.0, parse_unit("°"), unit))


def wrapped(difference: Any, turn: float) -> Any:
    """A difference of two angles on the shorter way round, from −turn/2 to turn/2; as it is without a turn.

    Examples
    --------
    >>> float(wrapped(358.0, 360.0)), wrapped(358.0, 0.0)
    (-2.0, 358.0)

    """
    return difference - turn * np.round(difference / turn) if turn else difference


def wrapped_each(differences: Array, turns: Array) -> Array:
    """The same for several channels, each with its turn; 0 for one that is no angle."""
    if not turns.any():
        return differences
    safe = np.where(turns, turns, 1.0)
    found: Array = differences - turns * np.round(differences / safe)
    return found


def unwrapped(values: Array, turn: float) -> Array:
    """Angles that go on over a full turn: each by less than half a turn from the one before; NaN stays."""
    found = values.copy()
    good = ~np.isnan(values)
    if turn and good.any():
        found[good] = np.unwrap(values[good], period=turn)
    return found


class Directions:
    """Mean and deviation of angles, gathered piece by piece.

    Parameters
    ----------
    turn : float
        A full turn in the unit of the angles.

    """

    def __init__(self, turn: float) -> None:
        self._turn = turn
        self._count = 0
        self._cos = self._sin = 0.0
        self._is_signed = False

    def take(self, angles: Array) -> None:
        """Take angles, without NaN."""
        if not angles.size:
            return
        radians = angles * (2.0 * math.pi / self._turn)
        self._count += angles.size
        self._cos += float(np.cos(radians).sum())
        self._sin += float(np.sin(radians).sum())
        self._is_signed |= bool(angles.min() < 0.0)

    @property
    def mean(self) -> float:
        """The direction of the sum of unit vectors; NaN where they cancel, or without an angle.

        From 0 to a turn; from −turn/2 to turn/2 where an angle was below 0, as phase angles are.
        """
        if math.hypot(self._cos, self._sin) <= 1e-9 * max(1, self._count):
            return math.nan
        found = math.atan2(self._sin, self._cos) * self._turn / (2.0 * math.pi)
        return found if self._is_signed else found % self._turn

    @property
    def deviation(self) -> float:
        """The circular standard deviation, √(−2 ln R), with n − 1 for n; NaN for fewer than two angles."""
        if self._count < 2:
            return math.nan
        length = min(1.0, math.hypot(self._cos, self._sin) / self._count)
        if length <= 0.0:
            return math.nan
        spread = -2.0 * math.log(length) * self._count / (self._count - 1)
        return math.sqrt(max(0.0, spread)) * self._turn / (2.0 * math.pi)


def mean_direction(angles: Array, turn: float) -> float:
    """The mean of angles, without NaN: see ``Directions``.

    Examples
    --------
    >>> round(mean_direction(np.array([350.0, 10.0, 355.0]), 360.0), 2)
    358.32

    """
    found = Directions(turn)
    found.take(angles)
    return found.mean


def deviation_of_directions(angles: Array, turn: float) -> float:
    """The standard deviation of angles, without NaN: see ``Directions``."""
    found = Directions(turn)
    found.take(angles)
    return found.deviation
