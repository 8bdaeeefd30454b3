"""The clock of a device beside the true time."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from leitwerk.datasheet.model import Datasheet
from leitwerk.errors import LinkError

CLOCK_FORM = "%Y-%m-%d %H:%M:%S"


@dataclass(frozen=True, slots=True)
class ClockReading:
    """What a device's clock shows, and the time of this machine in the device's own way."""

    shown: datetime
    true: datetime
    zone: str = ""

    @property
    def deviation_s(self) -> float:
        """How much it is fast, in s; negative when it is slow. Device clocks show whole seconds."""
        return (self.shown - self.true.replace(microsecond=0)).total_seconds()

    def __str__(self) -> str:
        off = abs(self.deviation_s)
        # One second is lost on the way and in the display.
        if off <= 1.0:
            return f"{self.shown.strftime(CLOCK_FORM)} {self.zone}, right"
        which = "fast" if self.deviation_s > 0.0 else "slow"
        return f"{self.shown.strftime(CLOCK_FORM)} {self.zone}, {_long(off)} {which}"

    def to_dict(self) -> dict[str, Any]:
        """The reading as plain data for JSON."""
        return {
            "shown": self.shown.isoformat(),
            "zone": self.zone,
            "deviation_s": self.deviation_s,
        }


def now(datasheet: Datasheet) -> datetime:
    """The time of this machine as a device of a model keeps it: UTC or local, without a zone."""
    moment = datetime.now(UTC)
    return (moment if datasheet.clock_is_utc else moment.astimezone()).replace(tzinfo=None)


def read_clock(text: str, datasheet: Datasheet, true: datetime) -> ClockReading:
    """What a clock's text means.

    Raises
    ------
    LinkError
        It is not a time.

    """
    try:
        shown = datetime.fromisoformat(text.strip())
    except ValueError:
        raise LinkError(
            f"{text[:40]!r} is what {datasheet.model} shows as its clock, and no time",
            remedy="set its clock; or does the datasheet not fit?",
        ) from None
    zone = "UTC" if datasheet.clock_is_utc else datetime.now().astimezone().tzname() or "local time"
    return ClockReading(shown.replace(tzinfo=None), true, zone)


def _long(seconds: float) -> str:
    for length, name in ((86400.0, "days"), (3600.0, "hours"), (60.0, "minutes")):
        if seconds >= 2.0 * length:
            return f"{seconds / length:.0f} {name}"
    return f"{seconds:.0f} s"
