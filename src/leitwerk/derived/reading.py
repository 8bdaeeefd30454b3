"""From the text of a formula to nodes of a graph. Nothing of it is ever run as a program.

Python's own grammar reads the text; of the kinds of parts that the grammar has, a closed list is
taken, and each is looked at: what it is, and whether it fits the others.
"""

from __future__ import annotations

import ast
import math
import re
import warnings
from collections.abc import Mapping

from leitwerk.derived import operations as op
from leitwerk.derived import types
from leitwerk.derived.function import MOST, Call, Function, Remarks
from leitwerk.derived.functions import FUNCTIONS
from leitwerk.derived.graph import Graph
from leitwerk.derived.operations import Operation
from leitwerk.derived.types import Form, Type
from leitwerk.derived.values import Terms, Value, alike, apply, nearest
from leitwerk.errors import FormulaError, QuantityError
from leitwerk.parsing.quantities import parse_quantity

LONGEST = 1000  # characters
DEEPEST = 40  # brackets within each other
_VALID = "numbers, names, + - * / ** ( ), comparisons, and or not, 'a if … else b', functions"
_PLACES = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.Pow: "**"}
_QUOTED = re.compile(r"'[^']*'|\"[^\"]*\"")
_COMPARED = {
    ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=",
}  # fmt: skip


def read_formula(
    text: str,
    known: Mapping[str, tuple[int, Type]],
    graph: Graph,
    terms: Terms | None = None,
    remarks: Remarks | None = None,
) -> Value:
    """The value of a formula.

    Parameters
    ----------
    text : str
    known : mapping from name to node and what it is
        What can be named: channels and constants.
    graph : Graph
        Takes the nodes.
    terms : Terms, optional
    remarks : Remarks, optional
        Takes doubts and notes.

    Raises
    ------
    FormulaError
        It is not a formula, names something unknown, or its parts do not fit.

    """
    tree = _parsed(text)
    try:
        value = _Reader(text, known, graph, terms or Terms(), remarks or Remarks()).value(tree.body)
    except RecursionError:
        raise FormulaError("the formula is too deep", valid=f"{DEEPEST} levels") from None
    if value.text is not None or value.table is not None:
        raise FormulaError(
            f"{value} is no quantity", column=value.column,
            valid="a number with its unit, such as '20 °C'",
        )  # fmt: skip
    return value


def _parsed(text: str) -> ast.Expression:
    if len(text) > LONGEST:
        raise FormulaError(
            f"the formula has {len(text)} characters", column=LONGEST, valid=f"at most {LONGEST}",
            remedy="make a channel of a part of it, and use that",
        )  # fmt: skip
    depth = 0
    for at, character in enumerate(text, start=1):
        depth += (character in "([{") - (character in ")]}")
        if depth > DEEPEST:
            raise FormulaError("the brackets are too deep", column=at, valid=f"{DEEPEST} levels")
    for wrong, right in (("^", "**"), ("²", "**2"), ("³", "**3"), ("&&", "and"), ("||", "or")):
        bare = _QUOTED.sub(lambda match: " " * len(match[0]), text)
        if (column := bare.find(wrong) + 1) > 0:
            raise FormulaError(f"{wrong} has no place in a formula", column=column, valid=right)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", SyntaxWarning)  # of numbers that run into words
            return ast.parse(text.strip() or "?", mode="eval")
    except SyntaxError as error:
        end = max(1, len(text.rstrip()))  # where it breaks off, if the grammar does not say where
        column = error.offset if error.offset and error.offset < end else end
        raise FormulaError(
            f"{text[:60]!r} is not a formula: it breaks off, or has a part too many here",
            column=column, valid=_VALID,
        ) from None  # fmt: skip
    except (RecursionError, MemoryError, ValueError):
        raise FormulaError(f"{text[:40]!r} is not a formula", valid=_VALID) from None


class _Reader:
    """Looks at one part after the other."""

    def __init__(
        self,
        text: str,
        known: Mapping[str, tuple[int, Type]],
        graph: Graph,
        terms: Terms,
        remarks: Remarks,
    ) -> None:
        self._bytes, self._indent = text.strip().encode(), len(text) - len(text.lstrip())
        self._known, self._graph, self._terms, self._remarks = known, graph, terms, remarks

    def value(self, node: ast.expr) -> Value:
        """The value of a part of the formula."""
        match node:
            case ast.Constant(value=content):
                return self._constant(content, node)
            case ast.Name(id=name):
                return self._name(name, node)
            case ast.UnaryOp(op=sign, operand=operand):
                return self._unary(sign, self.value(operand), node)
            case ast.BinOp(left=left, op=sign, right=right) if type(sign) in _PLACES:
                return self._binary(
                    _PLACES[type(sign)], self._number(left), self._number(right), node
                )
            case ast.Compare(left=left, ops=signs, comparators=others):
                return self._compare(left, signs, others, node)
            case ast.BoolOp(op=sign, values=parts):
                return self._logical(op.AND if isinstance(sign, ast.And) else op.OR, parts, node)
            case ast.IfExp(test=test, body=body, orelse=other):
                return self._chosen(test, body, other, node)
            case ast.Call(func=ast.Name(id=name), args=given, keywords=named):
                return self._call(name, given, named, node)
        raise self._error(
            f"{ast.unparse(node)[:40]!r} has no place in a formula", node, valid=_VALID
        )

    def _column(self, node: ast.expr) -> int:
        return self._indent + len(self._bytes[: node.col_offset].decode(errors="replace")) + 1

    def _error(
        self, message: str, node: ast.expr, valid: str = "", remedy: str = ""
    ) -> FormulaError:
        return FormulaError(message, column=self._column(node), valid=valid, remedy=remedy)

    # ------------------------------------------------------------------ numbers and names

    def _constant(self, content: object, node: ast.expr) -> Value:
        if isinstance(content, str):
            return self._quantity(content, node)
        if isinstance(content, bool) or not isinstance(content, int | float):
            raise self._error(f"{content!r} has no place in a formula", node, valid=_VALID)
        try:
            number = float(content)
        except OverflowError:
            number = math.inf
        if not math.isfinite(number):
            raise self._error("this number is too large to use", node, valid="a finite number")
        found = self._graph.constant(number)
        return Value(found, types.PLAIN, self._column(node), is_zero=number == 0.0)

    def _quantity(self, text: str, node: ast.expr) -> Value:
        """A number with its unit; anything else may be the name of a state."""
        column = self._column(node)
        try:
            quantity = parse_quantity(text)
        except QuantityError as error:
            if text[:1].isalpha():
                return Value(self._graph.constant(0.0), types.LOGICAL, column, text=text)
            raise FormulaError(
                error.message, column=column, valid=error.valid, remedy=error.remedy
            ) from None
        unit = quantity.unit
        if unit is None:
            return Value(self._graph.constant(quantity.value), types.PLAIN, column)
        number = quantity.value * unit.factor + unit.offset
        return Value(self._graph.constant(number), types.type_of(unit), column)

    def _name(self, name: str, node: ast.expr) -> Value:
        if name in self._known:
            found, kind = self._known[name]
            return Value(found, kind, self._column(node))
        if (table := self._terms.tables.get(name)) is not None:
            return Value(self._graph.constant(0.0), types.LOGICAL, self._column(node), table=table)
        every = [*self._known, *self._terms.tables]
        shown = ", ".join(every[:20]) or "no names here"
        if name in FUNCTIONS:
            remedy = f"{name} is a function: {name}({FUNCTIONS[name].takes})"
        else:
            remedy = nearest(name, every)
        raise self._error(f"there is no channel or constant {name[:40]!r}", node, shown, remedy)

    def _number(self, node: ast.expr) -> Value:
        """A part that is calculated with."""
        value = self.value(node)
        if value.text is not None or value.table is not None:
            raise self._error(f"{value} is no quantity", node, "a number with its unit")
        return value

    # ------------------------------------------------------------------ signs

    def _unary(self, sign: ast.unaryop, value: Value, node: ast.expr) -> Value:
        if isinstance(sign, ast.Not):
            self._condition(value)
            return self._result(op.NOT, types.LOGICAL, node, value)
        if isinstance(sign, ast.Invert) or value.type.form is not Form.NUMBER:
            raise self._error(f"{value.type} has no sign to change", node, valid="a number")
        if isinstance(sign, ast.UAdd):
            return value
        return self._result(op.NEGATE, value.type, node, value)

    def _binary(self, sign: str, left: Value, right: Value, node: ast.expr) -> Value:
        for value in (left, right):
            if value.type.form in {Form.LOGICAL, Form.STATE}:
                raise FormulaError(
                    f"{sign} takes numbers, and this is {value}", column=value.column,
                    valid="'1 if condition else 0' makes a number of a condition",
                )  # fmt: skip
        if sign in "+-":
            return self._sum(sign, left, right, node)
        for value in (left, right):
            if value.type.form is Form.POINT:
                raise FormulaError(
                    f"{sign} takes no temperature in °C: its zero is not nothing", column=value.column,
                    valid="a difference (t - '0 °C'), or absolute(t) in K",
                )  # fmt: skip
        if sign == "**":
            return self._power(left, right, node)
        divisor = self._graph.nodes[right.node]
        if sign == "/" and divisor.is_constant and divisor.value == 0.0:
            raise FormulaError("a division by zero has no value", column=right.column,
                               valid="a divisor that is not 0")  # fmt: skip
        powers = types.times(left.type.powers, right.type.powers, 1.0 if sign == "*" else -1.0)
        operation = op.MULTIPLY if sign == "*" else op.DIVIDE
        return self._result(operation, Type(powers), node, left, right)

    def _sum(self, sign: str, left: Value, right: Value, node: ast.expr) -> Value:
        points = (left.type.form is Form.POINT, right.type.form is Form.POINT)
        operation = op.ADD if sign == "+" else op.SUBTRACT
        if not any(points):
            kind = alike((left, right), sign)
            return self._result(operation, kind, node, left, right)
        if left.type.powers != right.type.powers:
            alike((left, right), sign)
        if all(points) and sign == "+":
            raise self._error(
                "°C + °C has no meaning: the sum would count the zero of the scale twice", node,
                "°C - °C (a difference in K), °C + K, mean(a, b)",
            )  # fmt: skip
        if points == (False, True) and sign == "-":
            raise self._error("K - °C has no meaning: it is not known whether this K is a difference",
                              node, "°C - °C, or absolute(t) for a temperature in K")  # fmt: skip
        kind = types.KELVIN if all(points) else types.POINT
        return self._result(operation, kind, node, left, right)

    def _power(self, left: Value, right: Value, node: ast.expr) -> Value:
        if not right.type.is_plain:
            raise FormulaError(f"an exponent is a plain number, and this is {right.type}",
                               column=right.column, valid="such as 2 or 0.5")  # fmt: skip
        exponent = self._graph.nodes[right.node]
        if left.type.powers and not exponent.is_constant:
            raise FormulaError(
                f"{left.type} needs a fixed exponent: its dimension would change with every sample",
                column=right.column, valid="a number, or a base without a unit",
            )  # fmt: skip
        if not exponent.is_constant:
            return self._result(op.POWER, types.PLAIN, node, left, right)
        kind = Type(types.to_the(left.type.powers, exponent.value))
        simple = {2.0: op.SQUARE, 0.5: op.SQRT}.get(exponent.value)
        if simple is not None:
            return self._result(simple, kind, node, left)
        return self._result(op.POWER, kind, node, left, right)

    # ------------------------------------------------------------------ conditions

    def _compare(
        self, left: ast.expr, signs: list[ast.cmpop], others: list[ast.expr], node: ast.expr
    ) -> Value:
        found: Value | None = None
        first = self.value(left)
        for sign, other in zip(signs, others, strict=True):
            if type(sign) not in _COMPARED:
                raise self._error(
                    "this comparison has no place in a formula", node, "< <= > >= == !="
                )
            second = self.value(other)
            one = self._compared(_COMPARED[type(sign)], first, second, node)
            found = one if found is None else self._result(op.AND, types.LOGICAL, node, found, one)
            first = second
        assert found is not None
        return found

    def _compared(self, sign: str, left: Value, right: Value, node: ast.expr) -> Value:
        if left.text is not None or right.text is not None:
            left, right = self._state(left, right, node), self._state(right, left, node)
        kind = alike((left, right), sign)
        if kind.form in {Form.STATE, Form.LOGICAL} and sign not in {"==", "!="}:
            raise self._error(f"{kind} has no order", node, "== or !=")
        return self._result(op.COMPARE[sign], types.LOGICAL, node, left, right)

    def _state(self, value: Value, other: Value, node: ast.expr) -> Value:
        """A name in quotes as a state of what stands on the other side."""
        if value.text is None:
            return value
        states = other.type.states
        if states is None:
            raise self._error(
                f"{value.text[:40]!r} is no quantity, and {other.type} has no states", node,
                "a number with its unit, such as '20 °C'",
            )  # fmt: skip
        try:
            number = states.number(value.text)
        except QuantityError as error:
            raise FormulaError(error.message, column=value.column, valid=error.valid) from None
        return Value(self._graph.constant(number), other.type, value.column)

    def _logical(self, operation: Operation, parts: list[ast.expr], node: ast.expr) -> Value:
        values = [self.value(part) for part in parts]
        for value in values:
            self._condition(value)
        found = values[0]
        for value in values[1:]:
            found = self._result(operation, types.LOGICAL, node, found, value)
        return found

    def _condition(self, value: Value) -> None:
        if value.type.form is not Form.LOGICAL or value.text is not None or value.table is not None:
            raise FormulaError(
                f"a condition is wanted here, and this is {value}", column=value.column,
                valid="a comparison, such as level > '1 m'",
            )  # fmt: skip

    def _chosen(self, test: ast.expr, body: ast.expr, other: ast.expr, node: ast.expr) -> Value:
        condition = self.value(test)
        self._condition(condition)
        first, second = self._number(body), self._number(other)
        kind = alike((first, second), "if … else")
        return self._result(op.CHOOSE, kind, node, condition, first, second)

    # ------------------------------------------------------------------ functions

    def _call(
        self, name: str, given: list[ast.expr], named: list[ast.keyword], node: ast.expr
    ) -> Value:
        known = FUNCTIONS.get(name)
        if known is None:
            remedy = nearest(name, FUNCTIONS)
            shown = ", ".join(FUNCTIONS)
            raise self._error(f"there is no function {name[:40]!r}", node, shown, remedy)
        parts = self._by_parameter(known, given, named, node)
        arguments = {parameter: self.value(part) for parameter, part in parts.items()}
        column = self._column(node)
        return known.build(Call(name, arguments, column, self._graph, self._terms, self._remarks))

    def _by_parameter(
        self, known: Function, given: list[ast.expr], named: list[ast.keyword], node: ast.expr
    ) -> dict[str, ast.expr]:
        """The arguments of a call by parameter, in the order of the parameters."""
        names = list(known.parameters)
        if known.takes_more:
            names += [f"further {k}" for k in range(len(names), min(len(given), MOST))]
        found = dict(zip(names, given, strict=False))
        for keyword in named:
            if keyword.arg not in known.parameters or keyword.arg in found:
                parameter = str(keyword.arg)[:40]
                message = f"{known.name}() has no parameter {parameter!r}"
                if keyword.arg in found:
                    message = f"{parameter} of {known.name}() is given twice"
                raise self._error(
                    message, keyword.value,
                    f"{known.name}({known.takes})", nearest(str(keyword.arg), known.parameters),
                )  # fmt: skip
            found[str(keyword.arg)] = keyword.value
        missing = [name for name in known.needed if name not in found]
        if missing or len(given) > len(names):
            message = f"{known.name}() needs {missing[0]}" if missing else (
                f"{known.name}() takes {len(names)} arguments, and here are {len(given)}"
            )  # fmt: skip
            raise self._error(message, node, f"{known.name}({known.takes})")
        return {name: found[name] for name in names if name in found}

    def _result(self, operation: Operation, kind: Type, node: ast.expr, *arguments: Value) -> Value:
        column = self._column(node)
        return Value(apply(self._graph, operation, column, *arguments), kind, column)
