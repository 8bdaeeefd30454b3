"""Reading once: a channel, or all of them; or one for a while."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from leitwerk.calibration.tare import TareStage
from leitwerk.check.channels import MeasuredChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.devices.device import Device
from leitwerk.evaluation.channel_values import ChannelValues
from leitwerk.monitoring.pacing import paced, sample_count
from leitwerk.monitoring.poller import Poller
from leitwerk.monitoring.samples import samples
from leitwerk.parsing.units import convert, parse_unit
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray


class Shown(NamedTuple):
    """What a device shows on one channel; ``junction`` is the temperature of its terminals in °C."""

    value: float
    quality: Quality
    junction: float | None

    @property
    def is_good(self) -> bool:
        """Whether it is a number that can be trusted."""
        return self.quality is Quality.GOOD and math.isfinite(self.value)


def read_once(setup: CheckedSetup, device: Device, channel: MeasuredChannel) -> Shown:
    """What the device shows on one channel now.

    Raises
    ------
    WrongDevice
        Another device answered.
    LinkError, DeviceRefused
        The device was not reached, or refused.

    """
    device.require(setup.setup.device.model, setup.setup.device.serial)
    shown, qualities, junction = Poller(device, [channel]).poll()
    return Shown(float(shown[0]), Quality(int(qualities[0])), junction)


def read_values(
    setup: CheckedSetup, device: Device, *, clock: Clock = REAL_TIME
) -> dict[str, float | None]:
    """The values of all channels now, in their units, by name; None where there is no good one.

    Raises
    ------
    WrongDevice, LinkError, DeviceRefused
        As for ``read_once``.

    """
    device.require(setup.setup.device.model, setup.setup.device.serial)
    worked = ChannelValues(setup.channels)
    shown, qualities, _ = Poller(device, worked.measured).poll()
    at = np.array([clock.now().timestamp()])
    values, found = worked.take(at, shown[None, :], qualities[None, :])
    good = (found[0] == Quality.GOOD) & np.isfinite(values[0])
    return {
        channel.name: float(value) if is_good else None
        for channel, value, is_good in zip(setup.channels, values[0], good.tolist(), strict=True)
    }


def read_axes(
    setup: CheckedSetup,
    device: Device,
    axes: Sequence[str],
    *,
    duration_s: float,
    clock: Clock = REAL_TIME,
) -> NDArray[np.float64]:
    """Readings of some channels that are accelerations, in m/s², shape (n, len(axes)).

    Raises
    ------
    QuantityError
        There is no such channel, or it is no acceleration; or the duration cannot be used.
    WrongDevice, LinkError, DeviceRefused
        As for ``read_once``.

    """
    unit = parse_unit("m/s^2")
    channels = [setup.measured(name) for name in axes]
    units = [channel.unit for channel in channels]
    for one in units:
        convert(1.0, one, unit)  # refuses what is no acceleration
    found = samples(setup, device, period_s=duration_s / 20.0, duration_s=duration_s, clock=clock)
    rows = [
        [convert(sample[name], u, unit) for name, u in zip(axes, units, strict=True)]
        for sample in found
    ]
    return np.array(rows)


def read_untared(
    setup: CheckedSetup,
    device: Device,
    channel: MeasuredChannel,
    *,
    duration_s: float,
    period_s: float,
    clock: Clock = REAL_TIME,
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.bool_]]:
    """Times in s, values without any tare, and which of them are good; each of shape (n,).

    Raises
    ------
    QuantityError
        Duration or period cannot be used.
    WrongDevice, LinkError, DeviceRefused
        As for ``read_once``.

    """
    count = sample_count(duration_s, period_s)
    device.require(setup.setup.device.model, setup.setup.device.serial)
    poller = Poller(device, [channel])
    times, shown = np.zeros(count), np.zeros(count)
    qualities = np.zeros(count, dtype=np.uint8)
    with device.staying_the_same():
        for k, time_s in enumerate(paced(range(count), period_s, clock)):
            times[k] = time_s
            found, codes, _ = poller.poll()
            shown[k], qualities[k] = found[0], codes[0]
    values, qualities = channel.host.without(TareStage).convert(shown, qualities)
    return times, values, qualities == Quality.GOOD
