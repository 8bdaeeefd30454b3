"""Levels of sound: sums, means, percentiles; dose and exposure of a day; the level of day, evening, night."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.levels import level_of, powers
from leitwerk.errors import QuantityError

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Array = NDArray[np.float64]

REFERENCE_PA = 20e-6  # ISO 1683: the sound pressure of 0 dB
_DAY_H = 8.0


def pressure_level(mean_square: ArrayLike) -> Array:
    """The level in dB of mean squares in Pa², to 20 µPa; minus infinity of silence.

    Examples
    --------
    >>> pressure_level(1.0).round(2)
    np.float64(93.98)

    """
    with np.errstate(divide="ignore"):
        found: Array = 10.0 * np.log10(np.asarray(mean_square, float) / REFERENCE_PA**2)
    return found


def sum_of_levels(levels_db: ArrayLike) -> float:
    """The level of sounds together that do not belong to each other.

    Examples
    --------
    >>> round(sum_of_levels([60.0, 60.0]), 2)
    63.01

    """
    return level_of(float(np.sum(powers(_levels(levels_db)))))


def mean_level(levels_db: ArrayLike, durations: ArrayLike | None = None) -> float:
    """The mean of levels: of the powers behind them, weighted by their durations where these are given.

    Raises
    ------
    QuantityError
        There are no levels, or no duration.

    Examples
    --------
    >>> round(mean_level([80.0, 90.0], [6.0, 2.0]), 2)
    85.12

    """
    levels = _levels(levels_db)
    spent = None if durations is None else np.asarray(durations, float)
    if spent is not None and not (np.isfinite(spent).all() and spent.sum() > 0.0 <= spent.min()):
        raise QuantityError("these are no durations", valid="0 or more, and not all 0")
    return level_of(float(np.average(powers(levels), weights=spent)))


def without_background(level_db: float, background_db: float) -> float:
    """The level of a source, of a level with it and one of the background alone.

    Raises
    ------
    QuantityError
        The levels are less than 3 dB apart: what is left is not known.

    References
    ----------
    ISO 3746:2010, 8.3.3: a correction of more than 3 dB says nothing.

    Examples
    --------
    >>> round(without_background(60.0, 50.0), 2)
    59.54

    """
    if not level_db - background_db >= 3.0:
        raise QuantityError(
            f"{level_db:g} dB with the source and {background_db:g} dB without are too near to each other",
            valid="at least 3 dB apart",
        )
    return level_of(float(powers(np.array(level_db)) - powers(np.array(background_db))))


def exceeded_level(levels_db: ArrayLike, percent: float) -> float:
    """The level LN that is exceeded for N % of the time, of levels of equal durations.

    L10 is a high level, L90 a low one.

    Raises
    ------
    QuantityError
        There are no levels, or N is not above 0 and below 100.

    Examples
    --------
    >>> exceeded_level(range(101), 10.0)
    90.0

    """
    if not 0.0 < percent < 100.0:
        raise QuantityError(
            f"{percent:g} % of the time is no percentile", valid="above 0, below 100"
        )
    return float(np.percentile(_levels(levels_db), 100.0 - percent))


def _levels(levels_db: ArrayLike) -> Array:
    levels = np.asarray(levels_db, float)
    if not levels.size or np.isnan(levels).any():
        raise QuantityError("a level is missing", valid="one level or more, none of them missing")
    return levels


def dose_percent(
    levels_db: ArrayLike,
    duration_s: float,
    *,
    criterion_db: float = 85.0,
    exchange_db: float = 3.0,
    threshold_db: float = -math.inf,
) -> float:
    """The noise dose in % of what is allowed in 8 h at the criterion level.

    Parameters
    ----------
    levels_db : array
        Levels of equal durations: with time weighting S where a threshold or another exchange rate than
        3 dB counts.
    duration_s : float
        Of each.
    criterion_db : float
    exchange_db : float
        By so many dB more, half the time is allowed.
    threshold_db : float
        Levels below it do not count.

    References
    ----------
    IEC 61252:2017 (equal energy: 3 dB); ANSI S1.25:1991, 4 (exchange rate, threshold).

    Examples
    --------
    >>> round(dose_percent([95.0], 4 * 3600.0, criterion_db=90.0, exchange_db=5.0), 1)
    100.0

    """
    levels = _levels(levels_db)
    counted = levels[levels >= threshold_db]
    halves = (counted - criterion_db) / _exchange(exchange_db)
    return float(100.0 * duration_s / (_DAY_H * 3600.0) * np.sum(2.0**halves))


def _exchange(exchange_db: float) -> float:
    """The exchange rate; 3 dB stands for equal energy, which is 10 lg 2."""
    if not exchange_db > 0.0:
        raise QuantityError(
            f"an exchange rate of {exchange_db:g} dB allows nothing", valid="3, 4, 5 dB"
        )
    return 10.0 * math.log10(2.0) if exchange_db == 3.0 else exchange_db


def time_weighted_average(
    dose: float, *, criterion_db: float = 85.0, exchange_db: float = 3.0
) -> float:
    """The level that in 8 h makes a dose in %; minus infinity of none.

    Examples
    --------
    >>> round(time_weighted_average(200.0, criterion_db=90.0, exchange_db=5.0), 2)
    95.0

    """
    if not dose > 0.0:
        return -math.inf
    return criterion_db + _exchange(exchange_db) * math.log2(dose / 100.0)


def daily_exposure(level_db: float, duration_h: float) -> float:
    """The daily noise exposure level LEX,8h of a level for so many hours.

    References
    ----------
    ISO 9612:2009, 3.3.

    Examples
    --------
    >>> round(daily_exposure(88.0, 4.0), 2)
    84.99

    """
    if not duration_h > 0.0:
        raise QuantityError(f"{duration_h:g} h are no working time", valid="above 0 h")
    return level_db + 10.0 * math.log10(duration_h / _DAY_H)


def day_evening_night(
    day_db: float,
    evening_db: float,
    night_db: float,
    hours: tuple[float, float, float] = (12, 4, 8),
) -> float:
    """Lden: the mean over 24 h, with 5 dB more in the evening and 10 dB at night.

    References
    ----------
    Directive 2002/49/EC, annex I.

    Examples
    --------
    >>> round(day_evening_night(60.0, 55.0, 50.0), 2)
    60.0

    """
    if not math.isclose(sum(hours), 24.0):
        raise QuantityError(f"{sum(hours):g} h are no day", valid="24 h in three parts")
    return mean_level([day_db, evening_db + 5.0, night_db + 10.0], hours)
