"""What one node of a formula does: operations on the moment, and operations with a memory."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Operation:
    """Something that is computed. Equal operations have equal names and parameters.

    ``lack`` says why there is no value where every argument has one. ``judge``, called with the arguments,
    says the same sample by sample, and where there is a value that may be off: a ``Quality`` for each.
    """

    name: str
    parameters: tuple[Hashable, ...] = ()
    lack: Quality = field(default=Quality.UNDEFINED, kw_only=True)
    judge: Callable[..., NDArray[np.uint8]] | None = field(
        default=None, compare=False, kw_only=True
    )
    counts: bool = field(default=False, compare=False, kw_only=True)


@dataclass(frozen=True, slots=True)
class Momentary(Operation):
    """Works one moment from the same moment: ``work(*arguments, out=...)``, as a ufunc of NumPy.

    ``takes_gaps`` says that it can have a value where an argument has none.
    """

    work: Callable[..., Any] = field(compare=False, kw_only=True)
    takes_gaps: bool = field(default=False, kw_only=True)


class Memory(ABC):
    """What an operation remembers of the samples before. Made for several rows that are alike.

    Any division of the samples into pieces gives exactly the same results.
    """

    @abstractmethod
    def run(self, times_s: Array, *arguments: Array) -> Array:
        """The results of a piece of samples.

        Parameters
        ----------
        times_s : array of shape (n,), in s
            Never falling, also from piece to piece.
        *arguments : arrays of shape (n, rows)
            NaN where there is no value. They are not written to.

        Returns
        -------
        array of shape (n, rows)

        """

    @abstractmethod
    def state(self) -> dict[str, Any]:
        """All that it remembers, as plain data for JSON."""

    @abstractmethod
    def resume(self, state: dict[str, Any]) -> None:
        """Go on from a state."""


@dataclass(frozen=True, slots=True)
class Remembering(Operation):
    """Works one moment from this one and those before.

    ``start`` makes its memory, for some rows and for the gap that each of them bridges, in s, of shape
    (rows,); None where only the setup says it. ``steady`` is its value when its first argument stays as it
    is; None when that depends on the time that passes.
    """

    start: Callable[[int, Array | None], Memory] = field(compare=False, kw_only=True)
    steady: Callable[..., Any] | None = field(default=None, compare=False, kw_only=True)
    takes_gaps: bool = field(default=True, kw_only=True)


def unknown_where(*arguments: Array, out: Array) -> Array:
    """Take the result away where an argument has none."""
    for argument in arguments:
        missing = np.isnan(argument)
        if missing.any():
            out[np.broadcast_to(missing, out.shape)] = np.nan
    return out


def logical(work: Callable[..., Any]) -> Callable[..., Array]:
    """A comparison of NumPy with numbers for results: 1 for yes, 0 for no, NaN where not known."""

    def compare(*arguments: Array, out: Array) -> Array:
        out[...] = work(*arguments)
        return unknown_where(*arguments, out=out)

    return compare


def _both(left: Array, right: Array, out: Array) -> Array:
    """Yes and unknown is unknown; no and unknown is no."""
    np.minimum(left, right, out=out)  # NaN where either is
    out[np.broadcast_to((left == 0.0) | (right == 0.0), out.shape)] = 0.0
    return out


def _either(left: Array, right: Array, out: Array) -> Array:
    np.maximum(left, right, out=out)
    out[np.broadcast_to((left == 1.0) | (right == 1.0), out.shape)] = 1.0
    return out


def _chosen(condition: Array, if_so: Array, otherwise: Array, out: Array) -> Array:
    out[...] = np.where(condition != 0.0, if_so, otherwise)
    return unknown_where(condition, out=out)


def _first_good(*arguments: Array, out: Array) -> Array:
    out[...] = arguments[-1]
    for argument in reversed(arguments[:-1]):
        np.copyto(out, argument, where=~np.isnan(argument))
    return out


def _stacked(arguments: tuple[Array, ...], out: Array) -> Array:
    return np.stack([np.broadcast_to(argument, out.shape) for argument in arguments])


def _folded(fold: Callable[..., Any]) -> Callable[..., Array]:
    """A function of two arguments over any number of them."""

    def over_all(*arguments: Array, out: Array) -> Array:
        fold(arguments[0], arguments[1], out=out)
        for argument in arguments[2:]:
            fold(out, argument, out=out)
        return out

    return over_all


def _mean(*arguments: Array, out: Array) -> Array:
    _folded(np.add)(*arguments, out=out)
    np.divide(out, float(len(arguments)), out=out)
    return out


def _median(*arguments: Array, out: Array) -> Array:
    every = np.sort(_stacked(arguments, out), axis=0)  # NaN last
    middle = len(arguments) // 2
    if len(arguments) % 2:
        out[...] = every[middle]
    else:
        out[...] = (every[middle - 1] + every[middle]) / 2.0
    out[np.isnan(every[-1])] = np.nan
    return out


def _compass(north: Array, east: Array, out: Array) -> Array:
    """The direction of a vector in rad, 0 to 2 pi; none for a vector of no length."""
    np.arctan2(east, north, out=out)
    np.mod(out, 2.0 * np.pi, out=out)
    out[np.broadcast_to((north == 0.0) & (east == 0.0), out.shape)] = np.nan
    return out


def _rounded(x: Array, step: Array, out: Array) -> Array:
    np.divide(x, step, out=out)
    np.rint(out, out=out)
    np.multiply(out, step, out=out)
    return out


def _clipped(x: Array, low: Array, high: Array, out: Array) -> Array:
    np.maximum(x, low, out=out)
    np.minimum(out, high, out=out)
    return out


def _of(name: str, work: Callable[..., Any], **more: Any) -> Momentary:
    return Momentary(name, work=work, **more)


ADD, SUBTRACT = _of("+", np.add), _of("-", np.subtract)
MULTIPLY, DIVIDE = _of("*", np.multiply), _of("/", np.divide)
POWER, SQUARE = _of("**", np.power), _of("square", np.square)
NEGATE, NOT = _of("negate", np.negative), _of("not", lambda x, out: np.subtract(1.0, x, out=out))
AND, OR = _of("and", _both, takes_gaps=True), _of("or", _either, takes_gaps=True)
CHOOSE = _of("if", _chosen, takes_gaps=True)
COMPARE = {
    name: _of(name, logical(work))
    for name, work in (
        ("<", np.less), ("<=", np.less_equal), (">", np.greater), (">=", np.greater_equal),
        ("==", np.equal), ("!=", np.not_equal),
    )
}  # fmt: skip
SQRT, EXP, LOG, LOG10 = (
    _of("sqrt", np.sqrt), _of("exp", np.exp), _of("log", np.log), _of("log10", np.log10)
)  # fmt: skip
LOG2 = _of("log2", np.log2)
SIN, COS, TAN = _of("sin", np.sin), _of("cos", np.cos), _of("tan", np.tan)
ASIN, ACOS, ATAN = _of("asin", np.arcsin), _of("acos", np.arccos), _of("atan", np.arctan)
ATAN2, HYPOT = _of("atan2", np.arctan2), _of("magnitude", _folded(np.hypot))
COMPASS = _of("direction", _compass)
ABS = _of("abs", np.absolute)
MAXIMUM, MINIMUM = _of("maximum", _folded(np.maximum)), _of("minimum", _folded(np.minimum))
MAXIMUM_GOOD = _of("maximum_good", _folded(np.fmax), takes_gaps=True)
MINIMUM_GOOD = _of("minimum_good", _folded(np.fmin), takes_gaps=True)
MEAN, MEDIAN = _of("mean", _mean), _of("median", _median)
ROUND, CLIP = _of("round", _rounded), _of("clip", _clipped)
COALESCE = _of("coalesce", _first_good, takes_gaps=True)
