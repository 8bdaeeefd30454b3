"""Functions that work one moment from the same moment."""

from __future__ import annotations

from leitwerk.derived import operations as op
from leitwerk.derived import types
from leitwerk.derived.function import Call, Functions
from leitwerk.derived.operations import Momentary
from leitwerk.derived.types import Form, Type
from leitwerk.derived.values import Value

MOMENT = Functions()


@MOMENT.define("x")
def sqrt(call: Call) -> Value:
    """Square root, also of quantities: of m², m."""
    call.numbers()
    return call.apply(op.SQRT, Type(types.to_the(call["x"].type.powers, 0.5)), call["x"])


def _plain(name: str, operation: Momentary, summary: str) -> None:
    def build(call: Call) -> Value:
        call.plain()
        return call.apply(operation, types.PLAIN, call["x"])

    MOMENT.add(name, "x", summary, build)


_plain("exp", op.EXP, "The exponential function")
_plain("log", op.LOG, "Natural logarithm")
_plain("log10", op.LOG10, "Decimal logarithm")
_plain("log2", op.LOG2, "Logarithm to the base 2")


def _of_angle(name: str, operation: Momentary, what: str) -> None:
    def build(call: Call) -> Value:
        if not call["angle"].type.is_plain:  # a plain number is one in rad
            call.of(types.ANGLE, "angle", "° or rad")
        return call.apply(operation, types.PLAIN, call["angle"])

    MOMENT.add(name, "angle", f"{what} of an angle; a plain number is in rad", build)


def _to_angle(name: str, operation: Momentary, what: str) -> None:
    def build(call: Call) -> Value:
        call.plain()
        return call.apply(operation, types.ANGLE, call["x"])

    MOMENT.add(name, "x", f"The angle whose {what} is x", build)


_of_angle("sin", op.SIN, "Sine")
_of_angle("cos", op.COS, "Cosine")
_of_angle("tan", op.TAN, "Tangent")
_to_angle("asin", op.ASIN, "sine")
_to_angle("acos", op.ACOS, "cosine")
_to_angle("atan", op.ATAN, "tangent")


@MOMENT.define("y, x")
def atan2(call: Call) -> Value:
    """The angle from the x axis to the point (x, y), -180 to 180°."""
    call.numbers()
    call.alike()
    return call.apply(op.ATAN2, types.ANGLE, call["y"], call["x"])


@MOMENT.define("north, east")
def direction(call: Call) -> Value:
    """The direction of a vector as a compass shows it, 0 to 360° clockwise from north."""
    call.numbers()
    call.alike()
    return call.apply(op.COMPASS, types.ANGLE, call["north"], call["east"])


@MOMENT.define("x, y, …")
def magnitude(call: Call) -> Value:
    """Length of the vector that has these components."""
    call.numbers()
    return call.apply(op.HYPOT, call.alike(), *call.every())


@MOMENT.define("x")
def abs_(call: Call) -> Value:
    """The amount of x, without its sign."""
    call.numbers()
    return call.apply(op.ABS, call["x"].type, call["x"])


def _several(name: str, operation: Momentary, summary: str) -> None:
    def build(call: Call) -> Value:
        kind = call.alike()
        if kind.form is not Form.POINT:
            call.numbers()
        return call.apply(operation, kind, *call.every())

    MOMENT.add(name, "x, y, …", summary, build)


_several("maximum", op.MAXIMUM, "The largest; no value where one is bad")
_several("minimum", op.MINIMUM, "The smallest; no value where one is bad")
_several("maximum_good", op.MAXIMUM_GOOD, "The largest of those that are good")
_several("minimum_good", op.MINIMUM_GOOD, "The smallest of those that are good")
_several("mean", op.MEAN, "The mean; no value where one is bad")
_several("median", op.MEDIAN, "The one in the middle; no value where one is bad")


@MOMENT.define("x, y, …")
def coalesce(call: Call) -> Value:
    """The first that is good."""
    return call.apply(op.COALESCE, call.alike(), *call.every())


@MOMENT.define("x, step")
def round_(call: Call) -> Value:
    """The nearest whole number of steps to x."""
    call.numbers()
    call.above_zero("step", call["x"].type, "the unit of x, such as 0.1")
    return call.apply(op.ROUND, call["x"].type, call["x"], call["step"])


@MOMENT.define("x, low, high")
def clip(call: Call) -> Value:
    """At least low, at most high, and x between them."""
    return call.apply(op.CLIP, call.alike(), *call.every("x", "low", "high"))


@MOMENT.define("t")
def absolute(call: Call) -> Value:
    """The absolute temperature of one in °C, in K."""
    return call.value(call.of(types.POINT, "t", "°C").node, types.KELVIN)
