"""How a sensor of three axes is mounted: in words, or as a rotation that was found at rest."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from leitwerk.calibration.orientation import Orientation
from leitwerk.errors import DomainError

DIRECTIONS = ("forward", "left", "up")
_OPPOSITE = {"back": ("forward", -1.0), "right": ("left", -1.0), "down": ("up", -1.0)}
_AXIS = re.compile(r"([xyz])\s+(\w+)")
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
        names = Orientation(np.array(self.rows), 0.0, is_right_angle=True).axis_names()
        words = (_word(name) for name in names)
        return ", ".join(f"{axis} {word}" for axis, word in zip("xyz", words, strict=True))


def _word(name: str) -> str:
    if not name.startswith("-"):
        return name
    return next(word for word, (direction, _) in _OPPOSITE.items() if direction == name[1:])


def parse_mounting(text: str) -> Mounting:
    """A mounting in which every axis lies along one of the machine, by two axes of the sensor.

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
        "two axes of the sensor, such as 'x forward, z up'; forward, back, left, right, up, down"
    )
    pairs = _AXIS.findall(text)
    if len(pairs) != 2 or len({axis for axis, _ in pairs}) != 2 or "," not in text:
        raise DomainError(f"{text[:40]!r} is not a mounting", remedy=valid)
    matrix = np.zeros((3, 3))
    for axis, word in pairs:
        direction, sign = _OPPOSITE.get(word, (word, 1.0))
        if direction not in DIRECTIONS:
            raise DomainError(f"{word[:20]!r} is not a direction", remedy=valid)
        matrix[DIRECTIONS.index(direction), "xyz".index(axis)] = sign
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
    """The two axes that say the most: those that are not the last one of its words."""
    parts = str(mounting).split(", ")
    return ", ".join(parts[:2])


def tilt_deg(mounting: Mounting, x: float, y: float, z: float) -> float:
    """The angle between up and what a sensor feels at rest, in °: 0 where the mounting is right."""
    length = math.sqrt(x * x + y * y + z * z)
    up = sum(part * axis for part, axis in zip(mounting.row("up"), (x, y, z), strict=True))
    return math.degrees(math.acos(max(-1.0, min(1.0, up / length)))) if length else math.nan
