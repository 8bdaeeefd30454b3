"""Sessions: how points are read and written over each kind of link. One interface for all."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from leitwerk.datasheet import Datasheet, Stored
from leitwerk.datasheet.queries import Query
from leitwerk.errors import DeviceRefused, LinkError
from leitwerk.wire.modbus import ReadPlan, plan_writes, shared_registers
from leitwerk.wire.scpi import NO_ERROR, parse_error, split_fields

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from leitwerk.links.modbus import ModbusLink
    from leitwerk.links.stream import LineLink

_ASK_ERROR = "SYST:ERR?"
_ERRORS_AT_MOST = 32  # an error queue that never ends is none


class Session(Protocol):
    """Reads and writes points of a device. Errors are those of its link."""

    def read(self, points: Sequence[Any]) -> dict[str, Stored]:
        """The values of points, by name."""

    def reader(self, points: Sequence[Any]) -> Callable[[], NDArray[np.float64]]:
        """Something that reads the same points as numbers again and again, shape (n_points,)."""

    def write(
        self,
        values: Mapping[Any, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
    ) -> int:
        """Write values in as few requests as possible; returns how many it took."""


class RegisterSession:
    """Points in registers, over Modbus."""

    def __init__(self, link: ModbusLink, datasheet: Datasheet) -> None:
        self._link = link
        self._bridge = datasheet.bridge

    def read(self, points: Sequence[Any]) -> dict[str, Stored]:
        """In as few requests as the protocol allows."""
        plan = ReadPlan(points, self._bridge)
        return plan.values(self._link.read(plan.requests))

    def reader(self, points: Sequence[Any]) -> Callable[[], NDArray[np.float64]]:
        """What has to be worked out is worked out once; a read is a block and array operations."""
        plan = ReadPlan(points, self._bridge)
        return lambda: plan.numbers(self._link.read(plan.requests))

    def write(
        self,
        values: Mapping[Any, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
    ) -> int:
        """Neighbours together; registers of which only a field changes are read first."""
        shared = shared_registers(values)
        words = self._link.read(shared) if shared else []
        present = {request.start: word for request, word in zip(shared, words, strict=True)}
        requests = plan_writes(values, present)
        for done, request in enumerate(requests, start=1):
            self._link.write(replace(request, secret=secret))
            progress(done, len(requests))
        return len(requests)


class QuerySession:
    """Values that are asked for and told in texts, over SCPI.

    After everything told, the device's error queue is asked: an instrument says nothing by itself.
    """

    def __init__(self, link: LineLink, datasheet: Datasheet) -> None:
        del datasheet  # every query says all of itself
        self._link = link

    def read(self, points: Sequence[Query]) -> dict[str, Stored]:
        """Each question once, however many fields of its answer are wanted."""
        answers = self._answers(points)
        return {p.name: p.decode(self._field(p, answers[p.ask])) for p in points}

    def reader(self, points: Sequence[Query]) -> Callable[[], NDArray[np.float64]]:
        """The same as numbers."""

        def numbers() -> NDArray[np.float64]:
            answers = self._answers(points)
            return np.array([p.number(self._field(p, answers[p.ask])) for p in points])

        return numbers

    def write(
        self,
        values: Mapping[Query, Stored],
        progress: Callable[[int, int], None] = lambda done, total: None,
        *,
        secret: bool = False,
    ) -> int:
        """One after the other, each followed by a look into the error queue."""
        for done, (query, value) in enumerate(values.items(), start=1):
            self._link.tell(query.tell.replace("{}", query.encode(value)), secret=secret)
            self._check(query.tell.split()[0])
            progress(done, len(values))
        return len(values)

    def _answers(self, points: Sequence[Query]) -> dict[str, str]:
        return {ask: self._link.ask(ask) for ask in dict.fromkeys(p.ask for p in points)}

    def _field(self, query: Query, answer: str) -> str:
        if not query.field:
            return answer
        fields = split_fields(answer)
        if len(fields) < query.field:
            raise LinkError(
                f"{self._link.address}: the answer to '{query.ask}' has {len(fields)} fields, "
                f"{query.name} is number {query.field}",
                remedy="does the datasheet fit this device?",
            )
        return fields[query.field - 1]

    def _check(self, what: str) -> None:
        errors = []
        for _ in range(_ERRORS_AT_MOST):
            code, text = parse_error(self._link.ask(_ASK_ERROR))
            if code == NO_ERROR:
                break
            errors.append((code, text))
        if errors:
            code, text = errors[0]
            message = f"{self._link.address}: the device refused '{what}': {code}, {text}"
            raise DeviceRefused(message, code=code)
