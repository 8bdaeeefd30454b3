"""What a unit is measured by: rest, noise, response, signal to noise, agreement, drift."""

from __future__ import annotations

import enum
import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray


class Measure(enum.StrEnum):
    """What a test measures. The last three are of the whole unit, all others of samples of channels."""

    REST = "rest"
    NOISE = "noise"
    RESPONSE = "response"
    SIGNAL_TO_NOISE = "signal to noise"
    ERROR = "error"
    DRIFT = "drift"
    AGREEMENT = "agreement"
    SHORTS = "shorts"
    FIRMWARE = "firmware"
    SETTINGS = "settings"


@dataclass(frozen=True, slots=True)
class Measured:
    """A number with its standard uncertainty, as far as the samples show it (type A), and their count."""

    value: float
    standard: float
    count: int


def rest(samples: ArrayLike) -> Measured:
    """The mean of samples of shape (n,), with its standard deviation of the mean (GUM, 4.2.3)."""
    good = _good(samples)
    if not good.size:
        return Measured(math.nan, math.nan, 0)
    spread = float(good.std(ddof=1)) if good.size > 1 else math.nan
    return Measured(float(good.mean()), spread / math.sqrt(good.size), good.size)


def noise(samples: ArrayLike) -> Measured:
    """The standard deviation of samples about their straight line: what drifts slowly is no noise.

    Its own standard uncertainty is that of a normal distribution, s / sqrt(2 (n - 2)) (GUM, E.4.3).
    """
    good = _good(samples)
    if good.size < 3:
        return Measured(math.nan, math.nan, good.size)
    x = np.arange(good.size) - (good.size - 1) / 2.0
    slope = float((x * good).sum() / (x * x).sum())
    deviation = good - good.mean() - slope * x
    value = math.sqrt(float((deviation * deviation).sum()) / (good.size - 2))
    return Measured(value, value / math.sqrt(2.0 * (good.size - 2)), good.size)


def response(at_rest: ArrayLike, stimulated: ArrayLike) -> Measured:
    """By how much a stimulus changes the mean."""
    before, during = rest(at_rest), rest(stimulated)
    standard = math.hypot(before.standard, during.standard)
    return Measured(during.value - before.value, standard, min(before.count, during.count))


def signal_to_noise_db(at_rest: ArrayLike, stimulated: ArrayLike) -> Measured:
    """The ratio of response to noise in dB: 20 lg (size of the response / standard deviation at rest).

    The noise is that of ``noise``; minus infinity where nothing responds, infinity without noise.
    """
    answer, floor = response(at_rest, stimulated), noise(at_rest)
    if not math.isfinite(answer.value) or not math.isfinite(floor.value):
        return Measured(math.nan, math.nan, answer.count)
    if floor.value == 0.0 or answer.value == 0.0:
        return Measured(math.inf if answer.value else -math.inf, 0.0, answer.count)
    relative = math.hypot(answer.standard / answer.value, floor.standard / floor.value)
    ratio = 20.0 * math.log10(abs(answer.value) / floor.value)
    return Measured(ratio, 20.0 / math.log(10.0) * relative, answer.count)


def drift(samples: ArrayLike) -> Measured:
    """The change from the first to the last quarter of the samples."""
    good = _good(samples)
    quarter = good.size // 4
    if not quarter:
        return Measured(math.nan, math.nan, good.size)
    return response(good[:quarter], good[good.size - quarter :])


def agreement(samples: ArrayLike) -> Measured:
    """The largest difference between the means of channels that should agree.

    Parameters
    ----------
    samples : array_like of shape (n_channels, n)

    """
    every = [rest(one) for one in np.asarray(samples, np.float64)]
    values = [one.value for one in every]
    if not values or not all(map(math.isfinite, values)):
        return Measured(math.nan, math.nan, 0)
    ends = every[int(np.argmax(values))], every[int(np.argmin(values))]
    standard = math.hypot(ends[0].standard, ends[1].standard)
    return Measured(ends[0].value - ends[1].value, standard, min(one.count for one in every))


def error(stimulated: ArrayLike, applied: float) -> Measured:
    """The error of indication: the mean of what is shown less the value that was applied (VIM, 2.16)."""
    shown = rest(stimulated)
    return Measured(shown.value - applied, shown.standard, shown.count)


def _good(samples: ArrayLike) -> NDArray[np.float64]:
    numbers = np.asarray(samples, np.float64).ravel()
    return numbers[np.isfinite(numbers)]
