"""Platinum resistance thermometers to IEC 60751."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

# IEC 60751:2022, clause 4 (the equations of the reference function, R0 at 0 °C).
_A = 3.9083e-3
_B = -5.775e-7
_C = -4.183e-12
SPAN_C = (-200.0, 850.0)
_NEWTON_STEPS = 4  # from the quadratic's answer, at most 3 are needed to the last bit


def resistance(temperature: ArrayLike, r0: float = 100.0) -> NDArray[np.float64]:
    """Resistance of a platinum thermometer.

    Parameters
    ----------
    temperature : array_like, in °C
        −200 to 850; NaN and values outside give NaN.
    r0 : float, in Ω
        Resistance at 0 °C.

    Returns
    -------
    ndarray of the same shape, float64, in Ω

    References
    ----------
    IEC 60751:2022, clause 4.

    Examples
    --------
    >>> resistance([-200.0, 0.0, 100.0, 850.0]).round(2)
    array([ 18.52, 100.  , 138.51, 390.48])

    """
    t = np.asarray(temperature, dtype=np.float64)
    with np.errstate(invalid="ignore", over="ignore"):
        ratio = _ratio(t)
        return np.where((t >= SPAN_C[0]) & (t <= SPAN_C[1]), r0 * ratio, np.nan)


def temperature(resistance: ArrayLike, r0: float = 100.0) -> NDArray[np.float64]:
    """Temperature that a platinum thermometer's resistance stands for.

    The closed form holds from 0 °C upwards; below, it is the start of Newton's iteration on the
    reference function itself.

    Parameters
    ----------
    resistance : array_like, in Ω
        What −200 to 850 °C give; NaN and values outside give NaN.
    r0 : float, in Ω
        Resistance at 0 °C.

    Returns
    -------
    ndarray of the same shape, float64, in °C

    References
    ----------
    IEC 60751:2022, clause 4.

    Examples
    --------
    >>> temperature([18.52, 138.5055, 390.481]).round(2)
    array([-200.,  100.,  850.])

    """
    ratio = np.asarray(resistance, dtype=np.float64) / r0
    low, high = _ratio(np.array(SPAN_C))
    # Two decimals is how tables print it: 18.52 is meant to be −200 °C.
    slack = 5e-5
    inside = (ratio >= low - slack) & (ratio <= high + slack)
    x = np.where(inside, ratio, 1.0)
    t = (-_A + np.sqrt(_A * _A - 4.0 * _B * (1.0 - x))) / (2.0 * _B)
    cold = t < 0.0
    if np.any(cold):
        for _ in range(_NEWTON_STEPS):
            slope = _A + t * (2.0 * _B + t * (-300.0 * _C + t * 4.0 * _C))
            t = np.where(cold, t - (_ratio(t) - x) / slope, t)
    return np.where(inside, np.clip(t, *SPAN_C), np.nan)


def _ratio(t: NDArray[np.float64]) -> NDArray[np.float64]:
    cold = np.where(t < 0.0, _C * (t - 100.0) * t, 0.0)
    ratio: NDArray[np.float64] = 1.0 + t * (_A + t * (_B + cold))
    return ratio
