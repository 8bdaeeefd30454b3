"""How a sensor of three axes is mounted: in words, or as a rotation that was found at rest."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from leitwerk.calibration.orientation import Orientation, right_angle_rotations
from leitwerk.errors import DomainError

DIRECTIONS = ("forward", "left", "up")
_OPPOSITE = {"back": ("forward", -1.0), "right": ("left", -1.0), "down": ("up", -1.0)}
_PART = re.compile(r"\s*(\w+)(?: +to)?(?: +the)? +(\w+)\s*")
_AXIS = re.compile(r"\s*(-?)([xyz])\s*")
AXES: Mapping[str, tuple[int, float]] = {"x": (0, 1.0), "y": (1, 1.0), "z": (2, 1.0)}
_NUMBER = r"[-+]?\d*\.?\d+(?:[eE][-+]?\d+)?"
_ROW = re.compile(rf"\s*({_NUMBER})[,\s]+({_NUMBER})[,\s]+({_NUMBER})\s*")
_CLOSE = 2e-3  # how far a rotation may be from one, as its rows are written with some digits


@dataclass(frozen=True, slots=True)
class Mounting:
    """A rotation from the axes of a sensor to forward, left, up: three rows of three numbers."""

    rows: tuple[tuple[float, float, float], ...]

    def row(self, direction: str) -> tuple[float, float, float]:
        """By what x, y and z count for a direction."""
        return self.rows[DIRECTIONS.index(direction)]

    def __str__(self) -> str:
        return self.words(AXES)

    def words(self, sides: Mapping[str, tuple[int, float]]) -> str:
        """Where each side of the sensor points, as near as one of the six directions can say it."""
        matrix = np.array(self.rows)
        found = []
        for name, (axis, sign) in sides.items():
            row = int(np.argmax(np.abs(matrix[:, axis])))
            found.append(f"{name} {_word(DIRECTIONS[row], matrix[row, axis] * sign)}")
        return ", ".join(found)


def _word(direction: str, sign: float) -> str:
    if sign > 0.0:
        return direction
    return next(word for word, (opposite, _) in _OPPOSITE.items() if opposite == direction)


def parse_sides(rows: Sequence[tuple[str, str]]) -> dict[str, tuple[int, float]]:
    """What is to be seen on a sensor, and along which axis it lies: ``logo: z``, ``cable: -x``.

    Raises
    ------
    DomainError
        A side has no axis.

    """
    sides = {}
    for name, text in rows:
        match = _AXIS.fullmatch(text)
        if match is None:
            raise DomainError(
                f"{name[:20]}: {text[:20]!r} is not an axis", remedy="x, -x, y, -y, z, -z"
            )
        sides[name] = "xyz".index(match[2]), -1.0 if match[1] else 1.0
    return sides


def right_angles() -> Iterator[Mounting]:
    """All 24 mountings in which every axis lies along one of the machine."""
    return (_of(matrix) for matrix in right_angle_rotations())


def parse_mounting(text: str, sides: Mapping[str, tuple[int, float]] = AXES) -> Mounting:
    """A mounting in which every axis lies along one of the machine, by two sides of the sensor.

    Parameters
    ----------
    text : str
        Such as ``x back, z up``, or with the names of sides ``logo up, cable to the back``.
    sides : mapping from name to the number of an axis and its sign
        See ``parse_sides``.

    Raises
    ------
    DomainError
        The text names no mounting.

    Examples
    --------
    >>> str(parse_mounting("z up, x back"))
    'x back, y right, z up'

    """
    valid = (
        f"two of {', '.join(list(sides)[:8])}, each with forward, back, left, right, up or down, such as "
        f"'{next(iter(sides))} forward, …'; 'leitwerk mounting --list' shows all"
    )
    pairs = [match.groups() for part in text.split(",") if (match := _PART.fullmatch(part))]
    known = {name: sides[name] for name, _ in pairs if name in sides}
    if (
        len(text.split(",")) != 2
        or len(known) != 2
        or len({axis for axis, _ in known.values()}) != 2
    ):
        raise DomainError(f"{text[:40]!r} is not a mounting", remedy=valid)
    matrix = np.zeros((3, 3))
    for name, word in pairs:
        direction, sign = _OPPOSITE.get(word, (word, 1.0))
        if direction not in DIRECTIONS:
            raise DomainError(f"{word[:20]!r} is not a direction", remedy=valid)
        axis, along = known[name]
        matrix[DIRECTIONS.index(direction), axis] = sign * along
    if np.count_nonzero(matrix.any(axis=1)) != 2:
        raise DomainError(f"{text[:40]!r}: two axes cannot lie along the same line", remedy=valid)
    row = int(np.flatnonzero(~matrix.any(axis=1))[0])
    column = int(np.flatnonzero(~matrix.any(axis=0))[0])
    matrix[row, column] = 1.0
    if np.linalg.det(matrix) < 0.0:  # a right-handed sensor cannot be mounted otherwise
        matrix[row, column] = -1.0
    return _of(matrix)


def parse_rotation(rows: Sequence[tuple[str, str]]) -> Mounting:
    """A mounting from a table with the rows forward, left and up, each of three numbers.

    Raises
    ------
    DomainError
        A row is missing, or the three are no rotation.

    """
    given = dict(rows)
    if set(given) != set(DIRECTIONS):
        raise DomainError(
            f"a mounting has the rows forward, left and up, and here are {', '.join(given)[:60]}",
            remedy="'leitwerk mounting' finds them at rest",
        )
    matrix = np.zeros((3, 3))
    for k, direction in enumerate(DIRECTIONS):
        match = _ROW.fullmatch(given[direction])
        if match is None:
            raise DomainError(
                f"{direction}: {given[direction][:40]!r} is not three numbers",
                remedy="0.9, 0.1, -0.42",
            )
        matrix[k] = [float(number) for number in match.groups()]
    if not np.allclose(matrix @ matrix.T, np.eye(3), atol=_CLOSE) or np.linalg.det(matrix) < 0.0:
        raise DomainError(
            "these three rows are no rotation: each is 1 long, upright on the others, and right-handed",
            remedy="'leitwerk mounting' finds them at rest",
        )
    return _of(matrix)


def _of(matrix: np.ndarray) -> Mounting:
    return Mounting(tuple((float(a), float(b), float(c)) for a, b, c in matrix))


def table_lines(orientation: Orientation, name: str) -> list[str]:
    """A found orientation as lines of a setup: as words where it is a right angle, else as a table."""
    mounting = _of(np.asarray(orientation.rotation))
    if orientation.is_right_angle:
        return [f"# mounted with {mounting}: along(x, y, z, '{_two(mounting)}', 'up')"]
    shown = (", ".join(f"{round(number, 5) + 0.0:.5f}" for number in row) for row in mounting.rows)
    pairs = zip(DIRECTIONS, shown, strict=True)
    return [
        "tables:",
        f"  {name}:",
        *(f'    {direction}: "{numbers}"' for direction, numbers in pairs),
    ]


def _two(mounting: Mounting) -> str:
    """Two of its axes: they say it all."""
    return ", ".join(str(mounting).split(", ")[:2])


def mounting_list(sides: Mapping[str, tuple[int, float]]) -> list[str]:
    """All mountings at a right angle, in words of the sides: first those that stand upright."""
    every = [mounting.words(sides) for mounting in right_angles()]
    return sorted(every, key=lambda words: ("up" not in words, words))


def tilt_deg(mounting: Mounting, x: float, y: float, z: float) -> float:
    """The angle between up and what a sensor feels at rest, in °: 0 where the mounting is right."""
    length = math.sqrt(x * x + y * y + z * z)
    up = sum(part * axis for part, axis in zip(mounting.row("up"), (x, y, z), strict=True))
    return math.degrees(math.acos(max(-1.0, min(1.0, up / length)))) if length else math.nan
