"""Watching a device for a while, and judging what it shows."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass

from leitwerk.check.checked import CheckedSetup
from leitwerk.commissioning.live_report import LiveReport
from leitwerk.devices.device import Device
from leitwerk.errors import LinkError
from leitwerk.evaluation.plausibility import doubts
from leitwerk.evaluation.verdict import ChannelReport
from leitwerk.monitoring.pacing import paced, sample_count
from leitwerk.monitoring.watching import DeviceWatch, Taken
from leitwerk.project.clock import REAL_TIME, Clock


@dataclass(frozen=True)
class LiveProgress:
    """A live check after a sample. ``channels`` judges all samples up to now."""

    number: int
    total: int
    channels: Callable[[], tuple[ChannelReport, ...]]


def verify(
    setup: CheckedSetup,
    device: Device,
    *,
    duration_s: float = 5.0,
    period_s: float = 0.5,
    on_sample: Callable[[LiveProgress], None] = lambda sample: None,
    on_taken: Taken = lambda watch, sample: None,
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
        Called after every answer.
    on_taken : callable
        Called with the watch and every look at the device, also where it did not answer.
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
    watch = DeviceWatch(setup, device, clock=clock, capacity=count)
    stopped = False
    try:
        for _ in paced(range(count), period_s, clock):
            sample = watch.take()
            if watch.board.taken:
                on_taken(watch, sample)
            if not sample.error:
                number = watch.board.taken
                on_sample(LiveProgress(number, count, watch.board.reports))
            elif not watch.board.taken:
                raise LinkError(sample.error)
    except KeyboardInterrupt:
        if not watch.board.taken:
            raise
        stopped = True
    return report_of(watch, stopped=stopped)


def report_of(watch: DeviceWatch, *, stopped: bool = False) -> LiveReport:
    """The report on all that was watched, judged by the samples that are kept."""
    board = watch.board
    with suppress(LinkError):
        watch.device.identify()  # a swap since the last look at it shows now
    return LiveReport(
        title=watch.setup.setup.title,
        identity=watch.identity,
        address=str(watch.device.address),
        started=watch.started,
        channels=board.reports(),
        differing=tuple(str(change) for change in watch.changes),
        times_s=board.history.times_s - watch.begins_s,
        silences=watch.silences.spans(),
        stopped=stopped,
        values=board.history.values,
        qualities=board.history.qualities,
        doubts=tuple(_doubts(watch)),
    )


def _doubts(watch: DeviceWatch) -> list[str]:
    """What is odd about the samples that are kept."""
    board, typed = watch.board, watch.setup.setup.channels
    constants = [typed[c.name].time_constant for c in board.channels]
    return doubts(
        board.channels, board.history.times_s, board.history.known(),
        [board.resolution(column) for column in range(len(board.channels))],
        [None if constant is None else constant.seconds for constant in constants],
    )  # fmt: skip
