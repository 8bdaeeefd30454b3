"""What a reading is worth where the device does not say it beside the value."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.datasheet.points import Point
from leitwerk.signals.quality import QUALITY_BY_REASON, Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray


def own_quality(point: Point, value: float) -> Quality:
    """What a reading without a quality of its own is worth.

    A code that stands for no value is bad, and so is the value that the device shows in place of a
    missing sensor: it must never be taken for a reading.
    """
    if special := point.special_name(value):
        return QUALITY_BY_REASON.get(special, Quality.OPEN_SENSOR)
    if math.isnan(value):
        return Quality.NO_NUMBER
    if (numbers := point.choice_numbers) and value not in {number for _, number in numbers}:
        return Quality.UNKNOWN
    if point.substitute is not None and abs(value - point.substitute) <= point.resolution / 2.0:
        return Quality.OPEN_SENSOR
    low, high = point.span()
    if value < low:
        return Quality.BELOW_RANGE
    return Quality.ABOVE_RANGE if value > high else Quality.GOOD


def own_qualities(point: Point, values: NDArray[np.float64]) -> NDArray[np.uint8]:
    """The same for an array of values of one point, of the same shape."""
    each, where = np.unique(values, return_inverse=True)
    found = np.array([own_quality(point, value) for value in each.tolist()], dtype=np.uint8)
    return found[where].reshape(values.shape)
