"""Works a graph: sample by sample, or a whole recording at once, with exactly the same results.

There is one way only. A run takes a piece of samples, of any length, and leaves what it has to
remember for the next piece. What is alike in many formulas is worked together, so that one sample of a
thousand channels takes as few calls as one channel.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.derived.graph import Batch, Graph, batches
from leitwerk.derived.history import numbers, plain
from leitwerk.derived.operations import Memory, Remembering
from leitwerk.signals.chunks import CHUNK
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Array = NDArray[np.float64]


class Runner:
    """Works some nodes of a graph, piece after piece.

    Parameters
    ----------
    graph : Graph
    wanted : sequence of int
        The nodes whose values are wanted.
    gaps_s : mapping from name to float, in s, optional
        How far apart two samples of an input may be that belong together: of a recording, by its own
        interval. What is not named, and all without it, bridges what the setup says.

    """

    def __init__(
        self, graph: Graph, wanted: Sequence[int], gaps_s: Mapping[str, float] | None = None
    ) -> None:
        self._graph, self._wanted = graph, tuple(wanted)
        self._gaps_s = gaps_s
        self.inputs = tuple(
            dict.fromkeys(
                graph.nodes[k].name for k in graph.beneath(*wanted) if graph.nodes[k].name
            )
        )
        plan = batches(graph, wanted)
        self._row: dict[int, int] = {}
        for k in graph.beneath(*wanted):
            if graph.nodes[k].name:
                self._row[k] = len(self._row)
        self._first = len(self._row)
        for batch in plan:
            for k in batch.nodes:
                self._row[k] = len(self._row)
        self._constants = {k: n.value for k, n in enumerate(graph.nodes) if n.is_constant}
        self._steps = [self._step(batch) for batch in plan]
        self.remembers = any(step.memory is not None for step in self._steps)
        # The rows of a piece lie together: few nodes take longer pieces, and so does what is remembered.
        most = CHUNK * 2 if self.remembers else CHUNK
        self._longest = max(256, min(most, (CHUNK * 16) // max(1, len(self._row))))
        self._is_single = all(len(batch.nodes) == 1 for batch in plan)
        # Where what is wanted comes from: constants, and rows of the table.
        self._fixed = [
            (column, self._constants[k]) for column, k in enumerate(wanted) if k in self._constants
        ]
        varying = [column for column, k in enumerate(wanted) if k in self._row]
        self._varying = np.array(varying, np.intp)
        self._from_rows = np.array([self._row[wanted[column]] for column in varying], np.intp)
        # Of single rows, what is worked goes straight into the result, and is copied from there.
        self._direct: dict[int, int] = {}
        for column, row in zip(self._varying.tolist(), self._from_rows.tolist(), strict=True):
            if row >= self._first:
                self._direct.setdefault(row, column)
        self._table = np.empty((0, 0))
        self._rows: Any = None  # those of the last piece
        self._last_s = -np.inf
        self._infinite = False

    def _step(self, batch: Batch) -> _Step:
        places: list[tuple[bool, Any]] = []  # whether it is in the table, and where, or the numbers
        for place in batch.arguments:
            if place[0] in self._constants:
                numbers = np.array([self._constants[k] for k in place])
                places.append((False, float(numbers[0]) if len(place) == 1 else numbers[:, None]))
            else:
                places.append((True, _index([self._row[k] for k in place])))
        out = _index([self._row[k] for k in batch.nodes])
        return _Step(batch, places, out, self._bridged(batch))

    def _bridged(self, batch: Batch) -> Array | None:
        """The gap that each row of a batch bridges: that of the input with the longest interval."""
        if self._gaps_s is None or not isinstance(batch.operation, Remembering):
            return None
        inputs = (self._graph.inputs_of(k) for k in batch.nodes)
        known = ([self._gaps_s[n] for n in names if n in self._gaps_s] for names in inputs)
        return np.array([max(gaps, default=np.inf) for gaps in known])

    def run(self, times_s: ArrayLike, inputs: Mapping[str, ArrayLike]) -> Array:
        """The values of the wanted nodes for the next samples.

        Where the time falls, as after a clock was set, everything that is remembered begins anew.

        Parameters
        ----------
        times_s : array_like of shape (n,), in s
        inputs : mapping from name to array_like of shape (n,)
            In SI base units, NaN where there is no value.

        Returns
        -------
        array of shape (n, wanted)
            NaN where there is no value.

        """
        given = [np.asarray(inputs[name], dtype=np.float64) for name in self.inputs]
        return self.run_rows(np.asarray(times_s, dtype=np.float64), given)

    def run_rows(self, t: Array, given: Sequence[Array] | Array) -> Array:
        """As ``run``, for inputs as rows in the order of ``inputs``."""
        result = np.empty((len(self._wanted), t.size))
        for _ in self._run(t, given, result):
            pass
        return result.T

    def pieces(self, t: Array, given: Sequence[Array] | Array) -> Iterator[tuple[slice, Array]]:
        """As ``run_rows``, piece by piece: after each, ``reasons`` and ``blamed`` are those of the piece."""
        result = np.empty((len(self._wanted), t.size))
        for piece in self._run(t, given, result):
            yield piece, result[:, piece]

    def _run(self, t: Array, given: Sequence[Array] | Array, result: Array) -> Iterator[slice]:
        for piece in self._pieces(t):
            rows = given[:, piece] if isinstance(given, np.ndarray) else [x[piece] for x in given]
            with np.errstate(all="ignore", divide="call", over="call", call=self._notice):
                self._work(t[piece], rows, result[:, piece])
            yield piece

    def _pieces(self, t: Array) -> list[slice]:
        """Pieces of the samples that are short enough, and in which the time never falls."""
        cuts = {*range(0, t.size, self._longest), t.size}
        if self.remembers and t.size:
            falls = t[1:] < t[:-1]
            if falls.any():
                cuts |= {int(k) + 1 for k in np.flatnonzero(falls)}
        ends = sorted(cuts)
        return [slice(a, b) for a, b in pairwise(ends)]

    def _work(self, t: Array, given: Sequence[Array] | Array, result: Array) -> None:
        if self.remembers:
            if t[0] < self._last_s:
                self.begin()
            self._last_s = float(t[-1])
        rows = self._rows_for(t.size)
        if (
            self._is_single
        ):  # each row by itself: nothing has to be copied into the table, or out of it
            rows[: self._first] = given
            for row, column in self._direct.items():
                rows[row] = result[column]
        elif self._first:
            rows[: self._first] = given
        for step in self._steps:
            step.work(t, rows)
            if self._infinite:  # a division by zero, or a number too large: no value
                self._infinite = False
                out = rows[step.out]
                out[np.isinf(out)] = np.nan
        self._give(rows, result)

    def _rows_for(self, size: int) -> Any:
        """The rows for a piece: the table, or a list of them where each stands by itself."""
        if self._rows is None or len(self._rows[0]) != size:
            if self._table.shape[1] < size:
                self._table = np.empty((max(1, len(self._row)), size))
            table = self._table[:, :size]
            self._rows = list(table) if self._is_single else table
        return self._rows

    def _give(self, rows: Any, result: Array) -> None:
        """Fill the result of a piece."""
        if not self._is_single:
            result[self._varying] = rows[self._from_rows]
        else:
            for column, row in zip(self._varying.tolist(), self._from_rows.tolist(), strict=True):
                if self._direct.get(row) != column:
                    result[column] = rows[row]
        for column, number in self._fixed:
            result[column] = number

    def _notice(self, kind: str, flag: int) -> None:
        del kind, flag
        self._infinite = True

    # ------------------------------------------------------------------ why there is no value

    def reasons(self, node: int, qualities: Mapping[str, NDArray[np.uint8]]) -> NDArray[np.uint8]:
        """Why a node has no value in the last piece: a ``Quality`` for each of its samples.

        Parameters
        ----------
        node : int
        qualities : mapping from name to array of shape (n,)
            Those of the inputs. One that is uncertain makes the value uncertain, too.

        """
        found = self._reasons(node, {})
        doubts = [qualities[name] for name in self._graph.inputs_of(node)]
        doubts += self._judged(node)
        for doubt in doubts:
            if np.any(doubt >= Quality.UNDER_LIMIT):
                is_off = (found == Quality.GOOD) & (doubt >= Quality.UNDER_LIMIT)
                found = np.where(is_off, doubt, found)
        return found

    def _judged(self, node: int) -> Iterator[NDArray[np.uint8]]:
        """What operations beneath a node say of their values themselves."""
        for k in self._graph.beneath(node):
            operation = self._graph.nodes[k].operation
            if operation is not None and operation.judge is not None:
                yield operation.judge(*self._arguments(k))

    def _arguments(self, k: int) -> list[Any]:
        return [
            self._rows[self._row[a]] if a in self._row else self._constants[a]
            for a in self._graph.nodes[k].arguments
        ]

    def _reasons(self, k: int, known: dict[int, NDArray[np.uint8]]) -> NDArray[np.uint8]:
        if k in known:
            return known[k]
        node = self._graph.nodes[k]
        found = np.zeros(len(self._rows[0]), np.uint8)
        if k in self._row:
            missing = np.isnan(self._rows[self._row[k]])
            if np.any(missing):
                found[missing] = (
                    Quality.BAD_INPUT if node.operation is None else node.operation.lack
                )
                if node.operation is not None and node.operation.judge is not None:
                    judged = node.operation.judge(*self._arguments(k))
                    found = np.where(missing & (judged != Quality.GOOD), judged, found)
                for argument in reversed(node.arguments):
                    below = self._reasons(argument, known)
                    found = np.where(missing & (below != Quality.GOOD), below, found)
        known[k] = found
        return found

    def blamed(self, node: int) -> list[str]:
        """The inputs without a value that a node has none for, at the last sample."""
        return [
            self._graph.nodes[k].name
            for k in self._graph.beneath(node)
            if self._graph.nodes[k].name and np.isnan(self._rows[self._row[k]][-1])
        ]

    # ------------------------------------------------------------------ what is remembered

    def begin(self) -> None:
        """Forget everything."""
        self._last_s = -np.inf
        for step in self._steps:
            step.begin()

    def state(self) -> dict[str, Any]:
        """All that is remembered, as plain data for JSON."""
        return {
            "time_s": plain(np.array([self._last_s])),
            "steps": [step.memory.state() for step in self._steps if step.memory is not None],
        }

    def resume(self, state: Mapping[str, Any]) -> None:
        """Go on from a state of the same formulas.

        Raises
        ------
        ValueError, KeyError, TypeError
            It is not such a state.

        """
        self._last_s = float(numbers(state["time_s"])[0])
        memories = [step.memory for step in self._steps if step.memory is not None]
        for memory, kept in zip(memories, state["steps"], strict=True):
            memory.resume(kept)


class _Step:
    """A batch with its places in the table of rows."""

    def __init__(
        self,
        batch: Batch,
        places: Sequence[tuple[bool, Any]],
        out: int | slice | NDArray[np.intp],
        gap_s: Array | None,
    ) -> None:
        self.operation, self.count, self.out = batch.operation, len(batch.nodes), out
        self._gap_s = gap_s
        self._places = places
        self._work: Any = getattr(batch.operation, "work", None)
        self.memory: Memory | None = None
        self.begin()

    def begin(self) -> None:
        """Forget everything."""
        if isinstance(self.operation, Remembering):
            self.memory = self.operation.start(self.count, self._gap_s)

    def work(self, t: Array, rows: Any) -> None:
        """Fill the rows of a batch."""
        arguments = [rows[place] if in_table else place for in_table, place in self._places]
        if self.memory is None:
            self._work(*arguments, out=rows[self.out])
            return
        shape = (self.count, t.size)
        wide = [
            argument.reshape(shape).T if in_table else np.broadcast_to(argument, shape).T
            for argument, (in_table, _) in zip(arguments, self._places, strict=True)
        ]
        out = rows[self.out]
        out[...] = self.memory.run(t, *wide).T.reshape(out.shape)


def _index(rows: list[int]) -> int | slice | NDArray[np.intp]:
    """Rows of the table, in the way that costs least to get."""
    if len(rows) == 1:
        return rows[0]
    if rows == list(range(rows[0], rows[0] + len(rows))):
        return slice(rows[0], rows[0] + len(rows))
    return np.array(rows, dtype=np.intp)
