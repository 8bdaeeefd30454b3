"""A value while a formula is read: its node, what it is, and where in the text it stands."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from zoneinfo import ZoneInfo

from leitwerk.derived.graph import Graph, NoValue
from leitwerk.derived.operations import Operation
from leitwerk.derived.types import Form, Type
from leitwerk.errors import FormulaError


@dataclass(frozen=True, slots=True)
class Table:
    """A table of a setup: rows of two texts, as they are written."""

    name: str
    rows: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class Value:
    """A part of a formula.

    ``text`` is set where it is a text in quotes that is no quantity, ``table`` where it names one.
    """

    node: int
    type: Type
    column: int
    is_zero: bool = False
    text: str | None = None
    table: Table | None = None

    def __str__(self) -> str:
        if self.table is not None:
            return f"the table {self.table.name}"
        return str(self.type) if self.text is None else f"the text {self.text[:40]!r}"


@dataclass(frozen=True, slots=True)
class Gap:
    """How far apart two samples may be that belong together.

    A recording has an interval of its own, and whoever works it says so to the runner; ``live_s``, in s,
    holds where nobody does: for readings as they come.
    """

    live_s: float = math.inf


@dataclass(frozen=True, slots=True)
class Terms:
    """What holds for all formulas of a setup.

    ``gap_s`` is how far apart, in s, two samples may be that belong together, ``zone`` where days begin.
    """

    gap_s: float = math.inf
    zone: ZoneInfo = field(default_factory=lambda: ZoneInfo("UTC"))
    tables: Mapping[str, Table] = field(default_factory=dict)

    @property
    def gap(self) -> Gap:
        """The gap as a parameter of a function of time."""
        return Gap(self.gap_s)


def alike(values: Iterable[Value], what: str) -> Type:
    """The kind of several values; a bare 0 is of any kind but a point."""
    every = list(values)
    first = next((v for v in every if not v.is_zero), every[0])
    for value in every:
        if value.is_zero and first.type.form is Form.NUMBER and first.text is None:
            continue
        is_same = (value.type.powers, value.type.form) == (first.type.powers, first.type.form)
        if not is_same or value.text is not None or value.table is not None:
            raise FormulaError(
                f"{what} cannot take {first} together with {value}", column=value.column,
                valid="both of one kind; numbers with units stand in quotes, such as '20 °C'",
            )  # fmt: skip
    return first.type


def apply(graph: Graph, operation: Operation, column: int, *arguments: Value) -> int:
    """The node of an operation; an error where it has no value for constants."""
    try:
        return graph.apply(operation, *(value.node for value in arguments))
    except NoValue:
        raise FormulaError(
            f"{operation.name} of these numbers has no finite value", column=column,
            valid="numbers for which there is a result",
        ) from None  # fmt: skip


def nearest(name: str, known: Iterable[str]) -> str:
    """The remedy for a mistyped name."""
    near = difflib.get_close_matches(name[:60], list(known), n=1)
    return f"did you mean {near[0]}?" if near else ""


def joined(names: Sequence[str], word: str) -> str:
    """Names as people list them: ``a, b or c``."""
    shown = list(names[:20])
    return (
        f" {word} ".join([", ".join(shown[:-1]), shown[-1]]) if len(shown) > 1 else "".join(shown)
    )
