"""A value while a formula is read: its node, what it is, and where in the text it stands."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable
from dataclasses import dataclass, field
from zoneinfo import ZoneInfo

from leitwerk.derived import types
from leitwerk.derived.graph import Graph, NoValue
from leitwerk.derived.operations import Operation
from leitwerk.derived.types import Form, Type
from leitwerk.errors import FormulaError


@dataclass(frozen=True, slots=True)
class Value:
    """A part of a formula. ``text`` is set where it is a text in quotes that no unit was asked of yet."""

    node: int
    type: Type
    column: int
    is_zero: bool = False
    text: str | None = None


@dataclass(frozen=True, slots=True)
class Terms:
    """What holds for all formulas of a setup.

    ``gap_s`` is how far apart two samples may be that belong together, ``zone`` where days begin.
    """

    gap_s: float = math.inf
    zone: ZoneInfo = field(default_factory=lambda: ZoneInfo("UTC"))


@dataclass(frozen=True, slots=True)
class Call:
    """A function with its arguments, and the helpers by which it looks at them."""

    name: str
    arguments: tuple[Value, ...]
    column: int
    graph: Graph
    terms: Terms

    def value(self, node: int, kind: Type) -> Value:
        """The result."""
        return Value(node, kind, self.column)

    def apply(self, operation: Operation, kind: Type, *arguments: Value) -> Value:
        """An operation on arguments."""
        return self.value(apply(self.graph, operation, self.column, *arguments), kind)

    def numbers(self, *places: int) -> None:
        """Refuse what is no number."""
        for value in self._at(places):
            if value.type.form is not Form.NUMBER:
                raise FormulaError(
                    f"{self.name}() takes numbers, and this is {value.type}", column=value.column,
                    remedy="absolute(t) gives a temperature in K" if value.type.form is Form.POINT else "",
                )  # fmt: skip

    def plain(self, *places: int) -> None:
        """Refuse what has a dimension."""
        for value in self._at(places):
            if not value.type.is_plain:
                raise FormulaError(
                    f"{self.name}() takes a plain number, and this is {value.type}",
                    column=value.column, valid="a number without a unit: divide by a quantity of the same kind",
                )  # fmt: skip

    def of(self, kind: Type, place: int, unit: str) -> Value:
        """An argument that has to be of a kind, such as one in ``unit``."""
        value = self.arguments[place]
        if (value.type.powers, value.type.form) != (kind.powers, kind.form):
            raise FormulaError(
                f"{self.name}() takes {kind} here, and this is {value.type}",
                column=value.column, valid=f"a value in {unit}",
            )  # fmt: skip
        return value

    def condition(self, place: int) -> Value:
        """An argument that has to be a condition."""
        value = self.arguments[place]
        if value.type.form is not Form.LOGICAL:
            raise FormulaError(
                f"{self.name}() takes a condition, and this is {value.type}",
                column=value.column, valid="a comparison, such as level > '1 m'",
            )  # fmt: skip
        return value

    def fixed(self, place: int, kind: Type, unit: str) -> float:
        """The number of an argument that is the same at every moment, in SI base units."""
        value = self.of(kind, place, unit)
        node = self.graph.nodes[value.node]
        if not node.is_constant:
            raise FormulaError(
                f"{self.name}() needs a fixed value here, and this changes", column=value.column,
                valid=f"a value in {unit}, in quotes or a constant",
            )  # fmt: skip
        return node.value

    def duration(self, place: int) -> float:
        """A fixed time above 0, in s."""
        seconds = self.fixed(place, types.SECONDS, "s, such as '10 min'")
        if not seconds > 0.0:
            raise FormulaError(
                f"{self.name}() needs a time of more than 0 s", column=self.arguments[place].column,
                valid="such as '10 min'",
            )  # fmt: skip
        return seconds

    def alike(self, *places: int) -> Type:
        """What arguments are, which all have to be of one kind."""
        return alike(self._at(places), f"{self.name}()")

    def _at(self, places: tuple[int, ...]) -> tuple[Value, ...]:
        return tuple(self.arguments[k] for k in places) if places else self.arguments


def alike(values: Iterable[Value], what: str) -> Type:
    """The kind of several values; a bare 0 is of any kind but a point."""
    every = list(values)
    first = next((v for v in every if not v.is_zero), every[0])
    for value in every:
        if value.is_zero and first.type.form is Form.NUMBER:
            continue
        if (value.type.powers, value.type.form) != (first.type.powers, first.type.form):
            raise FormulaError(
                f"{what} cannot take {first.type} together with {value.type}", column=value.column,
                valid="both of one kind; numbers with units stand in quotes, such as '20 °C'",
            )  # fmt: skip
    return first.type


def apply(graph: Graph, operation: Operation, column: int, *arguments: Value) -> int:
    """The node of an operation; an error where it has no value for constants."""
    try:
        return graph.apply(operation, *(value.node for value in arguments))
    except NoValue:
        text = f"{operation.name} of these numbers"
        raise FormulaError(
            f"{text} has no finite value",
            column=column,
            valid="numbers for which there is a result",
        ) from None


def nearest(name: str, known: Iterable[str]) -> str:
    """The remedy for a mistyped name."""
    near = difflib.get_close_matches(name[:60], list(known), n=1)
    return f"did you mean {near[0]}?" if near else ""
