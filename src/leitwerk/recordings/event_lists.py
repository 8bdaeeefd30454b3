"""Lists of events that an analyzer has stored: files of text, a line for each event.

The first line is ``begin,duration_s,kind,phases,extreme``: local time, s, the kind, numbers of phases with
spaces between them, V (of an inrush A, of an alarm kW).
"""

from __future__ import annotations

import csv
import math
from collections.abc import Iterator
from pathlib import Path
from zoneinfo import ZoneInfo

from leitwerk.errors import FileProblem, QuantityError
from leitwerk.parsing.local_time import LocalTime, parse_local, soonest
from leitwerk.power.voltage_events import VoltageEvent

_HEAD = ["begin", "duration_s", "kind", "phases", "extreme"]
_LINES = 100_000
_BYTES = 10_000_000


def read_event_lists(folder: Path, zone: ZoneInfo) -> tuple[VoltageEvent, ...]:
    """The events of all lists in a folder, in order; what stands in several counts once.

    Parameters
    ----------
    folder : Path
        Where the files of a device lie; there need not be one.
    zone : ZoneInfo
        By which the device's clock runs.

    Raises
    ------
    FileProblem
        A list cannot be read, or a line of it is no event.

    """
    found: dict[VoltageEvent, None] = {}
    for path in sorted(folder.glob("*-events*.csv")):
        found |= dict.fromkeys(_events(path, zone))
    return tuple(sorted(found, key=lambda event: event.begin_s))


def _events(path: Path, zone: ZoneInfo) -> Iterator[VoltageEvent]:
    try:
        if path.stat().st_size > _BYTES:
            raise FileProblem(f"{path} is too large for a list of events")
        with path.open(encoding="utf-8", newline="") as file:
            rows = list(csv.reader(file))
    except (OSError, ValueError, csv.Error) as error:
        reason = getattr(error, "strerror", None) or str(error)[:100]
        raise FileProblem(f"cannot read {path}: {reason}") from error
    if not rows or rows[0] != _HEAD or len(rows) > _LINES:
        raise FileProblem(
            f"{path} is no list of events", remedy=f"its first line is {','.join(_HEAD)}"
        )
    for number, row in enumerate(rows[1:], start=2):
        try:
            begin, duration, kind, phases, extreme = row
            moment = _moment(begin, zone)
            event = VoltageEvent(
                kind, moment, float(duration), float(extreme),
                tuple(int(phase) - 1 for phase in phases.split()),
            )  # fmt: skip
        except (ValueError, QuantityError) as error:
            raise FileProblem(
                f"{path}, line {number}: this is no event: {str(error)[:100]}",
                remedy="copy it again from the device",
            ) from error
        if not (math.isfinite(event.duration_s) and math.isfinite(event.extreme)):
            raise FileProblem(f"{path}, line {number}: a number of this event is none")
        yield event


def _moment(text: str, zone: ZoneInfo) -> float:
    """The time of a device's clock with its milliseconds, in s since 1970-01-01 UTC."""
    whole, _, milliseconds = text.partition(".")
    wall: LocalTime = parse_local(whole)
    return soonest(wall.wall, zone).timestamp() + float(f"0.{milliseconds or 0}")
