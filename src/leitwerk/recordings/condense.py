"""A series condensed to the statistics of storage intervals on the wall clock."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.analysis.intervals import wall_clock_intervals
from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.statistics import interval_statistics
from leitwerk.errors import QuantityError


def condense(series: Series, length_s: float, statistics: Sequence[str], zone: ZoneInfo) -> Series:
    """The statistics of each interval of a series, at the time when the interval begins.

    Values that are not good count nowhere. The columns are called ``air_top mean`` and so on.

    Parameters
    ----------
    length_s : float, in s
        The storage interval; see ``wall_clock_intervals``.
    statistics : sequence of str
        Some of ``STATISTICS``.
    zone : ZoneInfo
        Whose days and hours the intervals follow.

    Raises
    ------
    QuantityError
        The series has no dates, or the interval fits no clock.

    """
    if not series.dated:
        raise QuantityError(
            "these times have no date: no interval of the clock can be given",
            valid="a file with a column 'time', in UTC",
            remedy="set the clock of the device before it records",
        )
    times = series.times_s
    start, end = (datetime.fromtimestamp(t, UTC) for t in (times.min(), times.max() + 1e-3))
    intervals = wall_clock_intervals(start, end, length_s, zone)
    found = [
        interval_statistics(times, column, intervals, statistics) for column in series.good().T
    ]
    columns = tuple(
        Column(f"{column.name} {statistic}", "" if statistic == "count" else column.unit)
        for column in series.columns
        for statistic in statistics
    )
    values = [of_column[statistic] for of_column in found for statistic in statistics]
    table = np.stack(values, axis=1) if values else np.empty((intervals.count, 0))
    return Series(columns, intervals.edges[:-1], table)
