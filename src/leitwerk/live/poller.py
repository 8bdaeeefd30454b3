"""Polling all channels of a device with as few requests as possible."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.check import Assignment
from leitwerk.links import Device
from leitwerk.signals import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

_QUALITIES = {quality.reason: quality for quality in Quality}


class Poller:
    """Reads values and qualities of some channels again and again.

    What has to be worked out is worked out once, here; a poll is the reading of one or a few blocks
    and a handful of array operations.
    """

    def __init__(self, device: Device, channels: Sequence[Assignment]) -> None:
        sheet = device.datasheet
        count = len(channels)
        points = [sheet.point("readings", "channel.{n}.value", a.slot) for a in channels]
        points += [sheet.point("readings", "channel.{n}.quality", a.slot) for a in channels]
        self._has_junction = sheet.family("readings", "cold_junction") is not None
        if self._has_junction:
            points.append(sheet.point("readings", "cold_junction"))
        self._plan = device.readings_plan(points)
        self._link = device.link
        # Channels of which Leitwerk works a part of the scale itself.
        self._host = [
            (k, a.measurement.host) for k, a in enumerate(channels) if a.measurement.host.links
        ]
        self._values = slice(0, count)
        self._codes = slice(count, 2 * count)
        choices = points[count].choices if count else ()
        self._quality_of_code = np.full(
            max((code for _, code in choices), default=0) + 2, Quality.UNKNOWN, dtype=np.uint8
        )
        for name, code in choices:
            self._quality_of_code[code] = _QUALITIES.get(name, Quality.UNKNOWN)

    def poll(self) -> tuple[NDArray[np.float64], NDArray[np.uint8], float | None]:
        """Values, qualities (both of shape (n_channels,)) and the cold junction's temperature.

        Raises
        ------
        LinkError, DeviceRefused
            The device was not reached, or refused.

        """
        numbers = self._plan.numbers(self._link.read(self._plan.requests))
        # A code that the datasheet does not know falls on the last entry: quality unknown.
        last = self._quality_of_code.size - 1
        codes = np.minimum(numbers[self._codes], last).astype(np.intp)
        junction = float(numbers[-1]) if self._has_junction else None
        values, qualities = numbers[self._values], self._quality_of_code[codes]
        for column, host in self._host:
            one = slice(column, column + 1)
            values[one], qualities[one] = host.convert(values[one], qualities[one])
        return values, qualities, junction
