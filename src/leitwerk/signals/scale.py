"""What every scale can do: convert, turn back, chain, know its domain, say why it gives no value.

A scale is a plain frozen value. A kind of scale says how a piece of an array is converted
(``forward``, and ``backward`` where there is an inverse) and from where to where it holds; the rest
is here.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.parsing.frames import like
from leitwerk.signals.chunks import all_inside, in_chunks
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

Ends: TypeAlias = tuple[float, float]
EVERYWHERE: Ends = (-math.inf, math.inf)


class Scale(ABC):
    """A relation from signal to value.

    Values outside the domain are NaN, never extrapolated; ``convert`` says why beside them.
    """

    __slots__ = ()

    @property
    def domain(self) -> Ends:
        """The signals for which the scale holds."""
        return EVERYWHERE

    @property
    def span(self) -> Ends:
        """The values that it can give."""
        low, high = self.domain
        if not (math.isfinite(low) and math.isfinite(high)):
            return EVERYWHERE
        ends = self.value(np.array([low, high])).tolist()
        return min(ends), max(ends)

    @property
    def has_inverse(self) -> bool:
        """Whether a value stands for one signal only."""
        return True

    @abstractmethod
    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fill ``out`` with the values of signals that lie inside the domain; it may be ``x``."""

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fill ``out`` with the signals of values that lie inside the span; it may be ``y``."""
        del y, out
        raise DomainError(f"{self} cannot be turned back: a value stands for several signals")

    @abstractmethod
    def __str__(self) -> str:
        """The relation as people would write it."""

    def value(self, signal: ArrayLike) -> NDArray[np.float64]:
        """Values that signals stand for.

        Parameters
        ----------
        signal : array_like, in the unit of the scale's signal
            Any shape and real type. NaN, and what lies outside the domain, gives NaN.

        Returns
        -------
        ndarray of the same shape, float64; for a Series of pandas, a Series with its index

        """
        return in_chunks(self.forward_inside, signal)

    def signal(self, value: ArrayLike) -> NDArray[np.float64]:
        """Signals that values stand for: the inverse.

        Parameters
        ----------
        value : array_like, in the unit of the scale's value
            Any shape and real type. NaN, and what no signal gives, gives NaN.

        Returns
        -------
        ndarray of the same shape, float64

        Raises
        ------
        DomainError
            The scale has no inverse.

        """
        if not self.has_inverse:
            raise DomainError(f"{self} cannot be turned back: a value stands for several signals")
        return in_chunks(self.backward_inside, value)

    def forward_inside(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As ``forward``, for any number: NaN outside the domain."""
        _guarded(self.forward, self.domain, x, out)

    def backward_inside(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As ``backward``, for any number: NaN outside the span."""
        _guarded(self.backward, self.span, y, out)

    def convert(
        self, signal: ArrayLike, quality: ArrayLike | None = None
    ) -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
        """Values with their quality.

        Parameters
        ----------
        signal : array_like, in the unit of the scale's signal
        quality : array_like of the same shape, optional
            What is known of the signals already; a reason found earlier stays.

        Returns
        -------
        values : ndarray, float64
            NaN wherever the quality is bad.
        qualities : ndarray of the same shape, uint8
            A ``Quality`` for each value.

        """
        values, qualities = self._converted(signal, quality)
        return like(signal, values), like(signal, qualities)

    def _converted(
        self, signal: ArrayLike, quality: ArrayLike | None
    ) -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
        x = np.asarray(signal, dtype=np.float64)
        values = self.value(x)
        found = self.quality(x, values)
        if quality is None:
            return values, found
        # The first reason is the cause: what was bad before this scale stays bad for that reason, and
        # this scale's own reason counts only for signals that were good.
        before = np.asarray(quality, dtype=np.uint8)
        if not np.count_nonzero(before):
            return values, found
        qualities = np.where(before == Quality.GOOD, found, before)
        # What was uncertain before and has no value now is bad, for the later reason.
        lost = ~np.isfinite(values) & (before >= Quality.UNDER_LIMIT)
        qualities = np.where(lost, found, qualities)
        bad = (qualities != Quality.GOOD) & (qualities < Quality.UNDER_LIMIT)
        return np.where(bad, np.nan, values), qualities

    def quality(self, x: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.uint8]:
        """Why values are NaN or uncertain; GOOD where they are not."""
        result = np.zeros(x.shape, dtype=np.uint8)
        finite = np.isfinite(values)
        if np.count_nonzero(finite) < values.size:
            missing = ~finite
            low, high = self.domain
            with np.errstate(invalid="ignore"):
                result[missing] = self.ambiguity
                result[missing & (x < low)] = Quality.BELOW_RANGE
                result[missing & (x > high)] = Quality.ABOVE_RANGE
            result[~np.isfinite(x)] = Quality.NO_NUMBER
        return result

    @property
    def ambiguity(self) -> Quality:
        """Why there is no value for a signal inside the domain."""
        return Quality.ABOVE_RANGE

    def then(self, *after: Scale) -> Chain:
        """The chain of this scale and others on what it gives."""
        return Chain.of(self, *after)

    def inverse(self) -> Inverse:
        """The scale the other way round, as a scale.

        Raises
        ------
        DomainError
            It has no inverse.

        """
        return Inverse(self)


def _guarded(kernel: object, ends: Ends, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
    low, high = ends
    if (low, high) == EVERYWHERE or all_inside(x, low, high):
        kernel(x, out)  # type: ignore[operator]
        return
    inside = (x >= low) & (x <= high)
    # A signal that is inside stands in for those that are not, so that nothing odd is computed.
    safe = low if math.isfinite(low) else high
    kernel(np.where(inside, x, safe), out)  # type: ignore[operator]
    out[~inside] = np.nan


@dataclass(frozen=True, slots=True)
class Chain(Scale):
    """Scales one after the other; without a stage, what goes in comes out.

    Examples
    --------
    >>> from leitwerk.signals.linear import TwoPoint
    >>> shunt, level = TwoPoint(0.0, 5.0, 0.0, 20.0), TwoPoint(4.0, 20.0, 0.0, 2.5)
    >>> float(shunt.then(level).value(3.0))
    1.25

    """

    stages: tuple[Scale, ...] = ()

    @classmethod
    def of(cls, *scales: Scale) -> Chain:
        """A chain; the stages of chains become stages, so that chains associate."""
        stages: list[Scale] = []
        for scale in scales:
            stages += scale.stages if isinstance(scale, Chain) else [scale]
        return cls(tuple(stages))

    @property
    def domain(self) -> Ends:
        """The signals that every stage can take, as far as the stages can be turned back."""
        low, high = EVERYWHERE
        for stage in reversed(self.stages):
            first, last = stage.span
            low, high = max(low, first), min(high, last)
            if low > high or not stage.has_inverse:
                low, high = stage.domain if low <= high else (math.nan, math.nan)
                continue
            ends = [_back(stage, low, stage.domain), _back(stage, high, stage.domain)]
            low, high = min(ends), max(ends)
        return low, high

    @property
    def span(self) -> Ends:
        """The values that the last stage can give for what the others let through."""
        low, high = self.domain
        if not (math.isfinite(low) and math.isfinite(high)):
            return self.stages[-1].span if self.stages else EVERYWHERE
        ends = self.value(np.array([low, high]))
        return float(np.fmin.reduce(ends)), float(np.fmax.reduce(ends))

    @property
    def has_inverse(self) -> bool:
        """Whether every stage has one."""
        return all(stage.has_inverse for stage in self.stages)

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Through all stages, each in the place of the one before."""
        if not self.stages:
            out[...] = x
        for stage in self.stages:
            stage.forward_inside(x, out)
            x = out

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Back through all stages."""
        if not self.stages:
            out[...] = y
        for stage in reversed(self.stages):
            stage.backward_inside(y, out)
            y = out

    # Each stage keeps to its own domain.
    forward_inside = forward
    backward_inside = backward

    def convert(
        self, signal: ArrayLike, quality: ArrayLike | None = None
    ) -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
        """Stage by stage; the reason of the first that gives one stays."""
        values = np.asarray(signal, dtype=np.float64)
        qualities = np.zeros(values.shape, dtype=np.uint8)
        if quality is not None:
            qualities += np.asarray(quality, dtype=np.uint8)
        for stage in self.stages:
            values, qualities = stage.convert(values, qualities)
        return values, qualities

    def quality(self, x: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.uint8]:
        """The reason of the first stage that gives one."""
        del values
        return self.convert(x)[1]

    def without(self, kind: type[Scale]) -> Chain:
        """The chain with all stages of a kind taken off."""
        return Chain(tuple(stage for stage in self.stages if not isinstance(stage, kind)))

    def __str__(self) -> str:
        return ", then ".join(map(str, self.stages)) or "as it is"


@dataclass(frozen=True, slots=True)
class Inverse(Scale):
    """Another scale the other way round: from its values to its signals."""

    of: Scale

    def __post_init__(self) -> None:
        if not self.of.has_inverse:
            raise DomainError(
                f"{self.of} cannot be turned back: a value stands for several signals"
            )

    @property
    def domain(self) -> Ends:
        """The values of the other."""
        return self.of.span

    @property
    def span(self) -> Ends:
        """The signals of the other."""
        return self.of.domain

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The other's way back."""
        self.of.backward_inside(x, out)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The other's way forth."""
        self.of.forward_inside(y, out)

    def __str__(self) -> str:
        return f"backwards: {self.of}"


class Wrapped(Scale):
    """A scale with something more known about it; ``relation`` is the scale itself."""

    __slots__ = ()

    relation: Scale

    @property
    def domain(self) -> Ends:
        """That of the relation."""
        return self.relation.domain

    @property
    def span(self) -> Ends:
        """That of the relation."""
        return self.relation.span

    @property
    def has_inverse(self) -> bool:
        """Whether the relation has one."""
        return self.relation.has_inverse

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As the relation does."""
        self.relation.forward_inside(x, out)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As the relation does."""
        self.relation.backward_inside(y, out)

    def convert(
        self, signal: ArrayLike, quality: ArrayLike | None = None
    ) -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
        """As the relation does."""
        return self.relation.convert(signal, quality)

    def quality(self, x: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.uint8]:
        """What the relation says."""
        return self.relation.quality(x, values)


@dataclass(frozen=True)
class Labelled(Wrapped):
    """A scale under a name that says more to people than its stages do."""

    label: str
    relation: Scale

    def __str__(self) -> str:
        return self.label


def _back(stage: Scale, value: float, domain: Ends) -> float:
    if math.isfinite(value):
        return float(stage.signal(value))
    # Where values have no end, neither have signals; the end values show which way round.
    rising = float(stage.value(1.0)) >= float(stage.value(0.0))
    return domain[1] if (value > 0) is rising else domain[0]
