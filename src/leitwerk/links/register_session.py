"""Sessions: how points are read and written over a link. One interface for all, and registers."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Protocol

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Point, Stored
from leitwerk.datasheet.register_points import RegisterPoint, registers
from leitwerk.protocols.modbus import ReadPlan, plan_writes, shared_registers

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from leitwerk.links.modbus import ModbusLink


class Session(Protocol):
    """Reads and writes points of a device. Errors are those of its link."""

    def read(self, points: Sequence[Point]) -> dict[str, Stored]:
        """The values of points, by name."""

    def reader(self, points: Sequence[Point]) -> Callable[[], NDArray[np.float64]]:
        """Something that reads the same points as numbers again and again, shape (n_points,)."""

    def block_reader(self, points: Sequence[Point]) -> Callable[[], bytes]:
        """Something that reads a piece of a file, as the device has it in these points."""

    def write(
        self,
        values: Mapping[Point, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
        backwards: bool = False,
        before: Callable[[], None] = lambda: None,
    ) -> int:
        """Write values in as few requests as possible; returns how many it took.

        ``backwards`` sends the last request first; ``before`` is called before each request.
        """

    def count_writes(self, values: Mapping[Point, Stored]) -> int:
        """How many requests it would take to write values."""


class RegisterSession:
    """Points in registers, over Modbus."""

    def __init__(self, link: ModbusLink, datasheet: Datasheet) -> None:
        self._link = link
        self._max_gap = datasheet.max_gap
        self._closed = frozenset(
            (point.table, address)
            for point in registers(datasheet.points("secrets"))
            for address in range(point.start, point.end)
        )

    def read(self, points: Sequence[Point]) -> dict[str, Stored]:
        """In as few requests as the protocol allows."""
        plan = ReadPlan(registers(points), self._max_gap, self._closed)
        return plan.values(self._link.read(plan.requests))

    def reader(self, points: Sequence[Point]) -> Callable[[], NDArray[np.float64]]:
        """What has to be worked out is worked out once; a read is a block and array operations."""
        plan = ReadPlan(registers(points), self._max_gap, self._closed)
        return lambda: plan.numbers(self._link.read(plan.requests))

    def block_reader(self, points: Sequence[Point]) -> Callable[[], bytes]:
        """Registers, the high byte of each first."""
        read = self.reader(points)
        return lambda: read().astype(">u2").tobytes()

    def write(
        self,
        values: Mapping[Point, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
        backwards: bool = False,
        before: Callable[[], None] = lambda: None,
    ) -> int:
        """Neighbours together; registers of which only a field changes are read first."""
        words_of = _registers(values)
        shared = shared_registers(words_of)
        words = self._link.read(shared) if shared else []
        present = {request.start: word for request, word in zip(shared, words, strict=True)}
        requests = plan_writes(words_of, present)
        if backwards:
            requests = requests[::-1]
        for done, request in enumerate(requests, start=1):
            before()
            self._link.write(replace(request, secret=secret))
            progress(done, len(requests))
        return len(requests)

    def count_writes(self, values: Mapping[Point, Stored]) -> int:
        """What stands in the shared registers plays no part in how many there are."""
        words_of = _registers(values)
        return len(plan_writes(words_of, {r.start: 0 for r in shared_registers(words_of)}))


def _registers(values: Mapping[Point, Stored]) -> dict[RegisterPoint, Stored]:
    return dict(zip(registers(values), values.values(), strict=True))
