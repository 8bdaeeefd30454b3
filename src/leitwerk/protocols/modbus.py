"""Modbus: which requests a set of points needs, and what the registers that come back hold.

Framing belongs to the client library; what is ours is the planning (as few requests as the protocol
allows) and the decoding.
"""

from __future__ import annotations

import math
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.register_points import BIT_TABLES, RegisterPoint
from leitwerk.datasheet.registers import FLOATS, NUMBER_TYPES, reorder

if TYPE_CHECKING:
    from numpy.typing import NDArray

# MODBUS Application Protocol V1.1b3: 6.1 to 6.4 (read), 6.11 and 6.12 (write multiple).
MAX_READ = 125
MAX_WRITE = 123
MAX_READ_BITS = 2000
MAX_WRITE_BITS = 1968


@dataclass(frozen=True, slots=True)
class ReadRequest:
    """``count`` registers or bits of a table from ``start``."""

    table: str
    start: int
    count: int

    def __str__(self) -> str:
        return f"read {self.table} {self.start}..{self.start + self.count - 1}"


@dataclass(frozen=True, slots=True)
class WriteRequest:
    """Words for the holding registers (or coils) from ``start``, and the settings they belong to.

    What is ``secret`` is never shown in a trace.
    """

    start: int
    words: tuple[int, ...]
    names: tuple[str, ...]
    table: str = "holding"
    secret: bool = False

    def __str__(self) -> str:
        return f"write {self.table} {self.start}..{self.start + len(self.words) - 1}"


def plan_reads(
    points: Iterable[RegisterPoint],
    max_gap: int = 0,
    closed: Container[tuple[str, int]] = frozenset(),
) -> list[ReadRequest]:
    """The fewest requests that read all points, none of them split.

    ``max_gap`` is how many unused registers between two points may be read along, ``closed`` those,
    by table and address, that are never read.
    """
    requests: list[ReadRequest] = []
    for point in sorted(points, key=lambda p: (p.table, p.start, p.end)):
        last = requests[-1] if requests else None
        if last is not None and last.table == point.table:
            end = max(last.start + last.count, point.end)
            gap = point.start - (last.start + last.count)
            most = MAX_READ_BITS if point.table in BIT_TABLES else MAX_READ
            between = range(last.start + last.count, point.start)
            is_open = not any((point.table, address) in closed for address in between)
            if gap <= max_gap and is_open and end - last.start <= most:
                requests[-1] = ReadRequest(last.table, last.start, end - last.start)
                continue
        requests.append(ReadRequest(point.table, point.start, point.words))
    return requests


def shared_registers(points: Iterable[RegisterPoint]) -> list[ReadRequest]:
    """The registers of which these points are only a part; they must be known before a write."""
    registers = sorted({(p.table, p.start) for p in points if p.mask != 0xFFFF})
    return [ReadRequest(table, start, 1) for table, start in registers]


def plan_writes(
    values: Mapping[RegisterPoint, Stored], present: Mapping[int, int] | None = None
) -> list[WriteRequest]:
    """The fewest requests that write these settings and no register beside them.

    Parameters
    ----------
    values : mapping from point to value
    present : mapping from address to word
        What the registers hold now of which only a field is written.

    """
    words: dict[tuple[str, int], int] = {}
    names: dict[tuple[str, int], list[str]] = {}
    for point, value in values.items():
        for offset, word in enumerate(point.encode(value)):
            at = (point.table, point.start + offset)
            if point.mask != 0xFFFF:
                before = words[at] if at in words else (present or {})[at[1]]
                word = (before & ~point.mask & 0xFFFF) | word  # noqa: PLW2901
            words[at] = word
            names.setdefault(at, []).append(point.name)
    return _joined(values, words, names)


def _joined(
    points: Iterable[RegisterPoint],
    words: Mapping[tuple[str, int], int],
    names: Mapping[tuple[str, int], list[str]],
) -> list[WriteRequest]:
    """Neighbouring points in one request; no point is split."""
    requests: list[WriteRequest] = []
    done: set[tuple[str, int]] = set()
    for point in sorted(points, key=lambda p: (p.table, p.start)):
        place = [(point.table, point.start + k) for k in range(point.words)]
        if place[0] in done:
            continue  # another field of the same register
        done.update(place)
        own = tuple(words[at] for at in place)
        named = tuple(names[place[0]])
        last = requests[-1] if requests else None
        most = MAX_WRITE_BITS if point.table in BIT_TABLES else MAX_WRITE
        if (
            last is not None
            and last.table == point.table
            and last.start + len(last.words) == point.start
            and len(last.words) + len(own) <= most
        ):
            requests[-1] = WriteRequest(
                last.start, last.words + own, last.names + named, point.table
            )
        else:
            requests.append(WriteRequest(point.start, own, named, point.table))
    return requests


class ReadPlan:
    """Points, the requests that read them, and how to take the answers apart.

    ``words`` below is always the registers of all requests, one after the other.
    """

    def __init__(
        self,
        points: Sequence[RegisterPoint],
        max_gap: int = 0,
        closed: Container[tuple[str, int]] = frozenset(),
    ) -> None:
        self.points = tuple(points)
        self.requests = tuple(plan_reads(points, max_gap, closed))
        self._at = [self._position(point) for point in self.points]
        self._columns = self._group_by_kind()
        self._rest = [k for k, p in enumerate(self.points) if not p.is_plain_number]
        exact = [p.kind in FLOATS or not p.is_plain_number for p in self.points]
        pairs = zip(self.points, exact, strict=True)
        steps, offsets = zip(
            *((1.0, 0.0) if e else (p.step, p.offset) for p, e in pairs), strict=True
        )
        self._steps, self._offsets = np.array(steps), np.array(offsets)

    def _position(self, point: RegisterPoint) -> int:
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
            if point.is_plain_number:
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

        The quick way for polling: a few array operations, however many points there are. Texts,
        times and texts are NaN.
        """
        raw = np.array(words, dtype=">u2")
        result = np.full(len(self.points), np.nan)
        with np.errstate(invalid="ignore"):  # a signalling NaN is not a number, and no accident
            for dtype, registers, columns in self._columns:
                result[columns] = raw[registers].view(dtype)
        for column in self._rest:
            result[column] = self._slow_number(column, words)
        result *= self._steps
        result += self._offsets
        return result

    def _slow_number(self, column: int, words: Sequence[int]) -> float:
        point, at = self.points[column], self._at[column]
        if point.is_text or point.is_time:
            return math.nan
        own = reorder(
            tuple(words[at : at + point.words]),
            low_first=point.low_word_first,
            swapped=point.bytes_swapped,
        )
        number = point.raw_number(own)
        return math.nan if number is None else number * point.step + point.offset
