"""Flow in open channels from the head: flumes, weirs, pipes and channels that run part full.

Each is a scale from head (m) to flow (m³/s): it converts, turns back, and knows what it is valid for.
A head of 0 or less gives no flow. Between 0 and the least head of its standard, and above the greatest,
the value is shown and counts as extrapolated; from twice the greatest on there is no value.
"""

from __future__ import annotations

import math
from abc import abstractmethod
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.bisection import bisect
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Ends, Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array: TypeAlias = NDArray[np.float64]

FOOT = 0.3048
INCH = 0.0254
GRAVITY = 9.80665  # m/s²
_BEYOND = 2.0  # times the greatest head, to which a value is shown


class OpenChannel(Scale):
    """What all have in common. A kind says its flow for heads above 0, and its ``valid`` heads in m."""

    __slots__ = ()

    @property
    @abstractmethod
    def valid(self) -> Ends:
        """The least and the greatest head of its standard, in m."""

    @abstractmethod
    def flow(self, head: Array) -> Array:
        """The flow in m³/s of heads above 0."""

    @property
    def domain(self) -> Ends:
        """Heads for which there is a value: a dry channel has one, too."""
        return -math.inf, self.valid[1] * _BEYOND

    @property
    def span(self) -> Ends:
        """From no flow to that at the end of the domain."""
        return 0.0, float(self.flow(np.array([self.domain[1]]))[0])

    def forward(self, x: Array, out: Array) -> None:
        """Flow from head."""
        wet = x > 0.0
        found = self.flow(np.where(wet, x, 1e-3))
        out[...] = np.where(wet, found, 0.0)

    def backward(self, y: Array, out: Array) -> None:
        """Head from flow; that of no flow is 0."""
        bisect(self.forward, y, (0.0, self.domain[1]), out)

    def quality(self, x: Array, values: Array) -> NDArray[np.uint8]:
        """As every scale; and extrapolated outside the heads that are valid."""
        found = super().quality(x, values)
        low, high = self.valid
        outside = ((x > 0.0) & (x < low)) | (x > high)
        return np.where((found == Quality.GOOD) & outside, np.uint8(Quality.EXTRAPOLATED), found)

    def per_millimetre(self, head: float) -> float:
        """The change of the flow, in m³/s, for 1 mm of head: what a wrong zero costs."""
        ends = self.value(np.array([head + 0.0005, head - 0.0005]))
        return float(ends[0] - ends[1])


# ---------------------------------------------------------------------- Parshall flumes


@dataclass(frozen=True, slots=True)
class PowerLaw(OpenChannel):
    """flow = coefficient · head ^ exponent, in m³/s and m: the law of many flumes.

    ``submerged_from`` is the ratio of the heads behind and before it from which the law no longer holds.
    """

    name: str
    coefficient: float
    exponent: float
    heads: Ends
    submerged_from: float | None = None

    def __post_init__(self) -> None:
        if not (self.coefficient > 0.0 and self.exponent > 0.0):
            raise DomainError(
                f"a power law of coefficient {self.coefficient:g} and exponent {self.exponent:g} is no flow",
                remedy="both are above 0",
            )

    @property
    def valid(self) -> Ends:
        """The least and the greatest head, in m."""
        return self.heads

    def flow(self, head: Array) -> Array:
        """Flow in m³/s."""
        return self.coefficient * head**self.exponent

    def backward(self, y: Array, out: Array) -> None:
        """Head from flow."""
        out[...] = (y / self.coefficient) ** (1.0 / self.exponent)

    def __str__(self) -> str:
        return f"{self.name}: {self.coefficient:.5g} m³/s · (head/m)^{self.exponent:.5g}"


def _us(width: str, coefficient: float, exponent: float, heads: Ends, limit: float) -> PowerLaw:
    """A size in US units: cfs and ft become m³/s and m with the exponent, C · 0.3048^(3 - n)."""
    si = coefficient * FOOT ** (3.0 - exponent)
    return PowerLaw(f"Parshall flume {width}", si, exponent, heads, limit)


def _parshall() -> dict[str, PowerLaw]:
    """All standard sizes, by throat width.

    US sizes: USBR, Water Measurement Manual (3rd ed., 2001), ch. 8, eq. 8-7 to 8-9, heads and
    submergence after M. G. Bos, Discharge Measurement Structures (1989), table 7.4. Metric sizes:
    ISO 9826:1992, tables 1 and 2.
    """
    sizes = {
        "1 in": _us("1 in", 0.338, 1.55, (0.015, 0.21), 0.5),
        "2 in": _us("2 in", 0.676, 1.55, (0.015, 0.24), 0.5),
        "3 in": _us("3 in", 0.992, 1.547, (0.03, 0.33), 0.5),
        "6 in": _us("6 in", 2.06, 1.58, (0.03, 0.45), 0.6),
        "9 in": _us("9 in", 3.07, 1.53, (0.03, 0.61), 0.6),
    }
    least = {1.0: 0.03, 1.5: 0.03, 2.0: 0.046, 3.0: 0.046, 4.0: 0.06, 5.0: 0.06}
    for feet in (1.0, 1.5, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0):
        name = f"{feet:g} ft"
        heads = (least.get(feet, 0.076), 0.76)
        sizes[name] = _us(name, 4.0 * feet, 1.522 * feet**0.026, heads, 0.7)
    most = {10.0: 1.07, 12.0: 1.37, 15.0: 1.67}
    for feet in (10.0, 12.0, 15.0, 20.0, 25.0, 30.0, 40.0, 50.0):
        name = f"{feet:g} ft"
        heads = (0.09, most.get(feet, 1.83))
        sizes[name] = _us(name, 3.6875 * feet + 2.5, 1.6, heads, 0.8)
    for width, coefficient, exponent, low, high in _ISO_9826:
        name = f"{width:g} m"
        limit = 0.6 if width < 0.3 else 0.7 if width < 3.0 else 0.8
        sizes[name] = PowerLaw(f"Parshall flume {name}", coefficient, exponent, (low, high), limit)
    return sizes


_ISO_9826 = (
    (0.152, 0.381, 1.580, 0.03, 0.45), (0.25, 0.561, 1.513, 0.03, 0.60), (0.3, 0.679, 1.521, 0.03, 0.75),
    (0.45, 1.038, 1.537, 0.03, 0.75), (0.6, 1.403, 1.548, 0.05, 0.75), (0.75, 1.772, 1.557, 0.06, 0.75),
    (0.9, 2.147, 1.565, 0.06, 0.75), (1.0, 2.397, 1.569, 0.06, 0.80), (1.2, 2.904, 1.577, 0.06, 0.80),
    (1.5, 3.668, 1.586, 0.06, 0.80), (1.8, 4.440, 1.593, 0.08, 0.80), (2.1, 5.222, 1.599, 0.08, 0.80),
    (2.4, 6.004, 1.605, 0.08, 0.80), (3.05, 7.463, 1.6, 0.09, 1.07), (3.66, 8.859, 1.6, 0.09, 1.37),
    (4.57, 10.96, 1.6, 0.09, 1.67), (6.1, 14.45, 1.6, 0.09, 1.83), (7.62, 17.94, 1.6, 0.09, 1.83),
    (9.14, 21.44, 1.6, 0.09, 1.83), (12.19, 28.43, 1.6, 0.09, 1.83), (15.24, 35.41, 1.6, 0.09, 1.83),
)  # fmt: skip
PARSHALL = _parshall()


# ---------------------------------------------------------------------- weirs of thin plate


@dataclass(frozen=True, slots=True)
class VNotch(OpenChannel):
    """A triangular notch in a thin plate, fully contracted, after Kindsvater and Shen.

    References
    ----------
    ISO 1438:2017, clause 9; USBR, Water Measurement Manual, ch. 7, section 5. Coefficient and head correction
    as fitted by G. Kulin and P. R. Compton, NBS Special Publication 421 (1975), for 20 to 100°.

    """

    angle_deg: float

    def __post_init__(self) -> None:
        if not 20.0 <= self.angle_deg <= 100.0:
            raise DomainError(
                f"a notch of {self.angle_deg:g}° is outside of what was measured",
                remedy="20° to 100°, the whole angle between its edges",
            )

    @property
    def valid(self) -> Ends:
        """ISO 1438:2017, 9.6: heads of 0.06 to 0.38 m are certain."""
        return 0.06, 0.38

    def flow(self, head: Array) -> Array:
        """Flow in m³/s."""
        a = self.angle_deg
        discharge = 0.607165052 - 0.000874466963 * a + 6.10393334e-6 * a**2
        correction = FOOT * (
            0.0144902648 - 0.00033955535 * a + 3.29819003e-6 * a**2 - 1.06215442e-8 * a**3
        )
        slope = math.tan(math.radians(a) / 2.0)
        return (
            8.0 / 15.0 * discharge * math.sqrt(2.0 * GRAVITY) * slope * (head + correction) ** 2.5
        )

    def __str__(self) -> str:
        return f"V-notch of {self.angle_deg:g}°"


@dataclass(frozen=True, slots=True)
class RectangularWeir(OpenChannel):
    """A rectangular weir of thin plate after Kindsvater and Carter; suppressed if as wide as its channel.

    Parameters
    ----------
    width, channel : float, in m
        Of the opening, and of the channel of approach.
    crest : float, in m
        Height of the crest above the bottom of the channel.

    References
    ----------
    C. E. Kindsvater, R. W. Carter, Trans. ASCE 124 (1959) 772-822; ISO 1438:2017, clause 8;
    M. G. Bos, Discharge Measurement Structures (1989), tables 5.1 and 5.2.

    """

    width: float
    crest: float
    channel: float

    def __post_init__(self) -> None:
        if not (self.width >= 0.15 and self.crest >= 0.1 and self.channel >= self.width):
            raise DomainError(
                f"a weir of {self.width:g} m at {self.crest:g} m in a channel of {self.channel:g} m is "
                "outside of what was measured",
                remedy="width at least 0.15 m, crest at least 0.1 m, channel at least as wide as the weir",
            )

    @property
    def valid(self) -> Ends:
        """From 3 cm to twice the height of the crest, and half the width."""
        return 0.03, min(2.0 * self.crest, max(0.5 * self.width, 0.06))

    def flow(self, head: Array) -> Array:
        """Flow in m³/s."""
        part = self.width / self.channel
        base, rise = (float(np.interp(part, _PART, column)) for column in (_BASE, _RISE))
        correction = float(np.interp(part, _WIDTH_PART, _WIDTH_CORRECTION))
        discharge = base + rise * head / self.crest
        width, effective = self.width + correction, head + 0.001
        return 2.0 / 3.0 * discharge * math.sqrt(2.0 * GRAVITY) * width * effective**1.5

    def __str__(self) -> str:
        kind = "suppressed" if self.width == self.channel else "contracted"
        return f"rectangular weir of {self.width:g} m, {kind}"


_PART = (0.0, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0)
_BASE = (0.587, 0.588, 0.589, 0.590, 0.591, 0.592, 0.593, 0.595, 0.597, 0.599, 0.602)
_RISE = (-0.0023, -0.0021, -0.0018, 0.0020, 0.0058, 0.011, 0.018, 0.030, 0.045, 0.064, 0.075)
_WIDTH_PART = (0.0, 0.2, 0.4, 0.6, 0.8, 1.0)
_WIDTH_CORRECTION = (0.0024, 0.0024, 0.0027, 0.0036, 0.0042, -0.0009)


@dataclass(frozen=True, slots=True)
class Francis(OpenChannel):
    """A rectangular weir after Francis, with 0, 1 or 2 end contractions, without velocity of approach.

    References
    ----------
    J. B. Francis, Lowell Hydraulic Experiments (1883); USBR, Water Measurement Manual, ch. 7, eq. 7-1, 7-2:
    3.33 cfs/ft^2.5.

    """

    width: float
    contractions: int = 2

    def __post_init__(self) -> None:
        if not (self.width > 0.0 and self.contractions in {0, 1, 2}):
            raise DomainError(
                f"a weir of {self.width:g} m with {self.contractions} contractions cannot be computed",
                remedy="a width above 0, and 0, 1 or 2 end contractions",
            )

    @property
    def valid(self) -> Ends:
        """From 6 cm to a third of the width (USBR)."""
        return 0.06, max(self.width / 3.0, 0.07)

    def flow(self, head: Array) -> Array:
        """Flow in m³/s."""
        width = np.maximum(self.width - 0.1 * self.contractions * head, 0.0)
        return 3.33 * math.sqrt(FOOT) * width * head**1.5

    def __str__(self) -> str:
        return f"weir after Francis, {self.width:g} m, {self.contractions} contractions"


def cipolletti(width: float) -> PowerLaw:
    """A trapezoidal weir with sides of 1 : 4: 3.367 cfs/ft^2.5 · width · head^1.5.

    References
    ----------
    USBR, Water Measurement Manual, ch. 7, section 8: heads from 6 cm to a third of the width.

    """
    if not width > 0.0:
        raise DomainError(f"a weir of {width:g} m cannot be computed", remedy="a width above 0")
    heads = (0.06, max(width / 3.0, 0.07))
    return PowerLaw(f"Cipolletti weir of {width:g} m", 3.367 * math.sqrt(FOOT) * width, 1.5, heads)


# ---------------------------------------------------------------------- Manning


@dataclass(frozen=True, slots=True)
class ManningPipe(OpenChannel):
    """A round pipe that runs part full: Manning's formula. From 93.8 % of its height on, flow falls again.

    References
    ----------
    V. T. Chow, Open-Channel Hydraulics (1959), ch. 5 and 6.

    """

    diameter: float
    slope: float
    roughness: float

    def __post_init__(self) -> None:
        _require_manning(self.slope, self.roughness, self.diameter)

    @property
    def valid(self) -> Ends:
        """To the height at which the most flows."""
        return 0.0, 0.938 * self.diameter

    @property
    def domain(self) -> Ends:
        """Not above: a level would stand for two flows."""
        return -math.inf, self.valid[1]

    def flow(self, head: Array) -> Array:
        """Flow in m³/s."""
        angle = 2.0 * np.arccos(np.clip(1.0 - 2.0 * head / self.diameter, -1.0, 1.0))
        area = self.diameter**2 / 8.0 * (angle - np.sin(angle))
        perimeter = self.diameter * angle / 2.0
        return _manning(area, perimeter, self.slope, self.roughness)

    def __str__(self) -> str:
        return f"pipe of {self.diameter:g} m, slope {self.slope:g}, roughness {self.roughness:g}"


@dataclass(frozen=True, slots=True)
class ManningTrapezoid(OpenChannel):
    """A channel with a flat bottom and sides of 1 : ``side`` (0: upright): Manning's formula."""

    bottom: float
    side: float
    slope: float
    roughness: float
    depth: float = 10.0

    def __post_init__(self) -> None:
        _require_manning(self.slope, self.roughness, self.bottom + self.side)
        if self.bottom < 0.0 or self.side < 0.0:
            raise DomainError("a channel has a bottom and sides of 0 or more", remedy="0 m or more")

    @property
    def valid(self) -> Ends:
        """The depth of the channel."""
        return 0.0, self.depth

    def flow(self, head: Array) -> Array:
        """Flow in m³/s."""
        area = (self.bottom + self.side * head) * head
        perimeter = self.bottom + 2.0 * head * math.hypot(1.0, self.side)
        return _manning(area, perimeter, self.slope, self.roughness)

    def __str__(self) -> str:
        return f"channel of {self.bottom:g} m, slope {self.slope:g}, roughness {self.roughness:g}"


def _require_manning(slope: float, roughness: float, size: float) -> None:
    if not (0.0 < slope < 1.0 and 0.005 <= roughness <= 0.2 and size > 0.0):
        raise DomainError(
            f"slope {slope:g}, roughness {roughness:g} and size {size:g} m are those of no channel",
            remedy="slope 0 to 1 (a fall of 1 m in 200 m is 0.005), roughness 0.005 to 0.2 s/m^(1/3)",
        )


def _manning(area: Array, perimeter: Array, slope: float, roughness: float) -> Array:
    return area * (area / perimeter) ** (2.0 / 3.0) * (math.sqrt(slope) / roughness)
