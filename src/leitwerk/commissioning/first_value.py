"""From bound to heard: the first telegram of a transmitter, and its channel against its expectation."""

from __future__ import annotations

from dataclasses import dataclass

from leitwerk.check.checked import CheckedSetup
from leitwerk.devices.device import Device
from leitwerk.devices.listening import HeardTelegram, Listener
from leitwerk.evaluation.verdict import ChannelReport, Verdict
from leitwerk.monitoring.pacing import paced
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.project.clock import REAL_TIME, Clock

NOTHING_CAME = (
    "press its send key: it counts as connected only when it has sent",
    "is its battery good, and does its display show a value?",
    "is it in range, and not behind metal?",
    "is it of the same group and band as the receiver?",
)
_LOOKS, _EVERY_S = 6, 0.5  # until the receiver has a value, too


def wait_for_first(listener: Listener, number: int, wait_s: float) -> HeardTelegram | None:
    """The first telegram of a transmitter; None where none comes in time."""
    for heard in listener.hear(wait_s):
        if heard.telegram.number == number:
            return heard
    return None


@dataclass(frozen=True)
class FirstValue:
    """A first telegram; what is wrong about its kind; how the channel that it feeds is judged."""

    heard: HeardTelegram | None
    wrong_kind: str = ""
    report: ChannelReport | None = None

    @property
    def ok(self) -> bool:
        """Whether it was heard, is what the setup says, and does not miss an expectation."""
        fine = {Verdict.PASS, Verdict.NO_EXPECTATION}
        judged = self.report is None or self.report.verdict in fine
        return self.heard is not None and not self.wrong_kind and judged


def judge_first(
    setup: CheckedSetup, device: Device, place: str, heard: HeardTelegram, clock: Clock = REAL_TIME
) -> FirstValue:
    """Hold what was heard against the setup: its kind, and its channel as a live check judges it.

    The channel is read from the receiver, with all corrections of the setup: that proves that the receiver
    has the value at this place.
    """
    entry, kind = setup.setup.places[place], heard.telegram.kind
    if entry.kind not in {None, kind}:
        return FirstValue(heard, f"it says that it is a {kind}, the setup says {entry.kind}")
    if entry.channel is None:
        return FirstValue(heard)
    watch, report = DeviceWatch(setup, device, clock=clock, capacity=1), None
    for _ in paced(range(_LOOKS), _EVERY_S, clock):
        watch.take()
        report = next(one for one in watch.board.reports() if one.name == entry.channel)
        if report.good:
            break
    return FirstValue(heard, report=report)
