"""The smallest difference that a channel can show, and the digits that follow from it."""

from __future__ import annotations

import math

import numpy as np

from leitwerk.check.assignment import judged_values
from leitwerk.check.channels import CheckedChannel, MeasuredChannel, SignalChannel
from leitwerk.check.ranges import ranging
from leitwerk.datasheet.model import Datasheet

_MOST_DECIMALS = 9


def resolution_of(channel: CheckedChannel, datasheet: Datasheet) -> float:
    """The smallest difference between two values of a channel, in its unit; 0 if it is not known.

    It is one step of the register, or of the converter where that is coarser.
    """
    if channel.states is not None or not isinstance(channel, MeasuredChannel):
        return 0.0
    point = channel.value_point(datasheet)
    low, high = point.span()
    middle = (max(low, -1e9) + min(high, 1e9)) / 2.0
    ends = channel.host.value(np.array([middle, middle + point.resolution]))
    of_register = float(abs(ends[1] - ends[0]))
    of_converter = 0.0
    if isinstance(channel, SignalChannel) and channel.range is not None:
        used = judged_values(channel.expected, channel.alarms)
        of_converter = ranging(channel.measurement, used).fit(channel.range).resolution
    found = max(of_register if math.isfinite(of_register) else 0.0, of_converter)
    return found if math.isfinite(found) else 0.0


def decimals_of(resolution: float) -> int:
    """The decimals of a number that has no more digits than a resolution gives it.

    Examples
    --------
    >>> decimals_of(0.01), decimals_of(0.5), decimals_of(0.0157), decimals_of(10.0)
    (2, 1, 2, 0)

    """
    # A step of 0.1 must not become 0.09999.
    return min(max(0, -math.floor(math.log10(resolution) + 1e-9)), _MOST_DECIMALS)
