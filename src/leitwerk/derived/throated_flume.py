"""Flumes with a long throat, rectangular, trapezoidal or U-shaped: flow from the critical depth in it.

The water close to the walls is slower. This layer counts as displaced: 0.3 % of the length of the throat,
from every wall and from the bottom.

References
----------
ISO 4359:2013, rectangular, trapezoidal and U-shaped flumes; M. G. Bos, Discharge Measurement Structures
(1989), chapters 1 and 7.

"""

from __future__ import annotations

import math
from abc import abstractmethod
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from leitwerk.derived.open_channel import GRAVITY, OpenChannel
from leitwerk.errors import DomainError
from leitwerk.signals.scale import Ends

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array: TypeAlias = NDArray[np.float64]

DISPLACED = 0.003  # of the length of the throat
_LEAST_HEAD, _GREATEST_HEAD = 0.05, 2.0  # m
_HEAD_PER_LENGTH, _LEAST_PER_LENGTH = 0.5, 0.05
_AREA_SHARE = 0.7  # of the channel before it, which the throat may fill at most
_MOST_SHARE = 0.9  # from which on there is no value
_STEPS = 8  # of Newton's method; 5 are enough at the ends of validity


class ThroatedFlume(OpenChannel):
    """What the shapes have in common: a throat with a ``section``, in a channel with an ``approach``."""

    __slots__ = ()

    length: float
    channel: float
    hump: float

    @abstractmethod
    def section(self, depth: Array, displaced: float = 0.0) -> tuple[Array, Array, Array]:
        """Area, width of the surface and its change with depth, without a displaced layer; SI units."""

    @abstractmethod
    def approach(self, depth: Array) -> Array:
        """The area of the channel before the throat, in m², at a depth above its own bottom."""

    @property
    def valid(self) -> Ends:
        """Heads of ISO 4359: 5 cm or 5 % of the length, to half of the length or 70 % of the channel."""
        low = max(_LEAST_HEAD, _LEAST_PER_LENGTH * self.length)
        high = min(_GREATEST_HEAD, _HEAD_PER_LENGTH * self.length, self._fills(_AREA_SHARE))
        return low, max(low, high)

    @property
    def domain(self) -> Ends:
        """To twice the greatest head, as far as the channel before the throat is larger than the throat."""
        return -math.inf, min(2.0 * self.valid[1], self._fills(_MOST_SHARE))

    def _fills(self, share: float) -> float:
        """The head at which the throat fills this share of the channel before it."""
        heads = np.linspace(_LEAST_HEAD, 2.0 * _GREATEST_HEAD, 4000)
        fills = self.section(heads)[0] > share * self.approach(heads + self.hump)
        return float(heads[int(np.argmax(fills))]) if fills.any() else math.inf

    def flow(self, head: Array) -> Array:
        """Flow in m³/s: that at which the energy before the throat is that of the critical depth in it."""
        layer = DISPLACED * self.length
        effective = np.maximum(head - layer, 1e-6)
        before = 2.0 * GRAVITY * self.approach(head + self.hump) ** 2
        depth = 0.7 * effective
        for _ in range(_STEPS):
            area, width, rise = self.section(depth, layer)
            squared = GRAVITY * area**3 / width
            left = effective + squared / before - depth - area / (2.0 * width)
            slope = (
                GRAVITY * area**2 * (3.0 - area * rise / width**2) / before
                - 1.5
                + area * rise / (2.0 * width**2)
            )
            depth = np.clip(depth - left / slope, 1e-3 * effective, effective)
        area, width, _ = self.section(depth, layer)
        return np.where(head > layer, np.sqrt(GRAVITY * area**3 / width), 0.0)

    def _require(self, size: float) -> None:
        least = np.array([_LEAST_HEAD])
        wide = 2.0 * DISPLACED * self.length < size <= self.channel
        if not (self.length > 0.0 and self.hump >= 0.0 and wide):
            raise DomainError(
                f"a throat of {size:g} m × {self.length:g} m in a channel of {self.channel:g} m is no flume",
                remedy="a channel at least as wide as the throat, lengths above 0 m, a hump of 0 m or more",
            )
        if not (self.section(least)[0] < _AREA_SHARE * self.approach(least + self.hump))[0]:
            raise DomainError(
                "the throat fills more than 70 % of the channel before it: its depth may not be critical",
                remedy="a wider channel before the throat, or a hump",
            )


@dataclass(frozen=True, slots=True)
class TrapezoidalFlume(ThroatedFlume):
    """A throat with a flat bottom and sides of 1 : ``side`` (0: upright), in a channel with the same sides.

    Parameters
    ----------
    bottom, length : float, in m
        Of the throat.
    side : float
        How far a side leans outwards for 1 m of height.
    channel : float, in m
        The bottom of the channel before the throat.
    hump : float, in m
        How much higher the bottom of the throat is.

    """

    bottom: float
    side: float
    length: float
    channel: float
    hump: float = 0.0

    def __post_init__(self) -> None:
        if self.side < 0.0:
            raise DomainError("the sides of a flume lean outwards", remedy="0 or more")
        self._require(self.bottom)

    def section(self, depth: Array, displaced: float = 0.0) -> tuple[Array, Array, Array]:
        """See ``ThroatedFlume``."""
        bottom = self.bottom - 2.0 * displaced * (math.hypot(1.0, self.side) - self.side)
        width = bottom + 2.0 * self.side * depth
        return (bottom + self.side * depth) * depth, width, np.full(depth.shape, 2.0 * self.side)

    def approach(self, depth: Array) -> Array:
        """See ``ThroatedFlume``."""
        return (self.channel + self.side * depth) * depth

    def __str__(self) -> str:
        shape = f"trapezoidal flume, sides 1 : {self.side:g}" if self.side else "rectangular flume"
        return f"{shape}, throat of {self.bottom:g} m × {self.length:g} m"


@dataclass(frozen=True, slots=True)
class UShapedFlume(ThroatedFlume):
    """A throat whose bottom is half a circle, with upright sides above it, in a rectangular channel.

    Parameters
    ----------
    diameter, length : float, in m
        Of the throat.
    channel : float, in m
        The width of the channel before the throat.
    hump : float, in m
        How much higher the lowest point of the throat is.

    """

    diameter: float
    length: float
    channel: float
    hump: float = 0.0

    def __post_init__(self) -> None:
        self._require(self.diameter)

    def section(self, depth: Array, displaced: float = 0.0) -> tuple[Array, Array, Array]:
        """See ``ThroatedFlume``."""
        diameter = self.diameter - 2.0 * displaced
        radius = diameter / 2.0
        low = np.minimum(depth, radius)
        half = np.sqrt(low * (diameter - low))
        area = radius**2 * np.arccos(1.0 - low / radius) - (radius - low) * half
        rise = np.where(depth < radius, (diameter - 2.0 * low) / half, 0.0)
        return area + diameter * np.maximum(depth - radius, 0.0), 2.0 * half, rise

    def approach(self, depth: Array) -> Array:
        """See ``ThroatedFlume``."""
        return self.channel * depth

    def __str__(self) -> str:
        return f"U-shaped flume, throat of {self.diameter:g} m × {self.length:g} m"
