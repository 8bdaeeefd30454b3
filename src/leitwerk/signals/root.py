"""Flow from differential pressure by the square root, and sensors with a logarithmic output."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.chunks import all_inside
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Ends, Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class SquareRoot(Scale):
    """Flow through an orifice, nozzle or Venturi from the signal of its differential pressure.

    The root is taken of the *fraction of the signal's span*: a quarter of the span is half of the
    flow. Just below the lower end the fraction is a little negative; down to ``-cut_off`` squared
    that is a flow of zero, not an error.

    Parameters
    ----------
    signal_low, signal_high : float
        The signal at no flow and at ``full_flow``; at most the upper end is measured.
    full_flow : float
        The value at ``signal_high``.
    cut_off : float
        The part of the *flow* below which zero is shown (0.02: below 2 % of the flow, which is
        0.04 % of the differential pressure).

    References
    ----------
    ISO 5167-1:2022, clause 5.1: flow goes with the square root of the differential pressure.

    Examples
    --------
    >>> SquareRoot(4.0, 20.0, 120.0, cut_off=0.02).value([4.0, 4.005, 8.0, 20.0])
    array([  0.,   0.,  60., 120.])

    """

    signal_low: float
    signal_high: float
    full_flow: float
    cut_off: float = 0.0

    def __post_init__(self) -> None:
        if not self.signal_low < self.signal_high or self.full_flow <= 0:
            raise DomainError(
                "the root needs a signal that rises from no flow to full flow, and a full flow "
                "above 0"
            )
        if not 0.0 <= self.cut_off < 1.0:
            raise DomainError(f"a cut-off of {self.cut_off:g} is none", remedy="a part from 0 to 1")

    @property
    def domain(self) -> Ends:
        """Down to where a small negative fraction is still taken for no flow."""
        slack = max(self.cut_off**2, 1e-3) * (self.signal_high - self.signal_low)
        return self.signal_low - slack, self.signal_high

    @property
    def span(self) -> Ends:
        """From no flow to full flow."""
        return 0.0, self.full_flow

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fraction, root, cut-off."""
        np.subtract(x, self.signal_low, out=out)
        out /= self.signal_high - self.signal_low
        np.maximum(out, 0.0, out=out)
        np.sqrt(out, out=out)
        if self.cut_off:
            out[out < self.cut_off] = 0.0
        out *= self.full_flow

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The square; no flow is the lower end."""
        np.divide(y, self.full_flow, out=out)
        np.multiply(out, out, out=out)
        out *= self.signal_high - self.signal_low
        out += self.signal_low

    def __str__(self) -> str:
        cut = f", 0 below {self.cut_off:.3g} of it" if self.cut_off else ""
        ends = f"{self.signal_low:g}..{self.signal_high:g}"
        return f"square root of {ends} to 0..{self.full_flow:g}{cut}"


@dataclass(frozen=True, slots=True)
class Logarithmic(Scale):
    """A sensor whose signal goes with the logarithm of what it measures.

    value = value_low · (value_high / value_low) ** fraction of the signal's span.

    Examples
    --------
    >>> Logarithmic(0.0, 10.0, 0.001, 1000.0).value([0.0, 5.0, 10.0]).round(6)
    array([1.e-03, 1.e+00, 1.e+03])

    """

    signal_low: float
    signal_high: float
    value_low: float
    value_high: float

    def __post_init__(self) -> None:
        if self.value_low <= 0 or self.value_high <= 0 or self.value_low == self.value_high:
            raise DomainError(
                f"{self.value_low:g} and {self.value_high:g} have no logarithmic scale",
                remedy="give two different values above 0",
            )
        if not self.signal_low < self.signal_high:
            raise DomainError("the signals of a logarithmic scale stand in rising order")

    @property
    def domain(self) -> Ends:
        """From signal to signal."""
        return self.signal_low, self.signal_high

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """A power of the ratio of both values."""
        np.subtract(x, self.signal_low, out=out)
        out *= math.log(self.value_high / self.value_low) / (self.signal_high - self.signal_low)
        np.exp(out, out=out)
        out *= self.value_low

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Its logarithm."""
        np.divide(y, self.value_low, out=out)
        np.log(out, out=out)
        out *= (self.signal_high - self.signal_low) / math.log(self.value_high / self.value_low)
        out += self.signal_low

    def __str__(self) -> str:
        ends = f"{self.signal_low:g}..{self.signal_high:g}"
        return f"logarithmic, {ends} to {self.value_low:g}..{self.value_high:g}"


@dataclass(frozen=True, slots=True)
class LoopBands(Scale):
    """The status bands of a 4-20 mA loop: what goes in comes out, with its quality.

    From 3.8 to 20.5 mA is measurement. Down to 3.6 and up to 21 mA the transmitter stands at its
    limit: the value is shown and uncertain. At 3.6 mA and below, at 21 mA and above, it reports a
    failure: there is no value. This comes before any clamping or scaling, or else a broken wire
    reads 0 %.

    ``seen_through`` gives the same bands in terms of what a device makes of the current; ``falling``
    says that it turns the order round.

    References
    ----------
    NAMUR NE 43:2021, clause 4: 3.8..20.5 mA measurement information, failure information at 3.6 mA
    or less and at 21 mA or more.

    Examples
    --------
    >>> values, qualities = LoopBands().convert([3.5, 3.7, 12.0, 20.8, 22.0])
    >>> values, qualities.tolist()
    (array([ nan,  3.7, 12. , 20.8,  nan]), [8, 16, 0, 17, 8])

    """

    failure_low: float = 3.6
    good_low: float = 3.8
    good_high: float = 20.5
    failure_high: float = 21.0
    falling: bool = False

    def __post_init__(self) -> None:
        bands = (self.failure_low, self.good_low, self.good_high, self.failure_high)
        if list(bands) != sorted(set(bands)):
            raise DomainError(f"the bands {bands} do not rise", remedy="3.6, 3.8, 20.5, 21 mA")

    def seen_through(self, line: Scale) -> LoopBands:
        """The bands behind a straight line, whose values stand for the currents."""
        currents = [self.failure_low, self.good_low, self.good_high, self.failure_high]
        a, b, c, d = line.value(currents).tolist()
        return LoopBands(a, b, c, d) if a < d else LoopBands(d, c, b, a, falling=True)

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """As it is, without what reports a failure."""
        failed = (x <= self.failure_low) | (x >= self.failure_high)
        out[...] = np.where(failed, np.nan, x)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The same."""
        self.forward(y, out)

    def quality(self, x: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.uint8]:
        """The band of each current."""
        del values
        result = np.zeros(x.shape, dtype=np.uint8)
        if x.size and all_inside(x, self.good_low, self.good_high):
            return result  # the usual case
        with np.errstate(invalid="ignore"):
            under, over = Quality.UNDER_LIMIT, Quality.OVER_LIMIT
            result[x < self.good_low] = over if self.falling else under
            result[x > self.good_high] = under if self.falling else over
            result[(x <= self.failure_low) | (x >= self.failure_high)] = Quality.SENSOR_FAILURE
        result[~np.isfinite(x)] = Quality.NO_NUMBER
        return result

    def __str__(self) -> str:
        return (
            f"NE 43: good {self.good_low:g}..{self.good_high:g}, failure to {self.failure_low:g} and "
            f"from {self.failure_high:g} on"
        )
