"""Functions of time: they work one moment from this one and those before, by time and not by count."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from leitwerk.derived import operations as op
from leitwerk.derived import types
from leitwerk.derived.function import Call, Functions
from leitwerk.derived.moving import Average, Extreme
from leitwerk.derived.operations import Momentary, Remembering
from leitwerk.derived.periods import Periods
from leitwerk.derived.remembered import (
    Count,
    Earlier,
    Gaps,
    Held,
    Increase,
    Lasting,
    LowPass,
    OnALine,
    Rate,
    Settled,
    Total,
)
from leitwerk.derived.types import Form, Type
from leitwerk.derived.values import Gap, Value
from leitwerk.errors import QuantityError
from leitwerk.signals.quality import Quality

OF_TIME = Functions()


def remembering(
    call: Call,
    start: Callable[..., Any],
    *parameters: Any,
    steady: Callable[..., Any] | None = None,
    lack: Quality = Quality.NOT_YET,
    counts: bool = False,
    **named: Any,
) -> Remembering:
    """An operation whose memory is made with these parameters."""
    make = partial(_make, start, parameters, named)
    known = (*parameters, *named.values())
    return Remembering(call.name, known, start=make, steady=steady, lack=lack, counts=counts)


def _make(
    start: Callable[..., Any],
    parameters: tuple[Any, ...],
    named: dict[str, Any],
    rows: int,
    gap_s: Any,
) -> Any:
    given = [
        (p.live_s if gap_s is None else gap_s) if isinstance(p, Gap) else p for p in parameters
    ]
    return start(rows, *given, **named)


def _same(x: Any, *further: Any, out: Any) -> None:
    del further
    out[...] = x


def _nothing(x: Any, *further: Any, out: Any) -> None:
    del further
    out[...] = np.where(np.isnan(x), np.nan, 0.0)


def _difference(kind: Type) -> Type:
    """What a difference of two values of a kind is."""
    return Type(kind.powers)


# ---------------------------------------------------------------------- over a while


def _average(call: Call, *, deviation: bool) -> Value:
    kind = call.measured("x")
    operation = remembering(
        call, Average, call.duration("time"), deviation=deviation,
        steady=_nothing if deviation else _same, lack=Quality.BAD_INPUT,
    )  # fmt: skip
    return call.apply(operation, _difference(kind) if deviation else kind, call["x"])


@OF_TIME.define("x, time")
def moving_mean(call: Call) -> Value:
    """Mean of the good values of the last while, each counted by its time."""
    return _average(call, deviation=False)


@OF_TIME.define("x, time")
def moving_std(call: Call) -> Value:
    """Standard deviation of the good values of the last while about their mean."""
    return _average(call, deviation=True)


def _extreme(call: Call, fold: Any, neutral: float) -> Value:
    kind, window = call.measured("x"), call.duration("time")
    operation = remembering(
        call, Extreme, window, fold, neutral, steady=_same, lack=Quality.BAD_INPUT
    )
    return call.apply(operation, kind, call["x"])


@OF_TIME.define("x, time")
def moving_min(call: Call) -> Value:
    """Smallest good value of the last while."""
    return _extreme(call, np.minimum, np.inf)


@OF_TIME.define("x, time")
def moving_max(call: Call) -> Value:
    """Largest good value of the last while."""
    return _extreme(call, np.maximum, -np.inf)


@OF_TIME.define("angle, time")
def moving_direction(call: Call) -> Value:
    """Mean direction of the last while, 0 to 360°: that of the sum of unit vectors."""
    angle, window = call.of(types.ANGLE, "angle", "°"), call.duration("time")
    mean = remembering(call, Average, window, deviation=False, steady=_same, lack=Quality.BAD_INPUT)
    north = call.apply(mean, types.PLAIN, call.apply(op.COS, types.PLAIN, angle))
    east = call.apply(mean, types.PLAIN, call.apply(op.SIN, types.PLAIN, angle))
    return call.apply(op.COMPASS, types.ANGLE, north, east)


@OF_TIME.define("x, time")
def low_pass(call: Call) -> Value:
    """First-order low-pass: after the time, 63 % of a step have come through."""
    kind, constant = call.measured("x"), call.duration("time")
    operation = remembering(call, LowPass, call.terms.gap, constant, steady=_same)
    return call.apply(operation, kind, call["x"])


# ---------------------------------------------------------------------- against before


@OF_TIME.define("x")
def rate(call: Call) -> Value:
    """Rate of change from the sample before."""
    kind = call.measured("x")
    operation = remembering(call, Rate, call.terms.gap, steady=_nothing)
    return call.apply(
        operation, Type(types.times(kind.powers, types.SECONDS.powers, -1.0)), call["x"]
    )


@OF_TIME.define("x, time")
def before(call: Call) -> Value:
    """The value of x a time before."""
    kind, window = call.measured("x"), call.duration("time")
    operation = remembering(call, Earlier, call.terms.gap, window, steady=_same)
    return call.apply(operation, kind, call["x"])


@OF_TIME.define("x, time")
def difference(call: Call) -> Value:
    """The change of x since a time before."""
    earlier = before(call)
    return call.apply(op.SUBTRACT, _difference(earlier.type), call["x"], earlier)


def held_for(time_s: float) -> Remembering:
    """The last good value, as long as it is no older than a time."""
    make = partial(_make, Held, (time_s,), {})
    return Remembering("hold", (time_s,), start=make, steady=_same, lack=Quality.TOO_OLD)


@OF_TIME.define("x, time")
def hold(call: Call) -> Value:
    """The last good value, as long as it is no older than a time."""
    return call.apply(held_for(call.duration("time")), call["x"].type, call["x"])


def on_a_line(late_s: float, *, steps: bool) -> Remembering:
    """The value a time before, on a line between the samples about that moment."""
    make = partial(_make, OnALine, (late_s,), {"steps": steps})
    return Remembering(
        "interpolated", (late_s, steps), start=make, steady=_same, lack=Quality.NOT_YET
    )


@OF_TIME.define("x, time")
def interpolated(call: Call) -> Value:
    """The value of x a time before, on a line between the samples about it, no further apart than that."""
    kind = call.measured("x")
    return call.apply(on_a_line(call.duration("time"), steps=False), kind, call["x"])


@OF_TIME.define("x, time")
def settled(call: Call) -> Value:
    """The value of x once it has stayed the same for a time; until then, the one before."""
    operation = remembering(call, Settled, call.duration("time"), keeps=True, steady=_same)
    return call.apply(operation, call["x"].type, call["x"])


# ---------------------------------------------------------------------- since the beginning


@dataclass(frozen=True, slots=True)
class _Each:
    """Where a total begins anew; equal when length and zone are."""

    length_s: float
    zone: str
    periods: Any

    def __call__(self, times_s: Any) -> Any:
        return self.periods.starts(times_s)

    def __hash__(self) -> int:
        return hash((self.length_s, self.zone))

    def __eq__(self, other: object) -> bool:
        same = isinstance(other, _Each) and self.length_s == other.length_s
        return same and self.zone == other.zone  # type: ignore[attr-defined]


def each_of(call: Call) -> _Each | None:
    """Where a total begins anew, None where it never does."""
    if "each" not in call:
        return None
    length = call.duration("each")
    try:
        return _Each(length, call.terms.zone.key, Periods(length, call.terms.zone))
    except QuantityError as error:
        raise call.refusal("each", error.message, error.valid) from None


@OF_TIME.define("x, [each]")
def total(call: Call) -> Value:
    """Integral over time, of a condition the time for which it held; each '1 d', anew every day."""
    kind = call["x"].type
    added = call["x"]
    if kind.form is Form.LOGICAL and added.text is None:
        added = held(call, "x")
    else:
        call.numbers("x")
    operation = remembering(call, Total, call.terms.gap, each_of(call), counts=True)
    summed = call.apply(operation, Type(types.times(kind.powers, types.SECONDS.powers)), added)
    return marked_for_gaps(call, summed, added)


def held(call: Call, parameter: str) -> Value:
    """A condition that does not hold where it has no value although all that it is computed from is there.

    At rest, no gear is in: that is no gap. A condition whose inputs are missing has no value.
    """
    condition = call.condition(parameter)
    below = call.graph.beneath(condition.node)
    inputs = [call.value(k, types.PLAIN) for k in below if call.graph.nodes[k].name]
    return call.apply(_HELD, condition.type, condition, *inputs)


def _held(condition: Any, *inputs: Any, out: Any) -> None:
    there = np.ones(out.shape, bool)
    for x in inputs:
        there &= ~np.isnan(x)
    out[...] = np.where(np.isnan(condition) & there, 0.0, condition)


_HELD = Momentary("held", work=_held, takes_gaps=True)


def gaps_of(call: Call) -> Remembering:
    """The time in gaps of a value."""
    make = partial(_make, Gaps, (call.terms.gap, each_of(call)), {})
    return Remembering("gaps", (call.terms.gap, each_of(call)), start=make)


def marked_for_gaps(call: Call, summed: Value, of: Value) -> Value:
    """A total, marked as incomplete once a gap of what is added up was left out."""
    lost = call.apply(gaps_of(call), types.SECONDS, of)
    return call.apply(_MARKED, summed.type, summed, lost)


def _first(summed: Any, lost: Any, out: Any) -> None:
    del lost
    out[...] = summed


def _is_incomplete(summed: Any, lost: Any) -> Any:
    del summed
    return np.where(lost > 0.0, np.uint8(Quality.INCOMPLETE), np.uint8(Quality.GOOD))


_MARKED = Momentary("marked for gaps", work=_first, judge=_is_incomplete, counts=True)


@OF_TIME.define("x, [each]")
def gaps(call: Call) -> Value:
    """The time in gaps, which total and cost leave out; each '1 d', anew every day."""
    return call.apply(gaps_of(call), types.SECONDS, call["x"])


@OF_TIME.define("condition, [each]")
def count(call: Call) -> Value:
    """How often a condition came true; each '1 d', anew every day."""
    operation = remembering(call, Count, call.terms.gap, each_of(call), counts=True)
    return call.apply(operation, types.PLAIN, held(call, "condition"))


@OF_TIME.define("counter, size, [each]")
def increase(call: Call) -> Value:
    """Pulses of a counter that rolls over at its size, such as 65536; each '1 d', anew every day."""
    call.plain("counter")
    size = call.above_zero("size", types.PLAIN, "such as 65536")
    operation = remembering(call, Increase, size, each_of(call), counts=True)
    return call.apply(operation, types.PLAIN, call["counter"])


@OF_TIME.define("condition")
def duration(call: Call) -> Value:
    """For how long a condition has held without a break; 0 s while it does not."""
    operation = remembering(call, Lasting, call.terms.gap)
    return call.apply(operation, types.SECONDS, call.condition("condition"))
