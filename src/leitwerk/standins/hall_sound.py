"""The sound of the simulated saw hall, and what a meter makes of it, by Fourier transforms.

Written apart from the product's own filters and detectors: what is wrong there must not be wrong here, too.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

RATE_HZ = 48_000
_REFERENCE_PA = 20e-6
# Levels in octave bands from 31.5 Hz to 16 kHz, in dB: together 86.3 dB(A), 89.1 dB(C), 90.4 dB(Z).
_OCTAVES_DB = (86.9, 78.1, 77.4, 78.3, 79.8, 81.3, 81.4, 76.0, 68.3, 60.1)
_LOWEST = -5  # its number; 0 is that of 1 kHz
_KNOCK_PA, _KNOCK_S = 3.2, 0.004  # a log that falls onto the carriage, every few seconds
_MS = RATE_HZ // 1000
_RISES_S = {"fast": 0.125, "slow": 1.0, "impulse": 0.035}
_IMPULSE_FALLS_S = 1.5
_ORDER = 3  # of the slopes of its bands, as Butterworth has them
_FINER = 4  # of the samples, for peaks


def hall_sound(seconds: float, seed: int) -> Array:
    """Sound pressure in Pa: noise with the spectrum of the hall, and knocks."""
    random = np.random.default_rng(seed)
    count = round(seconds * RATE_HZ)
    spectrum = np.fft.rfft(random.standard_normal(count))
    hertz = np.fft.rfftfreq(count, 1.0 / RATE_HZ)
    shaped = np.zeros_like(spectrum)
    for k, level in enumerate(_OCTAVES_DB):
        low, high = band_edges("octave", k + 1)
        inside = (hertz >= low) & (hertz < high)
        power = float(np.sum(np.abs(spectrum[inside]) ** 2)) * 2.0 / count**2
        wanted = (_REFERENCE_PA * 10.0 ** (level / 20.0)) ** 2
        shaped[inside] = spectrum[inside] * math.sqrt(wanted / power) if power else 0.0
    pressure = np.fft.irfft(shaped, count)
    for begin in np.arange(0.7, seconds, 2.9):
        t = np.arange(round(8.0 * _KNOCK_S * RATE_HZ)) / RATE_HZ
        knock = _KNOCK_PA * np.exp(-t / _KNOCK_S) * np.sin(2.0 * math.pi * 630.0 * t)
        at = round(begin * RATE_HZ)
        piece = pressure[at : at + t.size]
        piece += knock[: piece.size]
    return pressure


def band_edges(fraction: str, number: int) -> tuple[float, float]:
    """The edges of a band in Hz, counted from 1: octaves from 31.5 Hz, third octaves from 25 Hz."""
    steps = {"octave": 1, "third octave": 3}[fraction]
    mid = number - 1 + (_LOWEST if steps == 1 else -16)
    low, high = (1000.0 * 10.0 ** (0.3 * (mid + side) / steps) for side in (-0.5, 0.5))
    return low, high


def band_count(fraction: str) -> int:
    """How many bands the filter has."""
    return {"none": 0, "octave": 10, "third octave": 30}[fraction]


def levels_of(pressure: Array, weighting: str, time: str) -> dict[str, float]:
    """Equivalent, highest time-weighted and peak level of a piece of sound, in dB."""
    weighted = np.fft.rfft(pressure) * _response(pressure.size, weighting)
    fine = np.fft.irfft(weighted, _FINER * pressure.size) * _FINER
    own = np.fft.irfft(weighted, pressure.size)
    return {
        "equivalent": _level(float(np.mean(own**2))),
        "maximum": _level(_highest(own, time)) if time in _RISES_S else math.nan,
        "peak": _level(float(np.max(fine**2))),
    }


def band_levels(pressure: Array, weighting: str, fraction: str) -> list[float]:
    """Equivalent levels of the bands, from the lowest on, in dB."""
    power = np.abs(np.fft.rfft(pressure) * _response(pressure.size, weighting)) ** 2
    hertz = np.fft.rfftfreq(pressure.size, 1.0 / RATE_HZ)
    found = []
    for number in range(1, band_count(fraction) + 1):
        low, high = band_edges(fraction, number)
        mid = math.sqrt(low * high)
        beside = (hertz[1:] / mid - mid / hertz[1:]) / (high / mid - mid / high)
        passed = power[1:] / (1.0 + beside ** (2 * _ORDER))
        found.append(_level(2.0 * float(np.sum(passed)) / pressure.size**2))
    return found


def _response(count: int, weighting: str) -> NDArray[np.complex128]:
    """The weighting at the frequencies of a transform (IEC 61672-1:2013, annex E)."""
    s = 2j * math.pi * np.fft.rfftfreq(count, 1.0 / RATE_HZ)
    if weighting == "Z":
        return np.ones_like(s)
    w1, w2, w3, w4 = (2.0 * math.pi * f for f in (20.598997, 107.65265, 737.86223, 12194.217))
    gain = 10.0 ** ((2.0 if weighting == "A" else 0.06) / 20.0)
    found: NDArray[np.complex128] = gain * w4**2 * s**2 / ((s + w1) ** 2 * (s + w4) ** 2)
    return found * (s**2 / ((s + w2) * (s + w3)) if weighting == "A" else np.ones_like(s))


def _highest(own: Array, time: str) -> float:
    """The highest time-weighted mean square, millisecond by millisecond."""
    squares = (own[: own.size // _MS * _MS] ** 2).reshape(-1, _MS).mean(axis=1)
    keep = math.exp(-0.001 / _RISES_S[time])
    fall = math.exp(-0.001 / _IMPULSE_FALLS_S)
    state = held = best = 0.0
    for square in squares.tolist():
        state = keep * state + (1.0 - keep) * square
        held = max(state, fall * held) if time == "impulse" else state
        best = max(best, held)
    return best


def _level(square: float) -> float:
    return 10.0 * math.log10(square / _REFERENCE_PA**2) if square > 0.0 else -math.inf
