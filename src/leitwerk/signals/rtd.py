"""Resistance thermometers: platinum to IEC 60751, nickel and copper to their standards."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING, Literal, TypeAlias

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.bisection import bisect
from leitwerk.signals.inverse_table import InverseTable
from leitwerk.signals.polynomial import horner
from leitwerk.signals.scale import Ends, Scale

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

Metal: TypeAlias = Literal["platinum", "nickel", "copper"]
Wires: TypeAlias = Literal[2, 3, 4]


@dataclass(frozen=True, slots=True)
class _Curve:
    """R/R0 as polynomials of the temperature in °C: one below 0 °C, one above."""

    low: float
    high: float
    below: tuple[float, ...]
    above: tuple[float, ...]

    def ratio(self, t: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Fill ``out`` (not ``t``) with R/R0."""
        horner(self.above, t, out)
        if self.below != self.above and t.size and t.min() < 0.0:
            cold = np.flatnonzero(t < 0.0)
            part = np.empty(cold.size)
            horner(self.below, t[cold], part)
            out[cold] = part


# IEC 60751:2022, clause 4: A, B, and C · (t - 100) · t³ below 0 °C, multiplied out.
_A, _B, _C = 3.9083e-3, -5.775e-7, -4.183e-12
# GOST 6651-2009, clause 5: copper of 0.00428/K; below 0 °C  A·t + B·t·(t + 6.7) + C·t³.
_CU_A, _CU_B, _CU_C = 4.28e-3, -6.2032e-7, 8.5154e-10
_CURVES: dict[str, _Curve] = {
    "platinum": _Curve(
        -200.0, 850.0, (1.0, _A, _B, -100.0 * _C, _C), (1.0, _A, _B)
    ),
    # DIN 43760:1987, nickel of 6180 ppm/K, one polynomial from end to end.
    "nickel": _Curve(
        -60.0, 250.0,
        (1.0, 5.485e-3, 6.65e-6, 0.0, 2.805e-11, 0.0, -2.0e-17),
        (1.0, 5.485e-3, 6.65e-6, 0.0, 2.805e-11, 0.0, -2.0e-17),
    ),
    "copper": _Curve(
        -180.0, 200.0, (1.0, _CU_A + 6.7 * _CU_B, _CU_B, _CU_C), (1.0, _CU_A)
    ),
}  # fmt: skip
METALS = tuple(_CURVES)
# Tables print resistances to 0.01 Ω of 100 Ω: 18.52 is meant to be −200 °C, and is taken for it.
_SLACK = 5e-5
INVERSE_ERROR_K = 1e-6  # of the table; the closed form of platinum above 0 °C has none


def resistance(
    temperature: ArrayLike, r0: float = 100.0, metal: Metal = "platinum"
) -> NDArray[np.float64]:
    """Resistance of a thermometer.

    Parameters
    ----------
    temperature : array_like, in °C
        Platinum −200 to 850, nickel −60 to 250, copper −180 to 200; NaN and values outside give NaN.
    r0 : float, in Ω
        Resistance at 0 °C.
    metal : {"platinum", "nickel", "copper"}

    Returns
    -------
    ndarray of the same shape, float64, in Ω

    References
    ----------
    Platinum: IEC 60751:2022, clause 4. Nickel (6180 ppm/K): DIN 43760:1987. Copper (4280 ppm/K):
    GOST 6651-2009, clause 5.

    Examples
    --------
    >>> resistance([-200.0, 0.0, 100.0, 850.0]).round(2)
    array([ 18.52, 100.  , 138.51, 390.48])

    """
    return ResistanceThermometer(r0, metal).signal(temperature)


def temperature(
    resistance: ArrayLike, r0: float = 100.0, metal: Metal = "platinum"
) -> NDArray[np.float64]:
    """Temperature that a thermometer's resistance stands for.

    Parameters
    ----------
    resistance : array_like, in Ω
        What the temperatures of ``resistance()`` give; NaN and values outside give NaN.
    r0 : float, in Ω
        Resistance at 0 °C.
    metal : {"platinum", "nickel", "copper"}

    Returns
    -------
    ndarray of the same shape, float64, in °C
        Exact for platinum above 0 °C, elsewhere within 1 µK of the reference function.

    References
    ----------
    As for ``resistance``.

    Examples
    --------
    >>> temperature([18.52, 138.5055, 390.481]).round(2)
    array([-200.,  100.,  850.])

    """
    return ResistanceThermometer(r0, metal).value(resistance)


@dataclass(frozen=True, slots=True)
class ResistanceThermometer(Scale):
    """A resistance thermometer as a scale: temperature in °C from resistance in Ω.

    Raises
    ------
    DomainError
        ``r0`` is not above 0.

    References
    ----------
    As for ``resistance``.

    Examples
    --------
    >>> float(ResistanceThermometer(1000.0).value(1385.055).round(3))
    100.0

    """

    r0: float = 100.0
    metal: Metal = "platinum"

    def __post_init__(self) -> None:
        if not 0.0 < self.r0 < 1e9:
            raise DomainError(f"R0 = {self.r0:g} Ω is not a resistance at 0 °C", remedy="above 0 Ω")

    @property
    def domain(self) -> Ends:
        """In Ω, a table's rounding beyond both ends of the reference function."""
        low, high = _ratios(self.metal)
        return self.r0 * (low - _SLACK), self.r0 * (high + _SLACK)

    @property
    def span(self) -> Ends:
        """In °C."""
        return _CURVES[self.metal].low, _CURVES[self.metal].high

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """Platinum above 0 °C in closed form, all else by the inverse table."""
        if self.metal != "platinum":
            np.multiply(x, 1.0 / self.r0, out=out)
            _inverse(self.metal).evaluate(out, out)
            return
        lowest = x.min() if x.size else 0.0
        cold = np.flatnonzero(x < self.r0) if lowest < self.r0 else None
        ratio = x[cold] / self.r0 if cold is not None else None
        # t = -A/2B - sqrt((A/2B)² - (1 - R/R0)/B): one root, no division by a small number.
        half = _A / (2.0 * _B)
        np.multiply(x, 1.0 / (_B * self.r0), out=out)
        out += half * half - 1.0 / _B
        np.sqrt(out, out=out)
        np.subtract(-half, out, out=out)
        if cold is not None and ratio is not None:
            _inverse(self.metal).evaluate(ratio, ratio)
            out[cold] = ratio
        if lowest < self.r0 or x.max() > self.r0 * _ratios(self.metal)[1]:
            np.clip(out, *self.span, out=out)

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The reference function."""
        _CURVES[self.metal].ratio(y.copy() if y is out else y, out)
        out *= self.r0

    def __str__(self) -> str:
        return f"{self.metal} thermometer, {self.r0:g} Ω at 0 °C"


@cache
def _ratios(metal: str) -> Ends:
    curve = _CURVES[metal]
    out = np.empty(2)
    curve.ratio(np.array([curve.low, curve.high]), out)
    return float(out[0]), float(out[1])


@cache
def _inverse(metal: str) -> InverseTable:
    curve = _CURVES[metal]
    low, high = _ratios(metal)
    # Above 0 °C platinum has a closed form.
    high, hottest = (1.0, 0.0) if metal == "platinum" else (high, curve.high)

    def exact(ratio: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        t, above, below = np.empty_like(ratio), np.empty_like(ratio), np.empty_like(ratio)
        bisect(curve.ratio, ratio, (curve.low, hottest), t)
        horner(_derivative(curve.above), t, above)
        horner(_derivative(curve.below), t, below)
        return t, 1.0 / np.where(t < 0.0, below, above)

    return InverseTable(exact, low, high, INVERSE_ERROR_K / 4.0)


def _derivative(coefficients: tuple[float, ...]) -> tuple[float, ...]:
    return tuple(k * c for k, c in enumerate(coefficients))[1:]


def lead_error(
    temperature: ArrayLike,
    lead: float,
    wires: Wires = 2,
    *,
    mismatch: float = 0.0,
    r0: float = 100.0,
    metal: Metal = "platinum",
) -> NDArray[np.float64]:
    """How much too hot a thermometer reads because of its leads.

    Parameters
    ----------
    temperature : array_like, in °C
        The true temperature.
    lead : float, in Ω
        Resistance of one lead. With two wires, the current passes two of them.
    wires : {2, 3, 4}
        Two: both leads are measured along. Three: one lead is measured and taken off, on the
        assumption that they are equal; ``mismatch`` remains. Four: no error.
    mismatch : float, in Ω
        By how much the one lead of a three-wire circuit exceeds the other.

    Returns
    -------
    ndarray of the same shape, float64, in K

    Examples
    --------
    >>> float(lead_error(20.0, 0.5).round(2)), float(lead_error(20.0, 0.5, 3, mismatch=0.1).round(2))
    (2.57, 0.26)

    """
    extra = {2: 2.0 * lead, 3: mismatch, 4: 0.0}[wires]
    scale = ResistanceThermometer(r0, metal)
    true = np.asarray(temperature, dtype=np.float64)
    return scale.value(scale.signal(true) + extra) - true if extra else np.zeros_like(true)
