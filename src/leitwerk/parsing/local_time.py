"""Time zones by name, and local times that exist once, twice, or not at all."""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from leitwerk.errors import QuantityError

_LOCAL = re.compile(r"(\d{4}-\d\d-\d\d)[ T](\d\d:\d\d(?::\d\d)?)(?: *(Z|[+-]\d\d:\d\d))?")
_DAY = timedelta(days=1)


@lru_cache(maxsize=256)
def find_zone(name: str) -> ZoneInfo:
    """The time zone of a name of the IANA database, such as ``Europe/Berlin``.

    Raises
    ------
    QuantityError
        There is no zone of that name; the nearest is named.

    """
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        pass
    near = difflib.get_close_matches(name[:60], sorted(available_timezones()), n=1, cutoff=0.5)
    raise QuantityError(
        f"there is no time zone {name[:60]!r}",
        valid="a name such as Europe/Berlin, America/New_York or UTC",
        remedy=f"did you mean {near[0]!r}?" if near else "",
    )


@dataclass(frozen=True, slots=True)
class LocalTime:
    """A time on the wall, and where it was written, its offset from UTC."""

    wall: datetime
    offset: timedelta | None = None

    def __str__(self) -> str:
        text = self.wall.isoformat(" ", "minutes" if self.wall.second == 0 else "seconds")
        return text if self.offset is None else text + offset_text(self.offset)


def parse_local(text: str) -> LocalTime:
    """The local time that a text such as ``2026-03-02 06:00`` holds.

    Raises
    ------
    QuantityError
        It is not a time.

    """
    match = _LOCAL.fullmatch(text.strip())
    valid = "2026-03-02 06:00, or with an offset: 2026-10-25 02:30 +01:00"
    if match is None:
        raise QuantityError(f"{text[:60]!r} is not a date and time", valid=valid)
    try:
        wall = datetime.fromisoformat(f"{match[1]} {match[2]}")
    except ValueError as error:
        raise QuantityError(f"{text!r} is not a date and time: {error}", valid=valid) from None
    if not 1970 <= wall.year < 2200:
        raise QuantityError(f"{text!r} is of another century", valid="years 1970 to 2199")
    if match[3] is None:
        return LocalTime(wall)
    if match[3] == "Z":
        return LocalTime(wall, timedelta(0))
    hours, minutes = (int(part) for part in match[3][1:].split(":"))
    offset = timedelta(hours=hours, minutes=minutes)
    return LocalTime(wall, -offset if match[3][0] == "-" else offset)


def to_instant(local: LocalTime, zone: ZoneInfo) -> datetime:
    """The instant, in UTC, that a local time means.

    Raises
    ------
    QuantityError
        The clocks skip it, or show it twice and no offset says which is meant.

    """
    both = [local.wall.replace(tzinfo=zone, fold=fold) for fold in (0, 1)]
    # A wall time that comes back as another one is skipped when the clocks go forward.
    real = [
        t for t in both if t.astimezone(UTC).astimezone(zone).replace(tzinfo=None) == local.wall
    ]
    instants = sorted({t.astimezone(UTC) for t in real})
    if local.offset is not None and instants:
        meant = (local.wall - local.offset).replace(tzinfo=UTC)
        if meant in instants:
            return meant
        message = f"{local}: {zone.key} has another offset then"
        raise QuantityError(message, valid=_written(local, instants, zone))
    if not instants:
        before, after = _skip(local.wall, zone)
        raise QuantityError(
            f"{local} does not exist in {zone.key}: the clocks go from {before:%H:%M} to "
            f"{after:%H:%M}",
            valid=f"before {before:%H:%M}, or from {after:%H:%M}",
        )
    if len(instants) > 1:
        raise QuantityError(
            f"{local} comes twice in {zone.key}: the clocks go back then",
            valid=_written(local, instants, zone),
            remedy="write which one is meant",
        )
    return instants[0]


def _written(local: LocalTime, instants: list[datetime], zone: ZoneInfo) -> str:
    """A local time as it is written with the offset of each instant."""
    offsets = (instant.astimezone(zone).utcoffset() for instant in instants)
    return " or ".join(f"{LocalTime(local.wall)} {offset_text(offset)}" for offset in offsets)


def soonest(wall: datetime, zone: ZoneInfo) -> datetime:
    """The first instant, in UTC, at which the clocks show a time or have passed it.

    What is shown twice is taken the first time; what is skipped begins when the clocks have leapt.
    """
    first = wall.replace(tzinfo=zone, fold=0).astimezone(UTC)
    if first.astimezone(zone).replace(tzinfo=None) == wall:
        return first
    return transition_near(wall, zone)


def transition_near(wall: datetime, zone: ZoneInfo) -> datetime:
    """The instant at which the clocks skip a wall time."""
    low = (wall - _DAY).replace(tzinfo=zone).astimezone(UTC)
    high = (wall + _DAY).replace(tzinfo=zone).astimezone(UTC)
    return next(iter(transitions(low, high, zone)))


def transitions(start: datetime, end: datetime, zone: ZoneInfo) -> list[datetime]:
    """The instants (UTC) from ``start`` to ``end`` at which the offset of a zone changes."""
    found = []
    here = start
    while here < end:
        then = min(here + _DAY, end)
        if _offset(here, zone) != _offset(then, zone):
            low, high = here, then
            while high - low > timedelta(seconds=1):
                middle = (low + (high - low) / 2).replace(microsecond=0)
                if middle == low:
                    middle = low + timedelta(seconds=1)
                if _offset(middle, zone) == _offset(low, zone):
                    low = middle
                else:
                    high = middle
            found.append(high)
        here = then
    return found


def _offset(instant: datetime, zone: ZoneInfo) -> timedelta:
    return instant.astimezone(zone).utcoffset() or timedelta(0)


def offset_text(offset: timedelta | None) -> str:
    """An offset from UTC as ISO 8601 writes it: ``+01:00``."""
    minutes = round((offset or timedelta(0)).total_seconds() / 60)
    sign = "-" if minutes < 0 else "+"
    return f"{sign}{abs(minutes) // 60:02}:{abs(minutes) % 60:02}"


def _skip(wall: datetime, zone: ZoneInfo) -> tuple[datetime, datetime]:
    """What the clocks show before and after they leap over a wall time."""
    at = transition_near(wall, zone)
    before = (at - timedelta(seconds=1)).astimezone(zone) + timedelta(seconds=1)
    return before, at.astimezone(zone)
