"""Thermocouples to IEC 60584-1: electromotive force and temperature, reference junction at 0 °C.

Type K so far; a further type is one more entry in ``_TYPES``.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


@dataclass(frozen=True, slots=True)
class _Piece:
    """One polynomial of a reference function: mV from °C, valid up to ``high``."""

    high: float
    coefficients: tuple[float, ...]
    exponential: tuple[float, float, float] | None = None

    def emf(self, t: NDArray[np.float64]) -> NDArray[np.float64]:
        result = np.full_like(t, self.coefficients[-1])
        for c in reversed(self.coefficients[:-1]):
            result = result * t + c
        if self.exponential:
            a0, a1, a2 = self.exponential
            result = result + a0 * np.exp(a1 * (t - a2) * (t - a2))
        return result

    def slope(self, t: NDArray[np.float64]) -> NDArray[np.float64]:
        result = np.zeros_like(t)
        for power in range(len(self.coefficients) - 1, 0, -1):
            result = result * t + power * self.coefficients[power]
        if self.exponential:
            a0, a1, a2 = self.exponential
            result = result + 2.0 * a0 * a1 * (t - a2) * np.exp(a1 * (t - a2) * (t - a2))
        return result


@dataclass(frozen=True, slots=True)
class _Type:
    low: float
    pieces: tuple[_Piece, ...]

    @property
    def high(self) -> float:
        return self.pieces[-1].high

    def apply(self, method: str, t: NDArray[np.float64]) -> NDArray[np.float64]:
        result = getattr(self.pieces[-1], method)(t)
        for piece in reversed(self.pieces[:-1]):
            below = t < piece.high
            # A short way round for the usual case of a warm object: no value below the border.
            if np.any(below):
                result = np.where(below, getattr(piece, method)(np.minimum(t, piece.high)), result)
        return np.asarray(result, dtype=np.float64)


# IEC 60584-1:2013, Annex A (the same functions as NIST Monograph 175, ITS-90), in mV and °C.
_TYPES = {
    "K": _Type(
        -270.0,
        (
            _Piece(
                0.0,
                (
                    0.0, 0.394501280250e-1, 0.236223735980e-4, -0.328589067840e-6,
                    -0.499048287770e-8, -0.675090591730e-10, -0.574103274280e-12,
                    -0.310888728940e-14, -0.104516093650e-16, -0.198892668780e-19,
                    -0.163226974860e-22,
                ),
            ),
            _Piece(
                1372.0,
                (
                    -0.176004136860e-1, 0.389212049750e-1, 0.185587700320e-4,
                    -0.994575928740e-7, 0.318409457190e-9, -0.560728448890e-12,
                    0.560750590590e-15, -0.320207200030e-18, 0.971511471520e-22,
                    -0.121047212750e-25,
                ),
                (0.118597600000e0, -0.118343200000e-3, 0.126968600000e3),
            ),
        ),
    ),
}  # fmt: skip

_GRID_STEP_C = 1.0
_NEWTON_STEPS = 2  # from a grid of 1 °C: below 1 µK over the whole span, held by a test


def span_c(kind: str) -> tuple[float, float]:
    """The temperatures, in °C, for which the reference function of a type is defined."""
    found = _find(kind)
    return found.low, found.high


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
    found = _find(kind)
    t = np.asarray(temperature, dtype=np.float64)
    inside = (t >= found.low) & (t <= found.high)
    return np.where(inside, found.apply("emf", np.where(inside, t, 0.0)), np.nan)


def temperature(emf: ArrayLike, kind: str) -> NDArray[np.float64]:
    """Temperature of a thermocouple from its electromotive force, other junction at 0 °C.

    Newton's iteration on the reference function, started from a grid; the published inverse
    polynomials are up to 0.06 K off and are not used. To compensate a cold junction, add the *emf*
    of its temperature first: ``temperature(e + emf(t_cold, kind), kind)``.

    Parameters
    ----------
    emf : array_like, in mV
        What ``span_c(kind)`` gives; NaN and values outside give NaN.
    kind : str
        The letter of the type.

    Returns
    -------
    ndarray of the same shape, float64, in °C

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

    """
    found = _find(kind)
    grid_c, grid_mv = _grid(kind)
    e = np.asarray(emf, dtype=np.float64)
    inside = (e >= grid_mv[0]) & (e <= grid_mv[-1])
    wanted = np.where(inside, e, 0.0)
    t = np.interp(wanted, grid_mv, grid_c)
    for _ in range(_NEWTON_STEPS):
        step = (found.apply("emf", t) - wanted) / found.apply("slope", t)
        t = np.clip(t - step, found.low, found.high)
    return np.where(inside, t, np.nan)


def _find(kind: str) -> _Type:
    found = _TYPES.get(kind)
    if found is None:
        raise QuantityError(f"{kind!r} is no thermocouple type known here", valid=", ".join(_TYPES))
    return found


@cache
def _grid(kind: str) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    found = _find(kind)
    count = round((found.high - found.low) / _GRID_STEP_C) + 1
    grid_c = np.linspace(found.low, found.high, count)
    return grid_c, found.apply("emf", grid_c)
