"""The functions of formulas: a closed list, each with what it takes and what it does about gaps.

The guide's table is written from this list.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from leitwerk.derived import operations as op
from leitwerk.derived import types
from leitwerk.derived.moving import Average, Extreme
from leitwerk.derived.operations import Momentary, Remembering
from leitwerk.derived.periods import Periods
from leitwerk.derived.remembered import (
    Count,
    Earlier,
    Held,
    Increase,
    Lasting,
    LowPass,
    Rate,
    Settled,
    Total,
)
from leitwerk.derived.types import Form, Type
from leitwerk.derived.values import Call, Value
from leitwerk.errors import FormulaError, QuantityError
from leitwerk.signals.quality import Quality


@dataclass(frozen=True, slots=True)
class Function:
    """A function of formulas. ``takes`` shows its arguments; ``least`` and ``most`` how many there are."""

    name: str
    takes: str
    summary: str
    build: Callable[[Call], Value]
    least: int
    most: int


FUNCTIONS: dict[str, Function] = {}


def summary_of(build: Callable[[Call], Value]) -> str:
    """The first line of a docstring, without its full stop."""
    return (build.__doc__ or "").strip().removesuffix(".")


def function(
    takes: str, least: int = 1, most: int | None = None
) -> Callable[[Callable[[Call], Value]], Callable[[Call], Value]]:
    """Enter a function under the name of what builds it, with its docstring for a summary."""

    def enter(build: Callable[[Call], Value]) -> Callable[[Call], Value]:
        name = build.__name__.rstrip("_")
        FUNCTIONS[name] = Function(name, takes, summary_of(build), build, least, most or least)
        return build

    return enter


_ANY = 50  # arguments, where any number is taken


# ---------------------------------------------------------------------- of the moment


@function("x")
def sqrt(call: Call) -> Value:
    """Square root, also of quantities: of m², m."""
    call.numbers()
    return call.apply(
        op.SQRT, Type(types.to_the(call.arguments[0].type.powers, 0.5)), *call.arguments
    )


def _of_plain(name: str, operation: Momentary, summary: str) -> None:
    def build(call: Call) -> Value:
        call.plain()
        return call.apply(operation, types.PLAIN, *call.arguments)

    FUNCTIONS[name] = Function(name, "x", summary, build, 1, 1)


_of_plain("exp", op.EXP, "e to the power of x")
_of_plain("log", op.LOG, "natural logarithm")
_of_plain("log10", op.LOG10, "decimal logarithm")
_of_plain("log2", op.LOG2, "logarithm to the base 2")


def _of_angle(name: str, operation: Momentary) -> None:
    def build(call: Call) -> Value:
        (angle,) = call.arguments
        if not angle.type.is_plain:  # a plain number is one in rad
            call.of(types.ANGLE, 0, "° or rad")
        return call.apply(operation, types.PLAIN, angle)

    FUNCTIONS[name] = Function(
        name, "angle", f"{name} of an angle; a plain number is in rad", build, 1, 1
    )


for _name, _operation in (("sin", op.SIN), ("cos", op.COS), ("tan", op.TAN)):
    _of_angle(_name, _operation)


def _to_angle(name: str, operation: Momentary) -> None:
    def build(call: Call) -> Value:
        call.plain()
        return call.apply(operation, types.ANGLE, *call.arguments)

    FUNCTIONS[name] = Function(name, "x", f"the angle whose {name[1:]} is x", build, 1, 1)


for _name, _operation in (("asin", op.ASIN), ("acos", op.ACOS), ("atan", op.ATAN)):
    _to_angle(_name, _operation)


@function("y, x", 2)
def atan2(call: Call) -> Value:
    """The angle from the x axis to the point (x, y), -180 to 180°."""
    call.numbers()
    call.alike()
    return call.apply(op.ATAN2, types.ANGLE, *call.arguments)


@function("x, y, …", 2, _ANY)
def magnitude(call: Call) -> Value:
    """Length of the vector that has these components."""
    call.numbers()
    return call.apply(op.HYPOT, call.alike(), *call.arguments)


@function("x")
def abs_(call: Call) -> Value:
    """X without its sign."""
    call.numbers()
    return call.apply(op.ABS, call.arguments[0].type, *call.arguments)


def _of_several(name: str, operation: Momentary, summary: str) -> None:
    def build(call: Call) -> Value:
        kind = call.alike()
        if kind.form not in {Form.NUMBER, Form.POINT}:
            call.numbers()
        return call.apply(operation, kind, *call.arguments)

    FUNCTIONS[name] = Function(name, "x, y, …", summary, build, 2, _ANY)


_of_several("maximum", op.MAXIMUM, "the largest; no value where one is bad")
_of_several("minimum", op.MINIMUM, "the smallest; no value where one is bad")
_of_several("maximum_good", op.MAXIMUM_GOOD, "the largest of those that are good")
_of_several("minimum_good", op.MINIMUM_GOOD, "the smallest of those that are good")
_of_several("mean", op.MEAN, "the mean; no value where one is bad")
_of_several("median", op.MEDIAN, "the one in the middle; no value where one is bad")


@function("x, y, …", 2, _ANY)
def coalesce(call: Call) -> Value:
    """The first that is good."""
    return call.apply(op.COALESCE, call.alike(), *call.arguments)


@function("x, step", 2)
def round_(call: Call) -> Value:
    """X rounded to whole steps."""
    call.numbers()
    step = call.fixed(1, call.arguments[0].type, "the unit of x")
    if not step > 0.0:
        raise FormulaError(
            "round() needs a step above 0", column=call.arguments[1].column, valid="such as 0.1"
        )
    return call.apply(op.ROUND, call.arguments[0].type, *call.arguments)


@function("x, low, high", 3)
def clip(call: Call) -> Value:
    """X, but at least low and at most high."""
    return call.apply(op.CLIP, call.alike(), *call.arguments)


@function("t")
def absolute(call: Call) -> Value:
    """The absolute temperature of one in °C, in K."""
    value = call.of(types.POINT, 0, "°C")
    return call.value(value.node, types.KELVIN)


# ---------------------------------------------------------------------- of time


def _remembering(
    call: Call, start: Callable[..., Any], *parameters: Any, **more: Any
) -> Remembering:
    """An operation with a memory that is made with its parameters."""
    kept = {k: v for k, v in more.items() if k not in {"steady", "lack"}}
    rest = {k: v for k, v in more.items() if k in {"steady", "lack"}}
    rest.setdefault("lack", Quality.NOT_YET)
    make = partial(_make, start, parameters, kept)
    return Remembering(call.name, (*parameters, *kept.values()), start=make, **rest)


def _make(
    start: Callable[..., Any], parameters: tuple[Any, ...], kept: dict[str, Any], rows: int
) -> Any:
    return start(rows, *parameters, **kept)


def _same(x: Any, *further: Any, out: Any) -> None:
    del further
    out[...] = x


def _nothing(x: Any, *further: Any, out: Any) -> None:
    del further
    out[...] = np.where(np.isnan(x), np.nan, 0.0)


def _difference(kind: Type) -> Type:
    """What a difference of two values of a kind is."""
    return Type(kind.powers)


def _measured(call: Call) -> Type:
    kind = call.arguments[0].type
    if kind.form not in {Form.NUMBER, Form.POINT}:
        call.numbers(0)
    return kind


@function("x, time", 2)
def moving_mean(call: Call) -> Value:
    """Mean of the good values of the last while, each counted by its time."""
    kind, window = _measured(call), call.duration(1)
    operation = _remembering(
        call, Average, window, deviation=False, steady=_same, lack=Quality.BAD_INPUT
    )
    return call.apply(operation, kind, call.arguments[0])


@function("x, time", 2)
def moving_std(call: Call) -> Value:
    """Standard deviation of the good values of the last while about their mean."""
    kind, window = _measured(call), call.duration(1)
    operation = _remembering(
        call, Average, window, deviation=True, steady=_nothing, lack=Quality.BAD_INPUT
    )
    return call.apply(operation, _difference(kind), call.arguments[0])


def _extreme(call: Call, fold: Any, neutral: float) -> Value:
    kind, window = _measured(call), call.duration(1)
    operation = _remembering(
        call, Extreme, window, fold, neutral, steady=_same, lack=Quality.BAD_INPUT
    )
    return call.apply(operation, kind, call.arguments[0])


@function("x, time", 2)
def moving_min(call: Call) -> Value:
    """Smallest good value of the last while."""
    return _extreme(call, np.minimum, np.inf)


@function("x, time", 2)
def moving_max(call: Call) -> Value:
    """Largest good value of the last while."""
    return _extreme(call, np.maximum, -np.inf)


@function("x")
def rate(call: Call) -> Value:
    """Rate of change from the sample before, per second."""
    kind = _measured(call)
    operation = _remembering(call, Rate, call.terms.gap_s, steady=_nothing)
    powers = types.times(kind.powers, types.SECONDS.powers, -1.0)
    return call.apply(operation, Type(powers), call.arguments[0])


@function("x, time", 2)
def before(call: Call) -> Value:
    """X as it was a time before."""
    kind, window = _measured(call), call.duration(1)
    operation = _remembering(call, Earlier, call.terms.gap_s, window, steady=_same)
    return call.apply(operation, kind, call.arguments[0])


@function("x, time", 2)
def difference(call: Call) -> Value:
    """X less x as it was a time before."""
    earlier = before(call)
    return call.apply(op.SUBTRACT, _difference(earlier.type), call.arguments[0], earlier)


def _each(call: Call, place: int) -> Any:
    """Where a total begins anew: at the periods of a length on the wall clock."""
    if len(call.arguments) <= place:
        return None
    length = call.duration(place)
    try:
        return _Each(length, call.terms.zone.key, Periods(length, call.terms.zone))
    except QuantityError as error:
        column = call.arguments[place].column
        raise FormulaError(error.message, column=column, valid=error.valid) from None


@dataclass(frozen=True, slots=True)
class _Each:
    """Periods that are equal when length and zone are."""

    length_s: float
    zone: str
    periods: Any

    def __call__(self, times_s: Any) -> Any:
        return self.periods.starts(times_s)

    def __hash__(self) -> int:
        return hash((self.length_s, self.zone))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Each) and (self.length_s, self.zone) == (
            other.length_s,
            other.zone,
        )


@function("x, each", 1, 2)
def total(call: Call) -> Value:
    """Integral of x over time; with a second time ('1 d'), anew with each of them."""
    kind = call.arguments[0].type
    if kind.form is not Form.LOGICAL:  # of a condition: for how long it held in all
        call.numbers(0)
    operation = _remembering(call, Total, call.terms.gap_s, _each(call, 1))
    powers = types.times(kind.powers, types.SECONDS.powers)
    return call.apply(operation, Type(powers), call.arguments[0])


@function("condition, each", 1, 2)
def count(call: Call) -> Value:
    """How often a condition came true; with a time, anew with each of them."""
    operation = _remembering(call, Count, call.terms.gap_s, _each(call, 1))
    return call.apply(operation, types.PLAIN, call.condition(0))


@function("counter, size, each", 2, 3)
def increase(call: Call) -> Value:
    """Pulses of a counter that rolls over at its size, such as 65536."""
    call.plain(0)
    size = call.fixed(1, types.PLAIN, "counts, such as 65536")
    if not size > 1.0:
        raise FormulaError(
            "increase() needs the size of the counter",
            column=call.arguments[1].column,
            valid="65536",
        )
    operation = _remembering(call, Increase, call.terms.gap_s, size, _each(call, 2))
    return call.apply(operation, types.PLAIN, call.arguments[0])


@function("condition")
def duration(call: Call) -> Value:
    """For how long a condition has held without a break; 0 s while it does not."""
    operation = _remembering(call, Lasting, call.terms.gap_s)
    return call.apply(operation, types.SECONDS, call.condition(0))


@function("x, time", 2)
def hold(call: Call) -> Value:
    """The last good value, as long as it is no older than a time."""
    window = call.duration(1)
    operation = _remembering(call, Held, window, steady=_same, lack=Quality.TOO_OLD)
    return call.apply(operation, call.arguments[0].type, call.arguments[0])


@function("x, time", 2)
def low_pass(call: Call) -> Value:
    """First-order low-pass: after the time, 63 % of a step have come through."""
    kind, constant = _measured(call), call.duration(1)
    operation = _remembering(call, LowPass, call.terms.gap_s, constant, steady=_same)
    return call.apply(operation, kind, call.arguments[0])


@function("x, time", 2)
def settled(call: Call) -> Value:
    """X once it has stayed the same for a time; until then, what it was before."""
    time_s = call.duration(1)
    operation = _remembering(call, Settled, time_s, keeps=True, steady=_same)
    return call.apply(operation, call.arguments[0].type, call.arguments[0])
