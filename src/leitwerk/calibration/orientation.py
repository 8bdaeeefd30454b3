"""How a three-axis sensor is mounted, from gravity at rest and one direction that is named."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations, product
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError, NotAtRest

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

GRAVITY = 9.80665  # m/s², standard acceleration of free fall (ISO 80000-3)
_RIGHT_ANGLE_DEG = 5.0  # closer than this to one of the 24 positions, that position is meant


def right_angle_rotations() -> list[NDArray[np.float64]]:
    """The 24 rotations that turn axes into axes: signed permutations with determinant 1."""
    found = []
    for order in permutations(range(3)):
        for signs in product((1.0, -1.0), repeat=3):
            matrix = np.zeros((3, 3))
            matrix[range(3), order] = signs
            if np.linalg.det(matrix) > 0:
                found.append(matrix)
    return found


@dataclass(frozen=True)
class Orientation:
    """A mounting. ``rotation`` (3 x 3) turns a sensor's reading into x forward, y left, z up.

    ``gravity`` is the magnitude that was found, in m/s²; ``is_right_angle`` whether it is one of the
    24 positions in which every axis lies along another.
    """

    rotation: NDArray[np.float64]
    gravity: float
    is_right_angle: bool

    def apply(self, readings: ArrayLike) -> NDArray[np.float64]:
        """Readings of shape (..., 3) in the sensor's axes, turned into the machine's axes."""
        return np.asarray(readings, dtype=np.float64) @ self.rotation.T

    def axis_names(self) -> tuple[str, str, str]:
        """For x, y and z of the sensor, where it points: ``forward``, ``-left``, ``up`` and so on;
        the nearest direction when it is mounted at an angle.
        """
        names = ("forward", "left", "up")
        result = []
        for column in self.rotation.T:
            nearest = int(np.argmax(np.abs(column)))
            result.append(("-" if column[nearest] < 0 else "") + names[nearest])
        return result[0], result[1], result[2]


def find_orientation(
    readings: ArrayLike,
    axis: str,
    *,
    spread: float = 0.2,
    tolerance: float = 0.05,
    gravity: float = GRAVITY,
) -> Orientation:
    """How a sensor is mounted.

    At rest an accelerometer reads the reaction to gravity: its vector points up. What remains open
    is the turn about the vertical; the user names the axis of the sensor that points forward.

    Parameters
    ----------
    readings : array_like of shape (n, 3), in m/s²
        At rest.
    axis : {"x", "y", "z", "-x", "-y", "-z"}
        The axis of the sensor that points forward, as near as can be judged by eye.
    spread : float, in m/s²
        The standard deviation that each axis may have at rest.
    tolerance : float
        How far the magnitude may be from ``gravity``, as a part.
    gravity : float, in m/s²

    Raises
    ------
    NotAtRest
        Too few readings, one that is NaN, readings that move, or a magnitude that is not
        gravity's.
    DomainError
        The axis is not valid, or it points up or down.

    Examples
    --------
    >>> found = find_orientation([[0.02, -9.8, 0.05]] * 5, "z")
    >>> found.axis_names(), found.apply([0.0, -9.81, 0.0]).round(2) + 0.0
    (('-left', '-up', 'forward'), array([0.  , 0.  , 9.81]))

    """
    r = np.asarray(readings, dtype=np.float64)
    if r.ndim != 2 or r.shape[1] != 3 or r.shape[0] < 3 or not np.all(np.isfinite(r)):
        raise NotAtRest(
            f"readings of shape {r.shape} show no orientation",
            remedy="give at least three rows of x, y and z, all of them numbers",
        )
    moving = float(r.std(axis=0, ddof=1).max())
    if moving > spread:
        raise NotAtRest(
            f"an axis spreads by {moving:.3g} m/s², at most {spread:g} is allowed",
            remedy="switch the machine off and take it again",
        )
    up = r.mean(axis=0)
    magnitude = float(np.linalg.norm(up))
    if abs(magnitude / gravity - 1.0) > tolerance:
        raise NotAtRest(
            f"the magnitude is {magnitude:.4g} m/s², gravity is {gravity:.4g}",
            remedy="is the scale right (g or m/s²), and is it really at rest?",
        )
    up /= magnitude
    ahead = _axis(axis)
    level = ahead - np.dot(ahead, up) * up
    length = float(np.linalg.norm(level))
    if length < np.sin(np.radians(30.0)):
        raise DomainError(
            f"axis {axis} points up or down, so it cannot point forward",
            remedy="name an axis that lies more nearly level",
        )
    forward = level / length
    rotation = np.array([forward, np.cross(up, forward), up])
    nearest = max(right_angle_rotations(), key=lambda m: float(np.sum(m * rotation)))
    # The angle between two rotations: cos = (trace(A·Bᵀ) - 1) / 2.
    cosine = (float(np.sum(nearest * rotation)) - 1.0) / 2.0
    is_right_angle = bool(np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0))) < _RIGHT_ANGLE_DEG)
    return Orientation(nearest if is_right_angle else rotation, magnitude, is_right_angle)


def _axis(name: str) -> NDArray[np.float64]:
    letter = name.removeprefix("-").removeprefix("+")
    if letter not in {"x", "y", "z"}:
        raise DomainError(f"{name!r} is not an axis", remedy="x, y, z, -x, -y or -z")
    vector = np.zeros(3)
    vector["xyz".index(letter)] = -1.0 if name.startswith("-") else 1.0
    return vector
