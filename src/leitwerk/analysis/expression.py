"""Small formulas, as limit sets hold them: ``2.4 * cells``, ``criterion + exchange * log2(8 / hours)``.

Numbers, names, + - * / and a few functions; nothing is ever run as a program.
"""

from __future__ import annotations

import ast
import math
import operator
import warnings
from collections.abc import Callable, Mapping
from typing import Any

from leitwerk.errors import QuantityError

_LONGEST = 200
_OPERATORS: dict[type[ast.AST], Callable[..., float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.USub: operator.neg,
    ast.UAdd: operator.pos,
}
_FUNCTIONS: dict[str, Callable[..., float]] = {
    "log2": math.log2,
    "log10": math.log10,
    "sqrt": math.sqrt,
    "abs": abs,
    "min": min,
    "max": max,
}
_VALID = f"numbers, names, + - * / ( ) and {', '.join(_FUNCTIONS)}"


def work_out(text: str, values: Mapping[str, float]) -> float:
    """The value of a formula.

    Raises
    ------
    QuantityError
        It is not a formula, names something unknown, or has no finite value.

    Examples
    --------
    >>> work_out("2.4 * cells", {"cells": 6})
    14.399999999999999

    """
    if len(text) > _LONGEST:
        raise QuantityError(
            f"{text[:40]!r}… is too long for a formula", valid=f"{_LONGEST} characters"
        )
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", SyntaxWarning)  # of numbers that run into words
            tree = ast.parse(text.strip(), mode="eval")
        number = float(_value(tree.body, values))
    except QuantityError:
        raise
    except (SyntaxError, RecursionError, MemoryError):
        raise QuantityError(f"{text!r} is not a formula", valid=_VALID) from None
    except (ArithmeticError, ValueError, TypeError) as error:
        raise QuantityError(f"{text!r} has no value: {error}", valid=_VALID) from None
    if not math.isfinite(number):
        raise QuantityError(f"{text!r} has no finite value", valid=_VALID)
    return number


def _value(node: ast.AST, values: Mapping[str, float]) -> float:
    match node:
        case ast.Constant(value=int() | float() as number) if not isinstance(number, bool):
            return float(number)
        case ast.Name(id=name):
            if name not in values:
                known = ", ".join(values)
                raise QuantityError(f"{name[:40]!r} is not known here", valid=known or "numbers")
            return values[name]
        case ast.UnaryOp(op=op, operand=operand) if type(op) in _OPERATORS:
            return _OPERATORS[type(op)](_value(operand, values))
        case ast.BinOp(left=left, op=op, right=right) if type(op) in _OPERATORS:
            return _OPERATORS[type(op)](_value(left, values), _value(right, values))
        case ast.Call(func=ast.Name(id=name), args=arguments, keywords=[]) if name in _FUNCTIONS:
            numbers: list[Any] = [_value(argument, values) for argument in arguments]
            return float(_FUNCTIONS[name](*numbers))
    raise QuantityError(f"{ast.unparse(node)[:40]!r} has no place in a formula", valid=_VALID)
