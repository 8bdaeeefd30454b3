"""Reading a single channel: once, or for a while."""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.calibration.tare import TareStage
from leitwerk.check.channels import CheckedChannel
from leitwerk.devices.device import Device
from leitwerk.monitoring.pacing import paced, sample_count
from leitwerk.monitoring.poller import Poller
from leitwerk.setup.model import Setup
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray


def read_once(
    setup: Setup, device: Device, channel: CheckedChannel
) -> tuple[float | None, float | None]:
    """What the device shows on one channel now, and the temperature of its terminals in °C.

    The first is None when the reading is bad.

    Raises
    ------
    WrongDevice
        Another device answered.
    LinkError, DeviceRefused
        The device was not reached, or refused.

    """
    device.require(setup.device.model, setup.device.serial)
    shown, qualities, junction = Poller(device, [channel]).poll()
    good = qualities[0] == Quality.GOOD and math.isfinite(shown[0])
    return float(shown[0]) if good else None, junction


def read_untared(
    setup: Setup,
    device: Device,
    channel: CheckedChannel,
    *,
    duration_s: float,
    rate_hz: float,
    clock: Callable[[], float] = time.monotonic,
    wait: Callable[[float], None] = time.sleep,
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.bool_]]:
    """Times in s, values without any tare, and which of them are good; each of shape (n,).

    Raises
    ------
    QuantityError
        Duration or rate cannot be used.
    WrongDevice, LinkError, DeviceRefused
        As for ``read_once``.

    """
    count = sample_count(duration_s, rate_hz)
    device.require(setup.device.model, setup.device.serial)
    poller = Poller(device, [channel])
    times, shown = np.zeros(count), np.zeros(count)
    qualities = np.zeros(count, dtype=np.uint8)
    for k, time_s in enumerate(paced(count, rate_hz, clock, wait)):
        times[k] = time_s
        found, codes, _ = poller.poll()
        shown[k], qualities[k] = found[0], codes[0]
    values, qualities = channel.host.without(TareStage).convert(shown, qualities)
    return times, values, qualities == Quality.GOOD
