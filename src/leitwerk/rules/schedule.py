"""Planned runs: when each begins and ends, all in one timeline, and where they overlap."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from leitwerk.alarms.conditions import Condition
from leitwerk.parsing.durations import format_time_of_day
from leitwerk.parsing.local_time import LocalTime, offset_text, soonest, to_instant

MAX_RUNS = 10_000  # of one plan


@dataclass(frozen=True, slots=True)
class Start:
    """When a run begins: exactly one of these, or at once."""

    wait_s: float | None = None
    at: LocalTime | None = None
    daily_s: int | None = None  # local time since midnight
    when: Condition | None = None

    def __str__(self) -> str:
        if self.wait_s is not None:
            return f"after {self.wait_s:g} s"
        if self.at is not None:
            return f"at {self.at}"
        if self.daily_s is not None:
            return f"daily at {format_time_of_day(self.daily_s)}"
        return f"when {self.when}" if self.when is not None else "at once"


@dataclass(frozen=True, slots=True)
class Stop:
    """When a run ends: exactly one of these, or by hand."""

    after_s: float | None = None
    at: LocalTime | None = None
    when_full: bool = False

    def __str__(self) -> str:
        if self.after_s is not None:
            return f"after {self.after_s:g} s"
        if self.at is not None:
            return f"at {self.at}"
        return "when memory is full" if self.when_full else "by hand"


@dataclass(frozen=True, slots=True)
class RunPlan:
    """A run of a schedule, by name.

    ``stores`` is what the device stores by itself then, empty where Leitwerk starts and stops it.
    """

    name: str
    start: Start
    stop: Stop
    stores: str = ""


@dataclass(frozen=True, slots=True)
class PlannedRun:
    """One run with its times in UTC; ``stop`` is None while it is not known."""

    name: str
    start: datetime
    stop: datetime | None
    ends: Stop
    stores: str = ""

    def overlaps(self, other: PlannedRun) -> bool:
        """Whether both would store the same at the same time."""
        if self.stores != other.stores:
            return False
        first, second = sorted((self, other), key=lambda run: run.start)
        return first.stop is None or first.stop > second.start

    def to_dict(self, zone: ZoneInfo) -> dict[str, Any]:
        """The run as plain data, in local time with its offset."""
        stop = None if self.stop is None else self.stop.astimezone(zone).isoformat()
        return {
            "run": self.name,
            **({"stores": self.stores} if self.stores else {}),
            "start": self.start.astimezone(zone).isoformat(),
            "stop": stop,
            "ends": str(self.ends),
        }

    def line(self, zone: ZoneInfo) -> str:
        """The run for people."""
        stop = str(self.ends)
        if self.stop is not None:
            stop = local_text(self.stop, zone)
        stores = f" ({self.stores})" if self.stores else ""
        return f"{local_text(self.start, zone)}  to  {stop:26}  {self.name}{stores}"


def local_text(instant: datetime, zone: ZoneInfo) -> str:
    """An instant as local time, with its offset: ``2026-03-29 03:00 +02:00``."""
    local = instant.astimezone(zone)
    shown = local.replace(tzinfo=None, microsecond=0).isoformat(" ").removesuffix(":00")
    return f"{shown} {offset_text(local.utcoffset())}"


def plan_runs(
    runs: Sequence[RunPlan],
    zone: ZoneInfo,
    now: datetime,
    until: datetime,
    *,
    full_after_s: float | None = None,
) -> list[PlannedRun]:
    """All runs that begin from ``now`` to ``until``, in order.

    Runs that begin when a condition holds are not among them. What is planned daily is taken at the
    first instant that the clocks show its time, or have leapt over it.

    Parameters
    ----------
    now, until : datetime
        With a zone of any kind.
    full_after_s : float, in s, optional
        How long the memory takes to fill, where it does not go round.

    Raises
    ------
    QuantityError
        A local time does not exist, or comes twice.

    """
    found = []
    for run in runs:
        for start in _starts(run.start, zone, now.astimezone(UTC), until.astimezone(UTC)):
            found.append(
                PlannedRun(
                    run.name,
                    start,
                    end_of(run.stop, start, zone, full_after_s),
                    run.stop,
                    run.stores,
                )
            )
            if len(found) >= MAX_RUNS:
                break
    return sorted(found, key=lambda planned: planned.start)


def _starts(start: Start, zone: ZoneInfo, now: datetime, until: datetime) -> Iterator[datetime]:
    if start.when is not None:
        return
    if start.daily_s is not None:
        day = now.astimezone(zone).replace(tzinfo=None, hour=0, minute=0, second=0, microsecond=0)
        while True:
            at = soonest(day + timedelta(seconds=start.daily_s), zone)
            if at >= until:
                return
            if at >= now:
                yield at
            day += timedelta(days=1)
    at = now
    if start.at is not None:
        at = to_instant(start.at, zone)
    elif start.wait_s is not None:
        at = now + timedelta(seconds=start.wait_s)
    if now <= at < until:
        yield at


def end_of(
    stop: Stop, start: datetime, zone: ZoneInfo, full_after_s: float | None
) -> datetime | None:
    """When a run that begins at ``start`` ends, None while it is not known."""
    if stop.after_s is not None:
        return start + timedelta(seconds=stop.after_s)
    if stop.at is not None:
        return to_instant(stop.at, zone)
    if stop.when_full and full_after_s is not None:
        return start + timedelta(seconds=full_after_s)
    return None


def overlaps(planned: Sequence[PlannedRun]) -> list[tuple[PlannedRun, PlannedRun]]:
    """Runs of which one begins before another that stores the same has ended, the first pair of each two."""
    found: dict[tuple[str, str], tuple[PlannedRun, PlannedRun]] = {}
    latest: dict[str, PlannedRun] = {}
    for run in sorted(planned, key=lambda run: run.start):
        # The one that lasts longest so far is the one that a later one can run into.
        longest = latest.get(run.stores)
        if longest is not None and longest.overlaps(run):
            found.setdefault((longest.name, run.name), (longest, run))
        if longest is None or (
            longest.stop is not None and (run.stop is None or run.stop > longest.stop)
        ):
            latest[run.stores] = run
    return list(found.values())
