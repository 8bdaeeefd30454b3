"""Frequency weightings A, C and Z: their curves, and digital filters that follow them."""

from __future__ import annotations

import cmath
import math
from functools import cache
from typing import TYPE_CHECKING

import numpy as np
from scipy import signal

from leitwerk.errors import QuantityError
from leitwerk.sound.evaluation import WEIGHTINGS

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Array = NDArray[np.float64]

_BETWEEN = 0.3  # of the rate: where the upper end is right besides
_LEAST_RATE_HZ, _MOST_RATE_HZ = 8000.0, 1e6


def _poles() -> tuple[float, float, float, float]:
    """The frequencies of the poles in Hz: IEC 61672-1:2013, E.2 and E.3, from their definitions."""
    reference, low, high, root = 1000.0, 10.0**1.5, 10.0**3.9, math.sqrt(0.5)
    b = (1.0 / (1.0 - root)) * (
        reference**2 + low**2 * high**2 / reference**2 - root * (low**2 + high**2)
    )
    c = low**2 * high**2
    split = math.sqrt(b**2 - 4.0 * c)
    first, fourth = math.sqrt((-b - split) / 2.0), math.sqrt((-b + split) / 2.0)
    a = 10.0**2.45
    second, third = (3.0 - math.sqrt(5.0)) / 2.0 * a, (3.0 + math.sqrt(5.0)) / 2.0 * a
    return first, second, third, fourth


_F1, _F2, _F3, _F4 = _poles()


def weighting_db(weighting: str, frequency_hz: ArrayLike) -> Array:
    """The weighting at frequencies in Hz, in dB; 0 dB at 1 kHz.

    Raises
    ------
    QuantityError
        There is no such weighting.

    References
    ----------
    IEC 61672-1:2013, 5.5.5 and annex E.

    Examples
    --------
    >>> weighting_db("A", [100.0, 1000.0, 10000.0]).round(1)
    array([-19.1,   0. ,  -2.5])

    """
    f = np.asarray(frequency_hz, float)
    if _known(weighting) == "Z":
        return np.zeros_like(f)
    found: Array = 20.0 * (np.log10(_curve(weighting, f)) - np.log10(_curve(weighting, 1000.0)))
    return found


def _curve(weighting: str, f: ArrayLike) -> Array:
    s = np.asarray(f, float) ** 2
    c: Array = s * _F4**2 / ((s + _F1**2) * (s + _F4**2))
    if weighting == "C":
        return c
    a: Array = c * s / np.sqrt((s + _F2**2) * (s + _F3**2))
    return a


def _known(weighting: str) -> str:
    if weighting not in WEIGHTINGS:
        raise QuantityError(
            f"there is no weighting {str(weighting)[:20]!r}", valid=", ".join(WEIGHTINGS)
        )
    return weighting


@cache
def weighting_sections(weighting: str, rate_hz: float) -> Array:
    """A digital filter for a weighting, as second-order sections, for samples at ``rate_hz``.

    Poles of low frequencies are turned into digital ones so that each keeps its frequency; the double pole at
    12 kHz so that the gain is right up to half the rate.

    Raises
    ------
    QuantityError
        There is no such weighting, or the rate cannot be used.

    """
    _known(weighting)
    if not _LEAST_RATE_HZ <= rate_hz <= _MOST_RATE_HZ:
        raise QuantityError(
            f"{rate_hz:g} samples a second cannot be weighted",
            valid=f"{_LEAST_RATE_HZ:g} to {_MOST_RATE_HZ:g} samples a second",
        )
    if weighting == "Z":
        return np.array([[1.0, 0.0, 0.0, 1.0, 0.0, 0.0]])
    high = [_high_pass(_F1, rate_hz), _high_pass(_F1, rate_hz)]
    if weighting == "A":
        high += [_high_pass(_F2, rate_hz), _high_pass(_F3, rate_hz)]
    rows = [
        [*np.polymul(high[k][0], high[k + 1][0]), *np.polymul(high[k][1], high[k + 1][1])]
        for k in range(0, len(high), 2)
    ]
    sections = np.array([*rows, _low_pass(_F4, rate_hz)])
    _, at = signal.sosfreqz(sections, worN=[1000.0], fs=rate_hz)
    sections[0, :3] /= abs(at[0])
    return sections


_Factor = tuple[list[float], list[float]]


def _high_pass(frequency_hz: float, rate_hz: float) -> _Factor:
    """S / (s + ω) by the bilinear transform, warped beforehand."""
    w = math.tan(math.pi * frequency_hz / rate_hz)
    return [1.0, -1.0], [1.0, (w - 1.0) / (w + 1.0)]


def _low_pass(frequency_hz: float, rate_hz: float) -> list[float]:
    """(ω / (s + ω))² as a section: the poles where they belong, and zeros that set the gain at three places.

    These are 0 Hz, half the rate, and one between. The square of the gain is a polynomial of sin²(w / 2);
    Vicanek, Matched second order digital filters (2016).
    """
    pole = math.exp(-2.0 * math.pi * frequency_hz / rate_hz)
    bottom = [1.0, -2.0 * pole, pole * pole]

    def square(part: float) -> float:
        """The square of the numerator's gain that is needed at a part of the rate."""
        z = cmath.exp(-2j * math.pi * part)
        below = abs(bottom[0] + bottom[1] * z + bottom[2] * z * z) ** 2
        return below / (1.0 + (part * rate_hz / frequency_hz) ** 2) ** 2

    at_zero, at_half = square(0.0), square(0.5)
    s = math.sin(math.pi * _BETWEEN) ** 2
    curve = (square(_BETWEEN) - at_zero * (1.0 - s) - at_half * s) / (4.0 * s * (1.0 - s))
    mean = 0.5 * (math.sqrt(at_zero) + math.sqrt(at_half))
    b0 = 0.5 * (mean + math.sqrt(max(mean * mean + curve, 0.0)))
    b1 = 0.5 * (math.sqrt(at_zero) - math.sqrt(at_half))
    return [b0, b1, -curve / (4.0 * b0), *bottom]


# IEC 61672-1:2013, table 3: acceptance limits of class 1 in dB, at the nominal frequencies from 10 Hz to
# 20 kHz in third-octave steps; where there is no lower limit it is minus infinity.
_UPPER = (
    3.0, 2.5, 2.0, 2.0, 2.0, 1.5, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0,
    0.7, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.5, 1.5, 1.5, 2.0, 2.0, 2.5, 3.0,
)  # fmt: skip
_LOWER = (
    -math.inf, -math.inf, -4.0, -2.0, -1.5, -1.5, -1.0, -1.0, -1.0, -1.0, -1.0, -1.0, -1.0, -1.0, -1.0,
    -1.0, -1.0, -1.0, -1.0, -1.0, -0.7, -1.0, -1.0, -1.0, -1.0, -1.0, -1.0, -1.5, -2.0, -2.5, -3.0, -5.0,
    -16.0, -math.inf,
)  # fmt: skip


def class_1_limits() -> tuple[Array, Array, Array]:
    """Frequencies in Hz, and the limits of class 1 above and below the weighting, in dB.

    References
    ----------
    IEC 61672-1:2013, table 3; the frequencies are the exact ones, 1 kHz times powers of 10^0.1.

    """
    frequencies = 1000.0 * 10.0 ** (np.arange(-20, 14) / 10.0)
    return frequencies, np.array(_UPPER), np.array(_LOWER)


def class_1_up_to(weighting: str, rate_hz: float) -> float:
    """The highest frequency in Hz up to which the filter for this rate is within the limits of class 1.

    Raises
    ------
    QuantityError
        As for ``weighting_sections``.

    Examples
    --------
    >>> round(class_1_up_to("A", 48000.0), -2), round(class_1_up_to("A", 16000.0), -2)
    (20000.0, 7900.0)

    """
    frequencies, upper, lower = class_1_limits()
    sections = weighting_sections(weighting, rate_hz)
    inside = frequencies < rate_hz / 2.0
    with np.errstate(divide="ignore"):
        _, response = signal.sosfreqz(sections, worN=frequencies[inside], fs=rate_hz)
        off = 20.0 * np.log10(np.abs(response)) - weighting_db(weighting, frequencies[inside])
    bad = np.flatnonzero((off > upper[inside]) | (off < lower[inside]))
    last = bad[0] - 1 if bad.size else int(inside.sum()) - 1
    return float(frequencies[last]) if last >= 0 else 0.0
