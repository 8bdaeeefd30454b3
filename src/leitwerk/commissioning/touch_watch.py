"""Watching what a finger does: channels beside their baselines, and the thresholds that a device holds."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import count
from typing import TYPE_CHECKING, Any

from leitwerk.check.channels import CheckedChannel, ReadingChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.commissioning.unit_tests import for_serial
from leitwerk.devices.device import Device
from leitwerk.errors import QuantityError
from leitwerk.lots.thresholds import SuggestedThreshold
from leitwerk.lots.touches import Touches
from leitwerk.monitoring.pacing import paced
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.project.clock import REAL_TIME, Clock

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True)
class TouchResult:
    """What is suggested for a channel that was touched; ``held`` is the threshold that its device holds."""

    channel: str
    suggested: SuggestedThreshold
    held: float | None

    @property
    def held_margins(self) -> tuple[float, float] | None:
        """The margins of the threshold that is held, to rest and to response."""
        return None if self.held is None else self.suggested.margins_of(self.held)

    @property
    def ok(self) -> bool:
        """Whether the threshold that is held, or the suggested one, has room on both sides."""
        margins = self.held_margins
        return self.suggested.ok if margins is None else min(margins) >= self.suggested.wanted

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        one = self.suggested
        return {
            "threshold": one.threshold, "hysteresis": one.hysteresis, "rest": one.rest,
            "touched": one.touched, "noise": one.noise, "margins": [one.below, one.above],
            "held": self.held, "held_margins": self.held_margins and list(self.held_margins), "ok": self.ok,
        }  # fmt: skip


class TouchWatch:
    """Samples of some channels of a device, learnt at rest and then watched.

    Parameters
    ----------
    setup : CheckedSetup
        Its serial number does not count: any unit of the model is watched.
    device : Device
    names : sequence of str
        The channels; all that have numbers, if none is named.

    Raises
    ------
    QuantityError
        There is no such channel.

    """

    def __init__(
        self,
        setup: CheckedSetup,
        device: Device,
        names: Sequence[str] = (),
        clock: Clock = REAL_TIME,
    ) -> None:
        known = {channel.name: channel for channel in setup.channels if channel.states is None}
        for name in names:
            if name not in known:
                raise QuantityError(
                    f"there is no channel {name[:40]!r} with numbers", valid=", ".join(known)
                )
        channels = [channel for name, channel in known.items() if not names or name in names]
        self.touches = Touches(tuple(channel.name for channel in channels))
        serial = device.identify().serial
        self._watch = DeviceWatch(for_serial(setup, serial), device, clock=clock, capacity=1)
        self._clock = clock
        order = [channel.name for channel in self._watch.board.channels]
        self._columns = [order.index(name) for name in self.touches.names]
        self.thresholds = _held(channels, device)

    def learn(self, duration_s: float, period_s: float) -> None:
        """Learn the baselines for a time in which nothing is touched."""
        for values in self._samples(duration_s, period_s):
            self.touches.take_rest(values)

    def watch(self, duration_s: float, period_s: float) -> Iterator[float]:
        """Watch for a time: the moment of each sample, in s on a clock that never goes back."""
        for values in self._samples(duration_s, period_s):
            self.touches.take(values)
            yield self._clock.monotonic()

    def results(self) -> list[TouchResult]:
        """What is suggested for each channel that was touched long enough."""
        found = ((name, self.touches.suggestion(name)) for name in self.touches.names)
        return [TouchResult(n, one, self.thresholds.get(n)) for n, one in found if one is not None]

    def _samples(self, duration_s: float, period_s: float) -> Iterator[NDArray[Any]]:
        end = self._clock.monotonic() + duration_s
        for _ in paced(count(), period_s, self._clock):
            yield self._watch.take().values[self._columns]
            if self._clock.monotonic() >= end:
                return


def _held(channels: Sequence[CheckedChannel], device: Device) -> dict[str, float]:
    """The threshold of each channel: the setting beside its reading, such as button.1.threshold."""
    settings, found = device.read_settings().values, {}
    for channel in channels:
        if isinstance(channel, ReadingChannel):
            value = settings.get(f"{channel.point.name.rpartition('.')[0]}.threshold")
            if isinstance(value, float | int):
                found[channel.name] = float(value)
    return found
