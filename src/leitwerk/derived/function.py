"""Functions of formulas: how one is described, called, and looks at its arguments."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from leitwerk.derived import types
from leitwerk.derived.graph import Graph
from leitwerk.derived.operations import Operation
from leitwerk.derived.types import Form, Type
from leitwerk.derived.values import Table, Terms, Value, alike, apply, joined
from leitwerk.errors import FormulaError

LEAST_S = 1e-3

MOST = 50  # arguments, where any number is taken
_MORE = "…"


@dataclass(frozen=True, slots=True)
class Function:
    """A function of formulas.

    ``takes`` shows its parameters, those that may be left out in brackets, … where any number may
    follow. ``summary`` says what it does, and what about gaps.
    """

    name: str
    takes: str
    summary: str
    build: Callable[[Call], Value]

    @property
    def parameters(self) -> tuple[str, ...]:
        """The names of its parameters."""
        return tuple(name.strip(" []") for name in self.takes.split(",") if name.strip() != _MORE)

    @property
    def needed(self) -> tuple[str, ...]:
        """The names of those that may not be left out."""
        return tuple(
            n.strip() for n in self.takes.split(",") if n.strip() != _MORE and "[" not in n
        )

    @property
    def takes_more(self) -> bool:
        """Whether any number of further arguments may follow."""
        return self.takes.endswith(_MORE)


class Functions(dict[str, Function]):
    """Functions by their names."""

    def define(self, takes: str) -> Callable[[Callable[[Call], Value]], Callable[[Call], Value]]:
        """Enter a function under the name of what builds it, with its docstring for a summary."""

        def enter(build: Callable[[Call], Value]) -> Callable[[Call], Value]:
            summary = " ".join((build.__doc__ or "").split()).removesuffix(".")
            self.add(build.__name__.rstrip("_"), takes, summary, build)
            return build

        return enter

    def add(self, name: str, takes: str, summary: str, build: Callable[[Call], Value]) -> None:
        """Enter a function."""
        self[name] = Function(name, takes, summary, build)


@dataclass(frozen=True, slots=True)
class Doubt:
    """Something in a formula that is probably not meant."""

    message: str
    column: int
    remedy: str = ""


@dataclass(frozen=True, slots=True)
class Remarks:
    """What is said about a formula beside its value: doubts, and notes that explain it."""

    doubts: list[Doubt] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Call:
    """A function with its arguments by parameter, and the helpers by which it looks at them."""

    name: str
    arguments: dict[str, Value]
    column: int
    graph: Graph
    terms: Terms
    remarks: Remarks

    def __getitem__(self, parameter: str) -> Value:
        return self.arguments[parameter]

    def __contains__(self, parameter: str) -> bool:
        return parameter in self.arguments

    def every(self, *parameters: str) -> tuple[Value, ...]:
        """The arguments of some parameters; all, if none are named."""
        return tuple(self.arguments[p] for p in parameters or self.arguments)

    def value(self, node: int, kind: Type) -> Value:
        """The result."""
        return Value(node, kind, self.column)

    def apply(self, operation: Operation, kind: Type, *arguments: Value) -> Value:
        """An operation on values."""
        return self.value(apply(self.graph, operation, self.column, *arguments), kind)

    def constant(self, number: float, kind: Type = types.PLAIN) -> Value:
        """A number as a value."""
        return self.value(self.graph.constant(number), kind)

    def refusal(
        self, parameter: str, message: str, valid: str = "", remedy: str = ""
    ) -> FormulaError:
        """What is wrong with an argument."""
        column = self.arguments[parameter].column if parameter in self.arguments else self.column
        return FormulaError(message, column=column, valid=valid, remedy=remedy)

    def remark(self, parameter: str, message: str, remedy: str = "") -> None:
        """Remark that an argument is probably not meant like this."""
        self.remarks.doubts.append(Doubt(message, self.arguments[parameter].column, remedy))

    # ------------------------------------------------------------------ what arguments have to be

    def numbers(self, *parameters: str) -> None:
        """Refuse what is no number."""
        for name, value in self._named(parameters):
            if value.type.form is not Form.NUMBER or value.text is not None:
                hint = (
                    "absolute(t) gives a temperature in K" if value.type.form is Form.POINT else ""
                )
                raise self.refusal(
                    name, f"{self.name}() takes numbers, and this is {value}", remedy=hint
                )

    def plain(self, *parameters: str) -> None:
        """Refuse what has a dimension."""
        for name, value in self._named(parameters):
            if not value.type.is_plain:
                valid = "a number without a unit: divide by a quantity of the same kind"
                raise self.refusal(
                    name, f"{self.name}() takes a plain number, and this is {value}", valid
                )

    def measured(self, parameter: str) -> Type:
        """What an argument is that has to be a number or a temperature."""
        kind = self[parameter].type
        if self[parameter].text is not None:
            self.numbers(parameter)
        if kind.form is not Form.POINT:
            self.numbers(parameter)
        return kind

    def of(self, kind: Type, parameter: str, unit: str) -> Value:
        """An argument that has to be of a kind, such as one in ``unit``."""
        value = self[parameter]
        if (value.type.powers, value.type.form) != (
            kind.powers,
            kind.form,
        ) or value.text is not None:
            message = f"{parameter} of {self.name}() has to be {kind}, and this is {value}"
            raise self.refusal(parameter, message, f"a value in {unit}")
        return value

    def condition(self, parameter: str) -> Value:
        """An argument that has to be a condition."""
        value = self[parameter]
        if value.type.form is not Form.LOGICAL or value.text is not None:
            message = f"{self.name}() takes a condition, and this is {value}"
            raise self.refusal(parameter, message, "a comparison, such as level > '1 m'")
        return value

    def fixed(self, parameter: str, kind: Type, unit: str) -> float:
        """The number of an argument that is the same at every moment, in SI base units."""
        value = self.of(kind, parameter, unit)
        node = self.graph.nodes[value.node]
        if not node.is_constant:
            message = f"{parameter} of {self.name}() has to be fixed, and this changes"
            raise self.refusal(parameter, message, f"a value in {unit}, in quotes or a constant")
        return node.value

    def above_zero(self, parameter: str, kind: Type, unit: str) -> float:
        """As ``fixed``, and more than 0."""
        number = self.fixed(parameter, kind, unit)
        if not number > 0.0:
            raise self.refusal(
                parameter, f"{parameter} of {self.name}() has to be more than 0", unit
            )
        return number

    def duration(self, parameter: str) -> float:
        """A fixed time in s, of 1 ms or more: times of today are known to 0.2 µs."""
        seconds = self.above_zero(parameter, types.SECONDS, "s, such as '10 min'")
        if seconds < LEAST_S:
            message = f"{parameter} of {self.name}() is {seconds:g} s"
            raise self.refusal(parameter, message, "1 ms or more")
        return seconds

    def word(self, parameter: str, known: tuple[str, ...]) -> str:
        """One of some words, the first if it is not given."""
        if parameter not in self:
            return known[0]
        text = self[parameter].text
        if text not in known:
            shown = self[parameter] if text is None else repr(text[:40])
            valid = joined([repr(word) for word in known], "or")
            raise self.refusal(parameter, f"{shown} is no {parameter} of {self.name}()", valid)
        return text

    def table(self, parameter: str) -> Table:
        """A table of the setup."""
        table = self[parameter].table
        if table is None:
            valid = joined(list(self.terms.tables), "or") or "there is no table in this setup"
            message = (
                f"{parameter} of {self.name}() has to be a table, and this is {self[parameter]}"
            )
            raise self.refusal(parameter, message, valid)
        return table

    def alike(self, *parameters: str) -> Type:
        """What arguments are, which all have to be of one kind."""
        return alike(self.every(*parameters), f"{self.name}()")

    def _named(self, parameters: tuple[str, ...]) -> Iterator[tuple[str, Value]]:
        yield from ((p, self.arguments[p]) for p in parameters or self.arguments)
