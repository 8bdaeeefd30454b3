"""Humid air: dew point, frost point, wet bulb, moisture of air and of the wood in it.

Temperatures in K, relative humidity as a part of 1 and always over water (as WMO-No. 8 has it, also
below 0 °C), pressures in Pa. Outside of what a formula is valid for there is no value.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array: TypeAlias = NDArray[np.float64]

ZERO_C = 273.15
GAS_CONSTANT_VAPOUR = (
    461.522  # J/(kg K): R of CODATA 2018 by the molar mass of water, 18.01527 g/mol
)
MASS_RATIO = 0.621945  # of water to dry air; ASHRAE Handbook of Fundamentals (2017), ch. 1, eq. 20
_HALVINGS = 54  # one more than the bits of a double
_ROUNDING = 1e-9  # as a part: less than this is not beyond the end of a formula


@dataclass(frozen=True, slots=True)
class Saturation:
    """A formula for the pressure of saturated vapour, over water and over ice, each from ... to, in K."""

    name: str
    water: Callable[[Array], Array]
    ice: Callable[[Array], Array]
    water_valid: tuple[float, float]
    ice_valid: tuple[float, float]


def _sonntag_water(t: Array) -> Array:
    return np.exp(
        -6096.9385 / t + 21.2409642 - 2.711193e-2 * t + 1.673952e-5 * t**2 + 2.433502 * np.log(t)
    )


def _sonntag_ice(t: Array) -> Array:
    return np.exp(
        -6024.5282 / t + 29.32707 + 1.0613868e-2 * t - 1.3198825e-5 * t**2 - 0.49382577 * np.log(t)
    )


def _magnus_water(t: Array) -> Array:
    c = t - ZERO_C
    return 611.2 * np.exp(17.62 * c / (243.12 + c))


def _magnus_ice(t: Array) -> Array:
    c = t - ZERO_C
    return 611.2 * np.exp(22.46 * c / (272.62 + c))


def _hyland_water(t: Array) -> Array:
    polynomial = 1.3914993 + t * (-4.8640239e-2 + t * (4.1764768e-5 - t * 1.4452093e-8))
    return np.exp(-5.8002206e3 / t + polynomial + 6.5459673 * np.log(t))


def _hyland_ice(t: Array) -> Array:
    polynomial = 6.3925247 + t * (
        -9.677843e-3 + t * (6.2215701e-7 + t * (2.0747825e-9 - t * 9.484024e-13))
    )
    return np.exp(-5.6745359e3 / t + polynomial + 4.1635019 * np.log(t))


def _buck_water(t: Array) -> Array:
    c = t - ZERO_C
    return 611.21 * np.exp((18.678 - c / 234.5) * c / (257.14 + c))


def _buck_ice(t: Array) -> Array:
    c = t - ZERO_C
    return 611.15 * np.exp((23.036 - c / 333.7) * c / (279.82 + c))


SATURATION = {
    formula.name: formula
    for formula in (
        # D. Sonntag, Z. Meteorol. 40 (1990) 340-344; adapted to ITS-90.
        Saturation("sonntag", _sonntag_water, _sonntag_ice, (173.15, 373.15), (173.15, 273.16)),
        # WMO-No. 8, Guide to Instruments and Methods of Observation, annex 4.B, without the
        # enhancement factor of moist air.
        Saturation("magnus", _magnus_water, _magnus_ice, (228.15, 333.15), (208.15, 273.15)),
        # R. W. Hyland, A. Wexler, ASHRAE Trans. 89 (2A) 1983, as in ASHRAE Fundamentals, ch. 1, eq. 5, 6.
        Saturation("hyland-wexler", _hyland_water, _hyland_ice, (273.15, 473.15), (173.15, 273.15)),
        # A. L. Buck, J. Appl. Meteorol. 20 (1981) 1527-1532, with the coefficients of 1996.
        Saturation("buck", _buck_water, _buck_ice, (233.15, 323.15), (193.15, 273.15)),
    )
}


def _inside(t: Array, valid: tuple[float, float]) -> Array:
    """The temperatures for which a formula is valid, with both ends, NaN elsewhere."""
    inside = (t >= valid[0] * (1.0 - _ROUNDING)) & (t <= valid[1] * (1.0 + _ROUNDING))
    return np.where(inside, t, np.nan)


def _humid(humidity: Array) -> Array:
    """A humidity that there can be, NaN elsewhere."""
    return np.where((humidity >= 0.0) & (humidity <= 1.0), humidity, np.nan)


def vapour_pressure(t: Array, humidity: Array, saturation: Saturation) -> Array:
    """Pressure of the vapour in air, in Pa."""
    return _humid(humidity) * saturation.water(_inside(t, saturation.water_valid))


def dew_point(t: Array, humidity: Array, saturation: Saturation) -> Array:
    """The temperature, in K, at which water condenses; below 0 °C, that of supercooled water.

    A formula whose water begins at 0 °C has ice below it, as ASHRAE Fundamentals (ch. 1, eq. 5) has.
    """
    vapour = vapour_pressure(t, humidity, saturation)
    found = _solved(saturation.water, vapour, saturation.water_valid)
    if saturation.water_valid[0] < ZERO_C:
        return found
    over_ice = _solved(saturation.ice, vapour, saturation.ice_valid)
    return np.where(np.isnan(found), over_ice, found)


def frost_point(t: Array, humidity: Array, saturation: Saturation) -> Array:
    """The temperature, in K, at which ice forms; none above 0 °C."""
    vapour = vapour_pressure(t, humidity, saturation)
    return _solved(saturation.ice, vapour, saturation.ice_valid)


def absolute_humidity(t: Array, humidity: Array, saturation: Saturation) -> Array:
    """Mass of vapour in a volume of air, in kg/m³: e / (R T) with the temperature of the air."""
    return vapour_pressure(t, humidity, saturation) / (GAS_CONSTANT_VAPOUR * t)


def mixing_ratio(t: Array, humidity: Array, pressure: Array, saturation: Saturation) -> Array:
    """Mass of vapour for each mass of dry air. ASHRAE Fundamentals (2017), ch. 1, eq. 20."""
    vapour = vapour_pressure(t, humidity, saturation)
    return MASS_RATIO * vapour / np.where(pressure > vapour, pressure - vapour, np.nan)


def enthalpy(t: Array, humidity: Array, pressure: Array, saturation: Saturation) -> Array:
    """Enthalpy for each mass of dry air, in J/kg, 0 at 0 °C. ASHRAE Fundamentals, ch. 1, eq. 30."""
    c = t - ZERO_C
    ratio = mixing_ratio(t, humidity, pressure, saturation)
    return 1000.0 * (1.006 * c + ratio * (2501.0 + 1.86 * c))


def wet_bulb(t: Array, humidity: Array, pressure: Array, saturation: Saturation) -> Array:
    """The thermodynamic wet-bulb temperature, in K, over water from 0 °C up and over ice below.

    ASHRAE Fundamentals (2017), ch. 1, eq. 33 and 35: the temperature at which water, evaporating into the
    air, brings it to saturation. Found by bisection between the air's temperature and far below it.
    """
    ratio = mixing_ratio(t, humidity, pressure, saturation)
    low, high = (
        np.full(np.shape(ratio), saturation.ice_valid[0]),
        np.where(np.isnan(ratio), np.nan, t),
    )
    c = t - ZERO_C
    for _ in range(_HALVINGS):
        middle = (low + high) / 2.0
        m = middle - ZERO_C
        over_water = m >= 0.0
        of_water = saturation.water(np.maximum(middle, ZERO_C))
        vapour = np.where(over_water, of_water, saturation.ice(np.minimum(middle, ZERO_C)))
        saturated = MASS_RATIO * vapour / (pressure - vapour)
        heat, rest = np.where(over_water, 2501.0 - 2.326 * m, 2830.0 - 0.24 * m), 1.006 * (c - m)
        below = np.where(over_water, 2501.0 + 1.86 * c - 4.186 * m, 2830.0 + 1.86 * c - 2.1 * m)
        too_cold = (heat * saturated - rest) / below < ratio
        low, high = np.where(too_cold, middle, low), np.where(too_cold, high, middle)
    return np.where(np.isnan(high), np.nan, (low + high) / 2.0)


def wood_moisture(t: Array, humidity: Array) -> Array:
    """Moisture of wood in balance with the air around it, as a part of its dry mass.

    USDA Forest Products Laboratory, Wood Handbook (2010), ch. 4, eq. 4-5 (metric), for -1.1 to 132 °C.
    """
    c = np.where((t >= 272.0) & (t <= 405.4), t - ZERO_C, np.nan)
    h = _humid(humidity)
    weight = 349.0 + 1.29 * c + 0.0135 * c**2
    k = 0.805 + 0.000736 * c - 0.00000273 * c**2
    k1 = 6.27 - 0.00938 * c - 0.000303 * c**2
    k2 = 1.91 + 0.0407 * c - 0.000293 * c**2
    kh = k * h
    hydrated = (k1 * kh + 2.0 * k1 * k2 * kh**2) / (1.0 + k1 * kh + k1 * k2 * kh**2)
    return 18.0 / weight * (kh / (1.0 - kh) + hydrated)


def _solved(pressure: Callable[[Array], Array], wanted: Array, valid: tuple[float, float]) -> Array:
    """The temperature at which a pressure is reached; NaN where that is not valid.

    Newton's method on the logarithm, which is nearly straight in 1/T: four steps leave less than rounding.
    """
    ends = np.log(pressure(np.array(valid)))
    with np.errstate(divide="ignore", invalid="ignore"):
        logarithm = np.log(wanted)
    slope = (1.0 / valid[1] - 1.0 / valid[0]) / (ends[1] - ends[0])
    inverse = 1.0 / valid[0] + (logarithm - ends[0]) * slope
    # Both ends belong to it: the pressure there, worked out in another way, may differ by its rounding.
    inside = (logarithm >= ends[0] - _ROUNDING) & (logarithm <= ends[1] + _ROUNDING)
    t = 1.0 / np.where(inside, inverse, np.nan)
    for _ in range(5):
        step = 1e-4 * t
        rise = np.log(pressure(t + step)) - np.log(pressure(t - step))
        t = t - (np.log(pressure(t)) - logarithm) * 2.0 * step / rise
    return t
