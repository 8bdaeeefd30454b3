"""Phasors of three phases: components, unbalance, neutral current, voltages between phases, powers.

A phasor is a complex number whose amount is the root mean square. Arrays have the phases L1, L2, L3 in
their last axis. What is not a number stays so.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Real = NDArray[np.float64]
    Complex = NDArray[np.complex128]

_A = np.exp(2j * np.pi / 3.0)
# Fortescue: zero, positive and negative sequence of (L1, L2, L3).
_COMPONENTS = np.array([[1.0, 1.0, 1.0], [1.0, _A, _A**2], [1.0, _A**2, _A]], complex) / 3.0


def phasor(amount: ArrayLike, angle_deg: ArrayLike) -> Complex:
    """Phasors of root mean squares and angles in °."""
    angle = np.deg2rad(np.asarray(angle_deg, float))
    found: Complex = np.exp(1j * angle) * np.asarray(amount, float)
    return found


_LEAST_POSITIVE = 1e-3  # of the greatest phasor: rounding and noise stay far below


def symmetrical_components(phasors: ArrayLike) -> Complex:
    """Zero, positive and negative sequence, in the last axis.

    Parameters
    ----------
    phasors : array of shape (…, 3)

    References
    ----------
    IEC 61000-4-30:2015, 5.7.1 (symmetrical components).

    Examples
    --------
    >>> abs(symmetrical_components(phasor([230.0, 230.0, 230.0], [0.0, -120.0, 120.0]))).round(6)
    array([  0., 230.,   0.])

    """
    found: Complex = np.matmul(np.asarray(phasors, complex), _COMPONENTS.T)
    return found


def unbalance(phasors: ArrayLike) -> tuple[Real, Real]:
    """Negative and zero sequence unbalance in %: u2 and u0, of the positive sequence.

    NaN where the positive sequence is less than ``_LEAST_POSITIVE`` of the greatest phasor, as of three equal
    voltages, or of no voltages: there is nothing that the others could be a part of.

    Parameters
    ----------
    phasors : array of shape (…, 3)
        Phase to neutral; u0 of voltages between phases is 0 by their nature.

    References
    ----------
    IEC 61000-4-30:2015, 5.7.1.

    """
    parts: Real = np.abs(symmetrical_components(phasors))
    least = _LEAST_POSITIVE * np.abs(np.asarray(phasors, complex)).max(axis=-1)
    positive = np.where((parts[..., 1] > least) & (parts[..., 1] > 0.0), parts[..., 1], np.nan)
    return 100.0 * parts[..., 2] / positive, 100.0 * parts[..., 0] / positive


def unbalance_of_amounts(between_phases: ArrayLike) -> Real:
    """Negative sequence unbalance in % from the amounts of the voltages between phases alone.

    Parameters
    ----------
    between_phases : array of shape (…, 3)
        Fundamental root mean squares U12, U23, U31. Not a number where they close no triangle.

    References
    ----------
    IEC 61000-4-30:2015, 5.7.1, second form, with β = ΣU⁴ / (ΣU²)².

    Examples
    --------
    >>> float(unbalance_of_amounts([400.0, 400.0, 400.0]).round(9))
    0.0

    """
    squares = np.asarray(between_phases, float) ** 2
    total = squares.sum(axis=-1)
    with np.errstate(divide="ignore", invalid="ignore"):
        beta = (squares**2).sum(axis=-1) / total**2
        inner = 3.0 - 6.0 * beta
        # Rounding makes a balanced net a little less than nothing.
        root = np.sqrt(np.where((inner < 0.0) & (inner > -1e-12), 0.0, inner))
        found: Real = 100.0 * np.sqrt(np.maximum(1.0 - root, 0.0) / (1.0 + root))
    return found


def between_phases(to_neutral: ArrayLike) -> Complex:
    """The voltages U12, U23, U31 of those to the neutral."""
    u = np.asarray(to_neutral, complex)
    found: Complex = u - np.roll(u, -1, axis=-1)
    return found


def to_star_point(between: ArrayLike) -> Complex:
    """The voltages of each phase to the middle of the triangle U12, U23, U31; they sum up to 0."""
    u = np.asarray(between, complex)
    found: Complex = (u - np.roll(u, 1, axis=-1)) / 3.0
    return found


def neutral_current(currents: ArrayLike) -> Complex:
    """The current that flows back in the neutral: the sum of those of the phases, by Kirchhoff's law."""
    found: Complex = np.asarray(currents, complex).sum(axis=-1)
    return found


def complex_power(voltages: ArrayLike, currents: ArrayLike) -> Complex:
    """Active and reactive power of each phase, P + jQ in W and var, of phase to neutral voltages.

    P is positive where power flows into the installation (import), Q where the current lags.

    References
    ----------
    IEC 80000-6:2008, 6-59 (complex power S = U I*); load convention.

    Examples
    --------
    >>> complex_power(230.0, phasor(10.0, -60.0)).round(1)
    np.complex128(1150+1991.9j)

    """
    found: Complex = np.asarray(voltages, complex) * np.conj(np.asarray(currents, complex))
    return found


def positive_sequence_power(voltages: ArrayLike, currents: ArrayLike) -> Complex:
    """P + jQ of the positive sequence alone: its sign is the direction in which the energy flows.

    Harmonics and unbalance that a load gives back do not change it.

    References
    ----------
    IEEE Std 1459-2010, 3.2.2.

    """
    u = symmetrical_components(voltages)[..., 1]
    i = symmetrical_components(currents)[..., 1]
    found: Complex = 3.0 * u * np.conj(i)
    return found


def power_factor(active: ArrayLike, apparent: ArrayLike) -> Real:
    """P / S with the sign of P: negative for export. Not a number without apparent power.

    References
    ----------
    IEC 80000-6:2008, 6-58 (λ is the magnitude of P / S), with the sign of the load convention.

    """
    s = np.asarray(apparent, float)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(s > 0.0, np.asarray(active, float) / s, np.nan)


def signed_by_lead(power_factors: ArrayLike, reactive: ArrayLike) -> Real:
    """The same amount with the sign of the kind of load: positive lagging, negative leading.

    Parameters
    ----------
    power_factors : array
    reactive : array
        Reactive power of the fundamental, positive lagging.

    """
    amount = np.abs(np.asarray(power_factors, float))
    found: Real = np.where(np.asarray(reactive, float) < 0.0, -amount, amount)
    return found


def direction(power_w: float, least_w: float) -> str:
    """*import*, *export*, or *none* where less than ``least_w`` flows."""
    if not abs(power_w) >= least_w:
        return "none"
    return "import" if power_w > 0.0 else "export"
