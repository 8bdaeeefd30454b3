"""Powers of sampled voltage and current, each with the name of its definition."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True)
class Powers:
    """Powers of one phase, an entry for each window; in W, var, V·A.

    P is positive where power flows into the installation, Q where the current lags. The three reactive powers
    agree for pure sines only, so that each has the name of its definition.
    """

    active: Array
    apparent: Array
    active_of_fundamental: Array
    reactive_of_fundamental: Array
    reactive_budeanu: Array
    distortion_budeanu: Array
    nonactive_fryze: Array
    power_factor: Array
    cos_phi: Array


def powers_of(voltage: Array, current: Array, cycles: int) -> Powers:
    """Powers of windows that hold so many whole cycles each.

    Parameters
    ----------
    voltage, current : array of shape (windows, points)
        The same moments, in V and A.
    cycles : int

    References
    ----------
    IEEE Std 1459-2010, 3.1.2: P, S, P1, Q1, N (what Fryze called reactive: the square root of S² - P²), and
    Budeanu's QB, the sum of UhIh sin φh over the harmonics, with what is left, DB.

    Examples
    --------
    >>> t = np.arange(2048) / 2048 * 10
    >>> u, i = 325.0 * np.sin(2 * np.pi * t), 14.0 * np.sin(2 * np.pi * t - np.pi / 3)
    >>> p = powers_of(u[None], i[None], 10)
    >>> p.active.round(1), p.reactive_of_fundamental.round(1), p.cos_phi.round(3)
    (array([1137.5]), array([1970.2]), array([0.5]))

    """
    points = voltage.shape[1]
    active = (voltage * current).mean(axis=1)
    apparent = np.sqrt((voltage**2).mean(axis=1) * (current**2).mean(axis=1))
    u, i = (np.fft.rfft(x, axis=1) / points for x in (voltage, current))
    # Lines of both sides: twice, but for those at 0 and at half the points.
    product = 2.0 * u * np.conj(i)
    first = product[:, cycles]
    harmonic = product[:, cycles : points // 2 : cycles]
    reactive = harmonic.imag.sum(axis=1)
    left = apparent**2 - active**2
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.where(apparent > 0.0, active / apparent, np.nan)
        amount = np.abs(first)
        cosine = np.where(amount > 0.0, first.real / amount, np.nan)
    return Powers(
        active=active,
        apparent=apparent,
        active_of_fundamental=first.real,
        reactive_of_fundamental=first.imag,
        reactive_budeanu=reactive,
        distortion_budeanu=np.sqrt(np.maximum(left - reactive**2, 0.0)),
        nonactive_fryze=np.sqrt(np.maximum(left, 0.0)),
        power_factor=factor,
        cos_phi=cosine,
    )


def effective_apparent_power(
    to_neutral: ArrayLike, between: ArrayLike, currents: ArrayLike, neutral: ArrayLike = 0.0
) -> Array:
    """The effective apparent power Se of four wires, in V·A: of three equal resistors with these losses.

    Parameters
    ----------
    to_neutral, between, currents : array of shape (…, 3)
        RMS values of U1..U3, of U12, U23, U31, and of the currents.
    neutral : array
        RMS of the current in the neutral, whose wire is as thick as the others.

    References
    ----------
    IEEE Std 1459-2010, 3.2.2 and 3.2.3: Ie² = (ΣI² + In²) / 3, Ue² = (3 ΣU² + ΣUph-ph²) / 18.

    Examples
    --------
    >>> root = 3 ** 0.5
    >>> effective_apparent_power([230.0] * 3, [230.0 * root] * 3, [10.0] * 3).round(6)
    np.float64(6900.0)

    """
    u, v, i = (np.asarray(x, float) for x in (to_neutral, between, currents))
    voltage = np.sqrt((3.0 * (u**2).sum(axis=-1) + (v**2).sum(axis=-1)) / 18.0)
    current = np.sqrt(((i**2).sum(axis=-1) + np.asarray(neutral, float) ** 2) / 3.0)
    found: Array = 3.0 * voltage * current
    return found


def effective_apparent_power_of_three_wires(between: ArrayLike, currents: ArrayLike) -> Array:
    """The effective apparent power Se of three wires, in V·A.

    References
    ----------
    IEEE Std 1459-2010, 3.2.2: Ie² = ΣI² / 3, Ue² = ΣUph-ph² / 9.

    """
    v, i = np.asarray(between, float), np.asarray(currents, float)
    found: Array = 3.0 * np.sqrt((v**2).sum(axis=-1) / 9.0) * np.sqrt((i**2).sum(axis=-1) / 3.0)
    return found
