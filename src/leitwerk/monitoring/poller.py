"""Polling all channels of a device with as few requests as possible."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.check.channels import MeasuredChannel
from leitwerk.datasheet.own_quality import own_quality
from leitwerk.datasheet.vocabulary import COLD_JUNCTION
from leitwerk.devices.device import Device
from leitwerk.signals.quality import QUALITY_BY_REASON, Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray


_VERIFY_S = 1.0  # how long an identity is relied on where a swap would break the connection


class Poller:
    """Reads values and qualities of some channels again and again.

    What has to be worked out is worked out once, here; a poll is the reading of one or a few blocks
    and a handful of array operations.
    """

    def __init__(self, device: Device, channels: Sequence[MeasuredChannel]) -> None:
        sheet = device.datasheet
        self._device = device
        # On a shared line, and behind what leads to one, units can be swapped while nothing reconnects.
        self._hides_swaps = device.address.hides_swaps
        self._verified_s = time.monotonic()
        count = len(channels)
        points = [channel.value_point(sheet) for channel in channels]
        qualities = [channel.quality_point(sheet) for channel in channels]
        self._told = np.array([k for k, q in enumerate(qualities) if q is not None], np.intp)
        points += [quality for quality in qualities if quality is not None]
        # Where the device says nothing of its quality, the value itself must; where it says good, a
        # code in the value still stands for no value.
        self._own = [
            (k, points[k])
            for k, q in enumerate(qualities)
            if q is None or points[k].special or points[k].substitute is not None
        ]
        self._has_junction = sheet.has(COLD_JUNCTION)
        if self._has_junction:
            points.append(sheet.point(COLD_JUNCTION))
        self._read = device.reader(points)
        conversions = device.conversions(points[:count])
        self._gain, self._offset = conversions[:, 0], conversions[:, 1]
        self._converts = bool((conversions != (1.0, 0.0)).any())
        self._values = slice(0, count)
        self._codes = slice(count, count + self._told.size)
        choices = points[count].choice_numbers if self._told.size else ()
        self._quality_of_code = np.full(
            int(max((code for _, code in choices), default=0)) + 2, Quality.UNKNOWN, dtype=np.uint8
        )
        for name, code in choices:
            self._quality_of_code[int(code)] = QUALITY_BY_REASON.get(name, Quality.UNKNOWN)

    def poll(self) -> tuple[NDArray[np.float64], NDArray[np.uint8], float | None]:
        """What the device shows, qualities (both of shape (n_channels,)) and the cold junction.

        Raises
        ------
        LinkError, DeviceRefused
            The device was not reached, or refused.
        WrongDevice
            Another device answers than before: its values are not given.

        """
        numbers = self._read()
        if self._hides_swaps or time.monotonic() > self._verified_s + _VERIFY_S:
            self._device.identify()
            self._verified_s = time.monotonic()
        # A code that the datasheet does not know falls on the last entry: quality unknown.
        last = self._quality_of_code.size - 1
        codes = numbers[self._codes]
        codes = np.where((codes >= 0) & (codes < last), codes, last).astype(np.intp)
        junction = float(numbers[-1]) if self._has_junction else None
        qualities = np.zeros(self._values.stop, dtype=np.uint8)
        qualities[self._told] = self._quality_of_code[codes]
        values = numbers[self._values]
        qualities[np.isnan(values) & (qualities == Quality.GOOD)] = Quality.NO_NUMBER
        for column, point in self._own:
            if qualities[column] in {Quality.GOOD, Quality.NO_NUMBER}:
                qualities[column] = own_quality(point, float(values[column]))
        if self._converts:
            values = values * self._gain + self._offset
        return values, qualities, junction
