"""The readings of a device, sample by sample, for a loop of one's own."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from itertools import count
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.check.channels import CheckedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.devices.device import Device
from leitwerk.evaluation.channel_values import ChannelValues
from leitwerk.monitoring.pacing import paced, sample_count
from leitwerk.monitoring.poller import Poller
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True)
class Sample:
    """One reading of all channels. ``values`` and ``qualities`` have shape (n_channels,).

    ``time_s`` is in s from the first sample, ``at`` the time of day. A value is in its channel's unit,
    and means something only where its quality is good.
    """

    at: datetime
    time_s: float
    channels: tuple[CheckedChannel, ...]
    values: NDArray[np.float64]
    qualities: NDArray[np.uint8]

    def __getitem__(self, channel: str) -> float:
        """The value of a channel, NaN where it is bad."""
        for k, known in enumerate(self.channels):
            if known.name == channel:
                good = self.qualities[k] == Quality.GOOD
                return float(self.values[k]) if good else float("nan")
        raise KeyError(channel)

    def __str__(self) -> str:
        parts = (
            f"{c.name} {c.words(float(v))}"
            if q == Quality.GOOD
            else f"{c.name} {Quality(int(q)).reason}"
            for c, v, q in zip(self.channels, self.values, self.qualities, strict=True)
        )
        return f"{self.time_s:.1f} s: {', '.join(parts)}"

    def __repr__(self) -> str:
        return f"<Sample at {self.time_s:.3f} s: {len(self.channels)} channels>"


def samples(
    setup: CheckedSetup,
    device: Device,
    *,
    period_s: float = 1.0,
    duration_s: float | None = None,
    clock: Clock = REAL_TIME,
) -> Iterator[Sample]:
    """The readings of a device, one sample after the other.

    Parameters
    ----------
    setup : CheckedSetup
    device : Device
    period_s : float, in s
        The time from one sample to the next.
    duration_s : float, in s, optional
        How long; without it, until the loop is left.
    clock : Clock
        Where the time comes from.

    Raises
    ------
    SetupError
        The setup has errors.
    WrongDevice
        Another device answered.
    LinkError, DeviceRefused
        The device was not reached, or refused.
    QuantityError
        Duration or period cannot be used.

    """
    numbers = range(sample_count(duration_s, period_s)) if duration_s is not None else count()
    if duration_s is None:
        sample_count(period_s, period_s)  # a period that cannot be used is refused
    channels = setup.require().channels
    device.require(setup.setup.device.model, setup.setup.device.serial)
    worked = ChannelValues(channels)
    poller = Poller(device, worked.measured)
    begins_s = clock.now().timestamp()
    for time_s in paced(numbers, period_s, clock):
        shown, qualities, _ = poller.poll()
        at = np.array([begins_s + time_s])
        values, found = worked.take(at, shown[None, :], qualities[None, :])
        yield Sample(clock.now(), time_s, channels, values[0], found[0])
