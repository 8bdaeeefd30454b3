"""The clock of a device beside the true time."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from leitwerk.datasheet.model import Datasheet
from leitwerk.errors import LinkError
from leitwerk.parsing.local_time import soonest

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


@dataclass(frozen=True, slots=True)
class ClockZone:
    """The zone of a device's clock: UTC by its datasheet, else a zone, else that of this computer."""

    datasheet: Datasheet
    zone: ZoneInfo | None = None

    def __str__(self) -> str:
        if self.datasheet.clock_is_utc:
            return "UTC"
        here = datetime.now().astimezone().tzname() or "local time"
        return self.zone.key if self.zone else f"{here} (zone of this computer)"

    def now(self) -> datetime:
        """The true time as the clock is to show it, without a zone."""
        moment = datetime.now(UTC)
        return (moment if self.datasheet.clock_is_utc else moment.astimezone(self.zone)).replace(
            tzinfo=None
        )

    def instant(self, shown: datetime) -> datetime:
        """The instant, in UTC, at which the clock shows a time; the first one, if it does so twice."""
        if self.datasheet.clock_is_utc:
            return shown.replace(tzinfo=UTC)
        return soonest(shown, self.zone) if self.zone else shown.astimezone(UTC)


def read_clock(text: str, zone: ClockZone, true: datetime) -> ClockReading:
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
            f"{text[:40]!r} is what {zone.datasheet.model} shows as its clock, and no time",
            remedy="set its clock; or does the datasheet not fit?",
        ) from None
    return ClockReading(shown.replace(tzinfo=None), true, str(zone))


def _long(seconds: float) -> str:
    for length, name in ((86400.0, "days"), (3600.0, "hours"), (60.0, "minutes")):
        if seconds >= 2.0 * length:
            return f"{seconds / length:.0f} {name}"
    return f"{seconds:.0f} s"
