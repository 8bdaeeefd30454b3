"""Watching a device for a while, and judging what it shows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.series import series_row
from leitwerk.check.channels import DerivedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.commissioning.live_report import LiveReport, Silence
from leitwerk.datasheet.settings import SettingChange, diff_settings
from leitwerk.devices.device import Device
from leitwerk.errors import LinkError
from leitwerk.evaluation.channel_values import ChannelValues
from leitwerk.evaluation.resolution import resolution_of
from leitwerk.evaluation.situation import Situation
from leitwerk.evaluation.verdict import ChannelReport, Context, judge
from leitwerk.monitoring.pacing import paced, sample_count
from leitwerk.monitoring.poller import Poller
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True)
class LiveProgress:
    """A live check after a sample. ``channels`` judges all samples up to now.

    ``row`` is the sample as a line of ``samples_csv``.
    """

    number: int
    total: int
    channels: Callable[[], tuple[ChannelReport, ...]]
    row: Callable[[], list[str]]


def verify(
    setup: CheckedSetup,
    device: Device,
    *,
    duration_s: float = 5.0,
    period_s: float = 0.5,
    on_sample: Callable[[LiveProgress], None] = lambda sample: None,
    clock: Clock = REAL_TIME,
) -> LiveReport:
    """Poll a device and hold its readings against the setup's expectations.

    When the link is lost on the way, it goes on, and the report says for how long no answer came. An
    interrupt from the keyboard ends it early; what was seen until then is judged.

    Parameters
    ----------
    setup : CheckedSetup
    device : Device
    duration_s : float, in s
        How long to watch.
    period_s : float, in s
        The time from poll to poll. A device that answers more slowly is polled as fast as it can; the
        samples carry their true times.
    on_sample : callable
        Called after every poll.
    clock : Clock
        Where the time comes from.

    Raises
    ------
    SetupError
        The setup has errors.
    WrongDevice
        Another device answered.
    LinkError, DeviceRefused
        The device was not reached at the start, or refused.
    QuantityError
        Duration or period cannot be used.

    """
    count = sample_count(duration_s, period_s)
    setup.require()
    identity = device.require(setup.setup.device.model, setup.setup.device.serial)
    changes = diff_settings(device.read_settings(), setup.settings, device.datasheet)
    started = clock.now()
    watch = _Watch(setup, changes, count, clock, started)
    poller = Poller(device, watch.worked.measured)
    silence = _Silence()
    stopped = False
    try:
        for time_s in paced(range(count), period_s, clock):
            try:
                sample = poller.poll()
            except LinkError as error:
                if not watch.taken:
                    raise
                silence.at(time_s, error)
                continue
            silence.over(time_s)
            watch.add(time_s, *sample)
            on_sample(LiveProgress(watch.taken, count, watch.reports, watch.row))
    except KeyboardInterrupt:
        if not watch.taken:
            raise
        stopped = True
    with suppress(LinkError):
        device.identify()  # a swap since the last look at it shows now
    values, qualities = watch.values()
    return LiveReport(
        title=setup.setup.title,
        identity=identity,
        address=str(device.address),
        started=started,
        channels=watch.reports(),
        differing=tuple(str(change) for change in changes),
        times_s=watch.times_s[: watch.taken],
        silences=silence.spans(),
        stopped=stopped,
        values=values,
        qualities=qualities,
    )


class _Silence:
    """When no answer came."""

    def __init__(self) -> None:
        self._spans: list[Silence] = []
        self._since_s: float | None = None
        self._last_s = 0.0
        self._why = ""

    def at(self, time_s: float, error: LinkError) -> None:
        """No answer at this time."""
        if self._since_s is None:
            self._since_s, self._why = time_s, error.message
        self._last_s = time_s

    def over(self, time_s: float) -> None:
        """It answers again."""
        if self._since_s is not None:
            self._spans.append(Silence(self._since_s, time_s, self._why, ended=True))
            self._since_s = None

    def spans(self) -> tuple[Silence, ...]:
        """All of them, the last one perhaps without an end."""
        if self._since_s is None:
            return tuple(self._spans)
        return (*self._spans, Silence(self._since_s, self._last_s, self._why, ended=False))


class _Watch:
    """The samples so far, and where each alarm stands after them."""

    def __init__(
        self,
        setup: CheckedSetup,
        changes: Sequence[SettingChange],
        count: int,
        clock: Clock,
        started: datetime,
    ) -> None:
        self.channels = channels = setup.channels
        self.zone, self.clock, self.started = setup.setup.zone, clock, started
        self.resolutions = [resolution_of(channel, setup.datasheet) for channel in channels]
        # What is set otherwise in the device, for each channel.
        self.changes = [
            [change for change in changes if channel.owns(change.setting)] for channel in channels
        ]
        self.taken = 0
        self.times_s = np.zeros(count)
        self.worked = ChannelValues(channels)
        self.shown = np.zeros((count, len(self.worked.measured)))
        self.codes = np.zeros((count, len(self.worked.measured)), dtype=np.uint8)
        # Of these samples so many are worked: what is derived from them remembers what was before.
        self._done = 0
        self.blamed: dict[str, list[str]] = {}
        self._values = np.zeros((count, len(channels)))
        self._qualities = np.zeros((count, len(channels)), dtype=np.uint8)
        self.junction: float | None = None
        self.alarmed = any(a.alarms for a in channels)
        self.situation = Situation(channels)

    def add(
        self,
        time_s: float,
        shown: NDArray[np.float64],
        qualities: NDArray[np.uint8],
        junction: float | None,
    ) -> None:
        """Take one sample of all channels, as the device shows it."""
        self.times_s[self.taken] = time_s
        self.shown[self.taken] = shown
        self.codes[self.taken] = qualities
        self.junction = junction
        self.taken += 1
        if self.alarmed:
            values, found = (array[-1] for array in self.values())
            good = Quality.has_value(found) & np.isfinite(values)
            now = self.clock.now().astimezone(self.zone)
            since_midnight = now.hour * 3600 + now.minute * 60 + now.second
            self.situation.take(time_s, values, good, time_of_day_s=since_midnight)

    def values(self) -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
        """Values in the channels' units and qualities of the samples so far."""
        new = slice(self._done, self.taken)
        if self._done < self.taken:
            times = self.started.timestamp() + self.times_s[new]
            found = self.worked.take(times, self.shown[new], self.codes[new])
            self._values[new], self._qualities[new] = found
            self._done = self.taken
            for column, channel in enumerate(self.channels):
                if (
                    isinstance(channel, DerivedChannel)
                    and found[1][-1, column] == Quality.BAD_INPUT
                ):
                    self.blamed[channel.name] = self.worked.blamed(channel)
        return self._values[: self.taken], self._qualities[: self.taken]

    def row(self) -> list[str]:
        """The last sample as a line of a file."""
        values, qualities = self.values()
        time_s = self.started.timestamp() + float(self.times_s[self.taken - 1])
        return series_row(time_s, values[-1].tolist(), qualities[-1].tolist())

    def reports(self) -> tuple[ChannelReport, ...]:
        """Every channel, judged by the samples so far."""
        values, qualities = self.values()
        return tuple(
            judge(
                channel,
                values[:, column],
                qualities[:, column],
                Context(
                    cold_junction=self.junction,
                    interval_s=float(self.times_s[self.taken - 1]) / max(1, self.taken - 1),
                    resolution=self.resolutions[column],
                    changes=self.changes[column],
                    alarms=self.situation.alarm_states(channel.name),
                    blamed=self.blamed.get(channel.name, ()),
                ),
            )
            for column, channel in enumerate(self.channels)
        )
