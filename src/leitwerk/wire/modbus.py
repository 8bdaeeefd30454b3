"""Modbus: which requests a set of points needs, and what the registers that come back hold.

Framing belongs to the client library; what is ours is the planning (as few requests as the protocol
allows) and the decoding.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.datasheet.points import NUMBER_TYPES, Point, Stored

if TYPE_CHECKING:
    from numpy.typing import NDArray

# MODBUS Application Protocol V1.1b3: 6.3 and 6.4 (read), 6.12 (write multiple registers).
MAX_READ = 125
MAX_WRITE = 123


@dataclass(frozen=True, slots=True)
class ReadRequest:
    """``count`` registers of a table from ``start``."""

    table: str
    start: int
    count: int

    def __str__(self) -> str:
        return f"read {self.table} {self.start}..{self.start + self.count - 1}"


@dataclass(frozen=True, slots=True)
class WriteRequest:
    """Words for the holding registers from ``start``, and the settings they belong to."""

    start: int
    words: tuple[int, ...]
    names: tuple[str, ...]

    def __str__(self) -> str:
        return f"write holding {self.start}..{self.start + len(self.words) - 1}"


def plan_reads(points: Iterable[Point], bridge: int = 0) -> list[ReadRequest]:
    """The fewest requests that read all points, none of them split.

    ``bridge`` is how many registers between two points may be read along.
    """
    requests: list[ReadRequest] = []
    for point in sorted(points, key=lambda p: (p.table, p.start, p.end)):
        last = requests[-1] if requests else None
        if last is not None and last.table == point.table:
            end = max(last.start + last.count, point.end)
            gap = point.start - (last.start + last.count)
            if gap <= bridge and end - last.start <= MAX_READ:
                requests[-1] = ReadRequest(last.table, last.start, end - last.start)
                continue
        requests.append(ReadRequest(point.table, point.start, point.words))
    return requests


def plan_writes(values: Mapping[Point, Stored]) -> list[WriteRequest]:
    """The fewest requests that write these settings and no register beside them."""
    requests: list[WriteRequest] = []
    for point in sorted(values, key=lambda p: p.start):
        words = point.encode(values[point])
        last = requests[-1] if requests else None
        if (
            last is not None
            and last.start + len(last.words) == point.start
            and len(last.words) + len(words) <= MAX_WRITE
        ):
            requests[-1] = WriteRequest(last.start, last.words + words, (*last.names, point.name))
        else:
            requests.append(WriteRequest(point.start, words, (point.name,)))
    return requests


class ReadPlan:
    """Points, the requests that read them, and how to take the answers apart.

    ``words`` below is always the registers of all requests, one after the other.
    """

    def __init__(self, points: Sequence[Point], bridge: int = 0) -> None:
        self.points = tuple(points)
        self.requests = tuple(plan_reads(points, bridge))
        self._at = [self._position(point) for point in self.points]
        self._columns = self._group_by_kind()
        self._steps = np.array([1.0 if p.kind == "f32" else p.step for p in self.points])

    def _position(self, point: Point) -> int:
        """Where a point begins in the words of all requests."""
        before = 0
        for request in self.requests:
            if request.table == point.table and 0 <= point.start - request.start < request.count:
                return before + point.start - request.start
            before += request.count
        raise AssertionError(point)

    def _group_by_kind(self) -> list[tuple[str, NDArray[np.intp], NDArray[np.intp]]]:
        groups: dict[str, list[int]] = {}
        for column, point in enumerate(self.points):
            if not point.is_text:
                groups.setdefault(point.kind, []).append(column)
        result = []
        for kind, columns in groups.items():
            code, width = NUMBER_TYPES[kind]
            registers = np.array([[self._at[c] + i for i in range(width)] for c in columns])
            result.append((f">{code}", registers.ravel(), np.array(columns)))
        return result

    def values(self, words: Sequence[int]) -> dict[str, Stored]:
        """All values by name."""
        return {
            point.name: point.decode(tuple(words[at : at + point.words]))
            for point, at in zip(self.points, self._at, strict=True)
        }

    def numbers(self, words: Sequence[int]) -> NDArray[np.float64]:
        """All values as numbers, shape (n_points,), in the points' order; choices as their codes.

        The quick way for polling: a few array operations, however many points there are. Texts are
        NaN.
        """
        raw = np.array(words, dtype=">u2")
        result = np.full(len(self.points), np.nan)
        for dtype, registers, columns in self._columns:
            result[columns] = raw[registers].view(dtype)
        result *= self._steps
        return result
