"""Water: its density, the gravity that pulls it, and levels from two pressures that were taken apart."""

from __future__ import annotations

from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from leitwerk.errors import DomainError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Array: TypeAlias = NDArray[np.float64]

ZERO_C = 273.15


def water_density(t: Array, salinity: Array) -> Array:
    """Density of water at the pressure of the atmosphere, in kg/m³.

    UNESCO Technical Papers in Marine Science 44 (1983), international equation of state of seawater
    EOS-80, for -2 to 40 °C and a salinity of 0 to 42 g/kg. The difference between the temperature scales
    of 1968 and 1990 is worth less than 3 g/m³ there.

    Parameters
    ----------
    t : array, in K
    salinity : array, as a part of 1 (35 g/kg is 0.035)

    """
    c = np.where((t >= ZERO_C - 2.0) & (t <= ZERO_C + 40.0), t - ZERO_C, np.nan)
    s = np.where((salinity >= 0.0) & (salinity <= 0.042), salinity * 1000.0, np.nan)
    fresh = 999.842594 + c * (
        6.793952e-2 + c * (-9.095290e-3 + c * (1.001685e-4 + c * (-1.120083e-6 + c * 6.536332e-9)))
    )
    by_salt = 8.24493e-1 + c * (-4.0899e-3 + c * (7.6438e-5 + c * (-8.2467e-7 + c * 5.3875e-9)))
    by_root = -5.72466e-3 + c * (1.0227e-4 - c * 1.6546e-6)
    return fresh + s * by_salt + s**1.5 * by_root + s**2 * 4.8314e-4


def gravity(latitude: Array, height: Array) -> Array:
    """Acceleration of free fall, in m/s², at a latitude (in rad) and a height above the sea (in m).

    Normal gravity of the Geodetic Reference System 1980 (H. Moritz, J. Geod. 74 (2000) 128-162: Somigliana's
    formula), less 3.086e-6 for each m of height.
    """
    square = np.sin(np.where(np.abs(latitude) <= np.pi / 2.0 + 1e-9, latitude, np.nan)) ** 2
    at_sea = (
        9.7803267715 * (1.0 + 0.001931851353 * square) / np.sqrt(1.0 - 0.0066943800229 * square)
    )
    return at_sea - 3.086e-6 * np.where((height >= -500.0) & (height <= 9000.0), height, np.nan)


def compensated(
    times_s: ArrayLike,
    absolute: ArrayLike,
    barometer_times_s: ArrayLike,
    barometer: ArrayLike,
    *,
    offset_s: float = 0.0,
) -> Array:
    """Absolute pressures less those of a barometer, interpolated to their times.

    Parameters
    ----------
    times_s, absolute : array_like of shape (n,), in s and Pa
    barometer_times_s, barometer : array_like of shape (m,), in s and Pa
        Times rising. What is NaN is passed over.
    offset_s : float, in s
        How far the barometer's clock is ahead of the other.

    Returns
    -------
    array of shape (n,)
        NaN outside the time of the barometer: nothing is extrapolated.

    """
    t, known = np.asarray(barometer_times_s, float) - offset_s, np.isfinite(barometer)
    at = np.asarray(times_s, float)
    found = np.interp(at, t[known], np.asarray(barometer, float)[known], np.nan, np.nan)
    result: Array = np.asarray(absolute, float) - found
    return result


def clock_offset(
    times_s: ArrayLike,
    absolute: ArrayLike,
    barometer_times_s: ArrayLike,
    barometer: ArrayLike,
    *,
    most_s: float = 7200.0,
) -> tuple[float, float]:
    """How far the clock of a barometer is ahead of that of a pressure sensor, by their correlation.

    Both records show the weather. The changes of one are moved over those of the other in steps of a tenth of
    the shorter interval; the best place is refined by a parabola.

    Returns
    -------
    offset : float, in s
    correlation : float
        1 where both go alike. Below about 0.5 the offset means nothing.

    Raises
    ------
    DomainError
        The records do not overlap for long enough.

    """
    t, x = _finite(times_s, absolute)
    u, y = _finite(barometer_times_s, barometer)
    step = min(_interval(t), _interval(u)) / 10.0
    begin, end = max(t[0], u[0]) + most_s, min(t[-1], u[-1]) - most_s
    if not end - begin > 20.0 * max(_interval(t), _interval(u)):
        raise DomainError(
            "the two records do not overlap for long enough to compare their clocks",
            remedy="give longer records, or look for a smaller offset",
        )
    grid = np.arange(begin, end, max(step, (end - begin) / 20_000.0))
    lag = max(1, round(max(_interval(t), _interval(u)) / float(grid[1] - grid[0])))
    one = _changes(np.interp(grid, t, x), lag)
    offsets = np.arange(-most_s, most_s + step / 2.0, max(step, most_s / 2000.0))
    found = np.array([_alike(one, _changes(np.interp(grid + o, u, y), lag)) for o in offsets])
    best = int(np.argmax(found))
    shift = 0.0
    if 0 < best < found.size - 1:
        left, top, right = found[best - 1 : best + 2]
        bend = left - 2.0 * top + right
        shift = 0.5 * (left - right) / bend if bend else 0.0
    return float(offsets[best] + shift * (offsets[1] - offsets[0])), float(found[best])


def _finite(times_s: ArrayLike, values: ArrayLike) -> tuple[Array, Array]:
    t, x = np.asarray(times_s, float), np.asarray(values, float)
    known = np.isfinite(x)
    if np.count_nonzero(known) < 3:
        raise DomainError("a record with fewer than three values shows no course")
    return t[known], x[known]


def _interval(times_s: Array) -> float:
    return float(np.median(np.diff(times_s)))


def _changes(values: Array, lag: int) -> Array:
    """The changes over some steps, without their mean: they tell a moment better than the course does."""
    found: Array = values[lag:] - values[:-lag]
    found -= found.mean()
    return found


def _alike(one: Array, other: Array) -> float:
    size = float(np.sqrt((one @ one) * (other @ other)))
    return float(one @ other) / size if size else 0.0
