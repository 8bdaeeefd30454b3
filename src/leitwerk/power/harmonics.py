"""Harmonics and interharmonics of windows of 10 or 12 cycles, grouped, and what follows from them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy import fft, signal

from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Array = NDArray[np.float64]

HIGHEST = 50  # the highest order
CYCLES = {50.0: 10, 60.0: 12}  # IEC 61000-4-30:2015, 4.4: cycles of a window of about 200 ms
_POINTS = 2048  # of a window, evenly over its cycles
_FINE_HZ = 40_000.0  # at this rate four points are enough to find one between them
_REACH = 12  # samples on either side of which finer ones are made


def cycles_of(nominal_hz: float) -> int:
    """How many cycles a window has: 10 at 50 Hz, 12 at 60 Hz.

    Raises
    ------
    QuantityError
        The frequency is neither.

    """
    if nominal_hz not in CYCLES:
        raise QuantityError(f"{nominal_hz:g} Hz is no nominal frequency", valid="50 Hz, 60 Hz")
    return CYCLES[nominal_hz]


def windows(x: ArrayLike, crossings: Array, cycles: int, rate_hz: float) -> Array:
    """Windows of so many cycles each, without gaps, as evenly spaced points over their cycles.

    Parameters
    ----------
    x : array of shape (n,)
        Samples.
    crossings : array of shape (m,)
        Where cycles begin, in samples; see ``CycleTracker``.
    cycles : int
        Of a window.
    rate_hz : float

    Returns
    -------
    array of shape (windows, points)
        A window with a sample that is not a number is not a number throughout.

    """
    samples = np.asarray(x, float)
    edges = crossings[::cycles]
    edges = edges[(edges >= 0.0) & (edges <= samples.size - 1)]
    return window_points(samples, edges[:-1], edges[1:], rate_hz)


def window_points(samples: Array, begins: Array, ends: Array, rate_hz: float) -> Array:
    """Evenly spaced points of windows that are given by their begins and ends, in samples.

    As ``windows`` has them, of shape (windows, points).
    """
    if not begins.size:
        return np.zeros((0, _POINTS))
    finer = max(1, math.ceil(_FINE_HZ / rate_hz))
    bad = ~np.isfinite(samples)
    fine = _finer(np.where(bad, 0.0, samples), finer)
    steps = np.arange(_POINTS) / _POINTS
    places = (begins[:, None] + (ends - begins)[:, None] * steps) * finer
    found = _between(fine, places)
    if bad.any():
        count = np.concatenate([[0], np.cumsum(bad)])
        first, last = np.floor(begins).astype(int), np.ceil(ends).astype(int)
        found[count[np.minimum(last, bad.size)] > count[first]] = np.nan
    return found


def _finer(x: Array, factor: int) -> Array:
    """The same signal with so many points in the place of one."""
    if factor == 1:
        return x
    taps = signal.firwin(2 * _REACH * factor + 1, 0.8 / factor, window=("kaiser", 8.0)) * factor
    wide = signal.upfirdn(taps, x, up=factor)
    begin = _REACH * factor
    return np.asarray(wide[begin : begin + x.size * factor])


def _between(x: Array, places: Array) -> Array:
    """Values between points, by the cubic through the four around each."""
    whole = np.clip(np.floor(places).astype(np.intp), 1, x.size - 3)
    t = places - whole
    a, b, c, d = (x[whole + k] for k in (-1, 0, 1, 2))
    found: Array = (
        a * (-t * (t - 1.0) * (t - 2.0) / 6.0)
        + b * ((t + 1.0) * (t - 1.0) * (t - 2.0) / 2.0)
        + c * (-(t + 1.0) * t * (t - 2.0) / 2.0)
        + d * ((t + 1.0) * t * (t - 1.0) / 6.0)
    )
    return found


@dataclass(frozen=True)
class Harmonics:
    """The spectrum of windows. Arrays have a row for each window; RMS values in the unit of the signal.

    ``lines`` are those of the transform, each 5 Hz; ``groups`` and ``subgroups`` have the orders 0 to 50,
    ``between`` the interharmonic centred subgroups above each order.
    """

    lines: Array
    groups: Array
    subgroups: Array
    between: Array

    @property
    def thd(self) -> Array:
        """Total harmonic distortion of groups (THDG) in % of the fundamental group, orders 2 to 50.

        References
        ----------
        IEC 61000-4-7:2002+A1, 3.3.2.

        """
        return _distortion(self.groups)

    @property
    def thd_of_subgroups(self) -> Array:
        """Total harmonic distortion of subgroups (THDS) in %: what IEC 61000-4-30 class A measures."""
        return _distortion(self.subgroups)

    def tdd(self, demand: float) -> Array:
        """Total demand distortion in %: harmonics of the current by the highest demand current in A.

        References
        ----------
        IEEE Std 519-2022, 3.1.

        """
        if not demand > 0.0:
            raise QuantityError(f"{demand:g} A are no demand current", valid="above 0 A")
        found: Array = 100.0 * np.sqrt((self.subgroups[:, 2:] ** 2).sum(axis=1)) / demand
        return found

    @property
    def k_factor(self) -> Array:
        """By how much more the windings of a transformer are heated: Σ h² Ih² / Σ Ih².

        References
        ----------
        UL 1561; IEEE Std C57.110-2018.

        """
        orders = np.arange(1, HIGHEST + 1)
        squares = self.subgroups[:, 1:] ** 2
        with np.errstate(divide="ignore", invalid="ignore"):
            found: Array = (squares * orders**2).sum(axis=1) / squares.sum(axis=1)
        return found


def _distortion(groups: Array) -> Array:
    with np.errstate(divide="ignore", invalid="ignore"):
        found: Array = 100.0 * np.sqrt((groups[:, 2:] ** 2).sum(axis=1)) / groups[:, 1]
    return found


def harmonics_of(window: Array, cycles: int) -> Harmonics:
    """Harmonics of windows that hold so many whole cycles each.

    Parameters
    ----------
    window : array of shape (windows, points)
        Evenly spaced points over the cycles, as of ``windows``.
    cycles : int
        10 at 50 Hz, 12 at 60 Hz: a line of the transform is then 5 Hz.

    References
    ----------
    IEC 61000-4-7:2002+A1:2008, 5.5 (harmonic groups with half of the lines in the middle between two orders,
    subgroups of three lines), annex A (interharmonic centred subgroups).

    """
    count, points = window.shape
    if points < 2 * (HIGHEST + 1) * cycles:
        raise QuantityError(
            f"{points} points of a window of {cycles} cycles do not reach order {HIGHEST}",
            valid=f"at least {2 * (HIGHEST + 1) * cycles} points",
        )
    spectrum = fft.rfft(window, axis=1)[:, : (HIGHEST + 1) * cycles]
    squares = (spectrum.real**2 + spectrum.imag**2) * (2.0 / points**2)
    squares[:, 0] *= 0.5
    half = cycles // 2
    # Room for lines below 0 Hz and above the highest order, of which there are none.
    wide = np.zeros((count, squares.shape[1] + half + cycles))
    wide[:, half : half + squares.shape[1]] = squares

    def lines_of(first: int, last: int) -> Array:
        """The sum of the lines from one to another, by their distance to each order."""
        found: Array = wide[:, half + first : half + first + (HIGHEST + 1) * cycles : cycles].copy()
        for k in range(first + 1, last + 1):
            found += wide[:, half + k : half + k + (HIGHEST + 1) * cycles : cycles]
        return found

    near = lines_of(-1, 1)
    groups = near.copy()
    for one, other in ((1 - half, -2), (2, half - 1)):
        groups += lines_of(one, other)
    # The lines in the middle between two orders belong half to each.
    groups += 0.5 * (lines_of(-half, -half) + lines_of(half, half))
    between = lines_of(2, cycles - 2)[:, :HIGHEST]
    return Harmonics(np.sqrt(squares), np.sqrt(groups), np.sqrt(near), np.sqrt(between))


def crest_factor(window: Array) -> Array:
    """The highest amount by the RMS of each window."""
    with np.errstate(divide="ignore", invalid="ignore"):
        found: Array = np.abs(window).max(axis=1) / np.sqrt((window**2).mean(axis=1))
    return found
