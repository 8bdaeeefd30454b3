"""A series condensed to the statistics of storage intervals on the wall clock."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.analysis.intervals import Intervals, wall_clock_intervals
from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.statistics import interval_statistics
from leitwerk.errors import QuantityError
from leitwerk.parsing.units import parse_unit
from leitwerk.recordings.rows import joined_rows, rows_of


def condense(
    series: Series,
    length_s: float,
    statistics: Sequence[str],
    zone: ZoneInfo,
    *,
    counted: Collection[str] = (),
) -> Series:
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
    counted : collection of str
        Angles that go on over a full turn: channels with ``circular: no``.

    Raises
    ------
    QuantityError
        The series has no dates, or the interval fits no clock.

    """
    _require_dates(series)
    times = series.times_s
    return _condensed(
        series, _intervals(times.min(), times.max(), length_s, zone), statistics, counted
    )


def condense_pieces(
    pieces: Iterable[Series],
    length_s: float,
    statistics: Sequence[str],
    zone: ZoneInfo,
    *,
    counted: Collection[str] = (),
) -> Iterator[Series]:
    """The same piece by piece, with the memory of a piece and of one interval.

    ``pieces`` are those of one recording, in the order of time.
    """
    held: Series | None = None
    begin_s = math.nan  # where the next interval begins that is to be given
    for piece in pieces:
        _require_dates(piece)
        if not piece.times_s.size:
            continue
        rows = piece if held is None else joined_rows([held, piece])
        first = rows.times_s[0] if math.isnan(begin_s) else begin_s
        intervals = _intervals(first, rows.times_s[-1], length_s, zone)
        begin_s = float(intervals.edges[-2])
        before = rows.times_s < begin_s
        held = rows_of(rows, ~before)
        if intervals.count > 1:
            done = replace(intervals, edges=intervals.edges[:-1])
            yield _condensed(rows_of(rows, before), done, statistics, counted)
    if held is not None:
        last = _intervals(begin_s, held.times_s[-1], length_s, zone)
        yield _condensed(held, last, statistics, counted)


def _require_dates(series: Series) -> None:
    if not series.dated:
        raise QuantityError(
            "these times have no date: no interval of the clock can be given",
            valid="a file with a column 'time', in UTC",
            remedy="set the clock of the device before it records",
        )


def _intervals(begin_s: float, end_s: float, length_s: float, zone: ZoneInfo) -> Intervals:
    start, end = (datetime.fromtimestamp(t, UTC) for t in (begin_s, end_s + 1e-3))
    return wall_clock_intervals(start, end, length_s, zone)


def _condensed(
    series: Series, intervals: Intervals, statistics: Sequence[str], counted: Collection[str]
) -> Series:
    found = [
        interval_statistics(
            series.times_s,
            values,
            intervals,
            statistics,
            unit=parse_unit(column.unit) if column.unit else None,
            circular=column.name not in counted,
        )
        for column, values in zip(series.columns, series.good().T, strict=True)
    ]
    columns = tuple(
        Column(f"{column.name} {statistic}", "" if statistic == "count" else column.unit)
        for column in series.columns
        for statistic in statistics
    )
    values = [of_column[statistic] for of_column in found for statistic in statistics]
    table = np.stack(values, axis=1) if values else np.empty((intervals.count, 0))
    return Series(columns, intervals.edges[:-1], table)
