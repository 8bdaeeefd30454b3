"""A recording as CSV, condensed to the statistics of storage intervals on the wall clock."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.analysis.intervals import wall_clock_intervals
from leitwerk.analysis.statistics import interval_statistics
from leitwerk.errors import QuantityError
from leitwerk.parsing.csv_table import read_table
from leitwerk.parsing.local_time import soonest

if TYPE_CHECKING:
    from numpy.typing import NDArray

_VALID = "CSV with a column 'time' first (2026-03-02 06:00:00), as fetched recordings are"


def condense(text: str, length_s: float, statistics: Sequence[str], zone: ZoneInfo) -> str:
    """The statistics of each interval of a recording, as CSV.

    Times in the recording are those of the clock on the wall; of an hour that comes twice, the
    second one is known by a step back. An empty cell is not a value.

    Parameters
    ----------
    length_s : float, in s
        The storage interval; see ``wall_clock_intervals``.
    statistics : sequence of str
        Some of ``STATISTICS``.

    Raises
    ------
    QuantityError
        The text is not a recording, or the interval fits no clock.

    """
    names, instants, values = _read(text, zone)
    start, end = (datetime.fromtimestamp(t, UTC) for t in (instants.min(), instants.max() + 1e-3))
    intervals = wall_clock_intervals(start, end, length_s, zone)
    found = [interval_statistics(instants, column, intervals, statistics) for column in values.T]
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(
        ["time", *(f"{name} {statistic}" for name in names for statistic in statistics)]
    )
    for k, begin in enumerate(intervals.starts()):
        cells = [column[statistic][k] for column in found for statistic in statistics]
        shown = ("" if math.isnan(cell) else f"{cell:.9g}" for cell in cells)
        writer.writerow([begin.isoformat(sep=" "), *shown])
    return out.getvalue()


def _read(text: str, zone: ZoneInfo) -> tuple[list[str], NDArray[np.float64], NDArray[np.float64]]:
    names, stamps, values = read_table(text, "time", _VALID)
    times = np.empty(len(stamps))
    before: datetime | None = None
    for k, stamp in enumerate(stamps):
        before = _instant(stamp, zone, before, f"line {k + 2}")
        times[k] = before.timestamp()
    return names, times, values


def _instant(text: str, zone: ZoneInfo, before: datetime | None, where: str) -> datetime:
    try:
        wall = datetime.fromisoformat(text.strip())
    except ValueError:
        raise QuantityError(f"{where}: {text[:30]!r} is not a time", valid=_VALID) from None
    if wall.tzinfo is not None:
        return wall.astimezone(UTC)
    first = soonest(wall, zone)
    second = wall.replace(tzinfo=zone, fold=1).astimezone(UTC)
    # Of an hour that comes twice, the second time when the first would step back.
    if before is not None and first <= before <= second + timedelta(seconds=1):
        return second
    return first
