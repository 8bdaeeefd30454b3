"""Thermocouples B, E, J, K, N, R, S and T to IEC 60584-1, in °C and mV."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError
from leitwerk.signals.chunks import in_chunks
from leitwerk.signals.inverse_table import InverseTable
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Ends, Scale
from leitwerk.signals.thermocouple_curves import CURVES, Curve

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

TYPES = tuple(CURVES)
# The quick inverse is made to agree with the reference function to this; a test proves it densely.
INVERSE_ERROR_K = 1e-4

PRINTED_MV = 0.0005  # half of the last digit of the tables in IEC 60584-1


def span_c(kind: str) -> Ends:
    """The temperatures, in °C, for which the reference function of a type is defined."""
    curve = _find(kind)
    return curve.low, curve.high


def emf(temperature: ArrayLike, kind: str) -> NDArray[np.float64]:
    """Electromotive force of a thermocouple whose other junction is at 0 °C.

    Parameters
    ----------
    temperature : array_like, in °C
        Within ``span_c(kind)``; NaN and values outside give NaN.
    kind : str
        The letter of the type.

    Returns
    -------
    ndarray of the same shape, float64, in mV

    Raises
    ------
    QuantityError
        The type is not known.

    References
    ----------
    IEC 60584-1:2013, Annex A.

    Examples
    --------
    >>> emf([-200.0, 0.0, 100.0, 1000.0], "K").round(3)
    array([-5.891,  0.   ,  4.096, 41.276])

    """
    return Thermocouple(kind).signal(temperature)


def temperature(emf: ArrayLike, kind: str, cold_junction: ArrayLike = 0.0) -> NDArray[np.float64]:
    """Temperature of a thermocouple from its electromotive force.

    The emf of the cold junction's temperature is added first; adding temperatures instead is off by
    degrees. The inverse agrees with the reference function to 0.1 mK over the whole span (the
    published inverse polynomials are up to 60 mK off and are not used).

    Parameters
    ----------
    emf : array_like, in mV
        What is measured at the terminals. NaN, and what lies outside the reference function, gives
        NaN; for type B so does all below 42 °C, where an emf stands for two temperatures.
    kind : str
        The letter of the type.
    cold_junction : array_like, in °C
        Temperature of the terminals; one number, or one for each emf.

    Returns
    -------
    ndarray of the broadcast shape, float64, in °C

    Raises
    ------
    QuantityError
        The type is not known.

    References
    ----------
    IEC 60584-1:2013, Annex A.

    Examples
    --------
    >>> temperature([-5.891, 4.096], "K").round(1)
    array([-200.,  100.])
    >>> float(temperature(3.298, "K", cold_junction=20.0).round(1))
    100.0

    """
    scale = Thermocouple(kind)
    junction = np.asarray(cold_junction, dtype=np.float64)
    if junction.ndim == 0:
        return Thermocouple(kind, float(junction)).value(emf)

    def compensated(
        e: NDArray[np.float64], t: NDArray[np.float64], out: NDArray[np.float64]
    ) -> None:
        scale.backward_inside(t, out)
        out += e
        scale.forward_inside(out, out)

    return in_chunks(compensated, emf, junction)


@dataclass(frozen=True, slots=True)
class Thermocouple(Scale):
    """A thermocouple as a scale: temperature in °C from the emf in mV at its terminals.

    Parameters
    ----------
    kind : str
        The letter of the type.
    cold_junction : float, in °C
        Temperature of the terminals.

    Raises
    ------
    QuantityError
        The type is not known, or the cold junction lies outside its reference function.

    References
    ----------
    IEC 60584-1:2013, Annex A.

    Examples
    --------
    >>> float(Thermocouple("K", cold_junction=20.0).value(3.298).round(1))
    100.0

    """

    kind: str
    cold_junction: float = 0.0

    def __post_init__(self) -> None:
        curve = _find(self.kind)
        if not curve.low <= self.cold_junction <= curve.high:
            raise QuantityError(
                f"a cold junction at {self.cold_junction:g} °C lies outside type {self.kind}",
                valid=f"{curve.low:g}..{curve.high:g} °C",
            )

    @property
    def domain(self) -> Ends:
        """In mV at the terminals: as far as the printed table goes, whose last digit is rounded.

        What lies beyond the reference function by no more than that gives the temperature of its end.
        """
        table, shift = _inverse(self.kind), self._shift
        below = 0.0 if CURVES[self.kind].unique_above is not None else PRINTED_MV
        return table.low - below - shift, table.high + PRINTED_MV - shift

    @property
    def span(self) -> Ends:
        """In °C."""
        return span_c(self.kind)

    @property
    def _shift(self) -> float:
        return _emf_of(self.kind, self.cold_junction)

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The emf of the cold junction added, then the inverse table."""
        if shift := self._shift:
            np.add(x, shift, out=out)
            x = out
        _inverse(self.kind).evaluate(x, out)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The reference function, then the emf of the cold junction taken off."""
        CURVES[self.kind].emf(y.copy() if y is out else y, out)
        if shift := self._shift:
            out -= shift

    def quality(self, x: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.uint8]:
        """As for every scale; what type B cannot distinguish is ambiguous, not below range."""
        # Named in full: a dataclass with slots is another class than the one super() would mean.
        result = Scale.quality(self, x, values)
        curve = CURVES[self.kind]
        if curve.unique_above is not None:
            lowest = float(_lowest_emf(self.kind)) - self._shift
            result[(result == Quality.BELOW_RANGE) & (x >= lowest)] = Quality.AMBIGUOUS
        return result

    def __str__(self) -> str:
        junction = f", cold junction at {self.cold_junction:g} °C" if self.cold_junction else ""
        return f"thermocouple type {self.kind}{junction}"


def _find(kind: str) -> Curve:
    curve = CURVES.get(kind)
    if curve is None:
        raise QuantityError(
            f"{kind!r} is not a thermocouple type known here", valid=", ".join(TYPES)
        )
    return curve


@cache
def _emf_of(kind: str, temperature: float) -> float:
    if temperature == 0.0:
        return 0.0
    out = np.empty(1)
    CURVES[kind].emf(np.array([temperature]), out)
    return float(out[0])


@cache
def _lowest_emf(kind: str) -> float:
    curve = CURVES[kind]
    t = np.linspace(curve.low, curve.unique_above or curve.high, 4001)
    out = np.empty_like(t)
    curve.emf(t, out)
    return float(out.min())


@cache
def _inverse(kind: str) -> InverseTable:
    curve = CURVES[kind]
    low, high = curve.unique_above or curve.low, curve.high
    ends = np.empty(2)
    curve.emf(np.array([low, high]), ends)
    return InverseTable(
        lambda e: solve(curve, e, low), float(ends[0]), float(ends[1]), INVERSE_ERROR_K / 4.0
    )


def solve(
    curve: Curve, e: NDArray[np.float64], low: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Temperatures and their slopes for emfs, by Newton's iteration on the reference function.

    Slow and exact to rounding. A step is kept inside the grid cell that holds the answer, so that
    the tiny jump where two pieces meet cannot make it swing from one to the other.
    """
    grid = np.linspace(low, curve.high, 4001)
    at_grid = np.empty_like(grid)
    curve.emf(grid, at_grid)
    cell = np.clip(np.searchsorted(at_grid, e, side="right") - 1, 0, grid.size - 2)
    t = np.interp(e, at_grid, grid)
    found, slope = np.empty_like(t), np.empty_like(t)
    for _ in range(8):
        curve.emf(t, found)
        curve.slope(t, slope)
        t = np.clip(t - (found - e) / slope, grid[cell], grid[cell + 1])
    curve.slope(t, slope)
    return t, 1.0 / slope
