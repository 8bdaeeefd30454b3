"""Storage intervals on the wall clock: whole hours, days and so on, as the place counts them."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import DAY_S
from leitwerk.parsing.frames import dataframe
from leitwerk.parsing.local_time import transitions

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import ArrayLike, NDArray

MAX_INTERVALS = 10_000_000


@dataclass(frozen=True)
class Intervals:
    """Edges of shape (n + 1,) in s since 1970-01-01 UTC; interval k runs from edge k (counted in).

    Intervals at a change of the clocks are shorter or longer than the others.
    """

    edges: NDArray[np.float64]
    length_s: float
    zone: ZoneInfo

    @property
    def count(self) -> int:
        """How many intervals there are."""
        return max(0, int(self.edges.size) - 1)

    def of(self, times_s: ArrayLike) -> NDArray[np.intp]:
        """The number of the interval at each time, negative or ``count`` outside all of them."""
        return np.searchsorted(self.edges, times_s, side="right") - 1

    def starts(self) -> list[datetime]:
        """When each interval begins, in local time."""
        return [datetime.fromtimestamp(edge, self.zone) for edge in self.edges[:-1].tolist()]

    def expected(self, sample_s: float) -> NDArray[np.float64]:
        """How many samples an interval should hold, taken every ``sample_s``."""
        found: NDArray[np.float64] = np.diff(self.edges) / sample_s
        return found

    def to_dataframe(
        self, statistics: Mapping[str, ArrayLike] | None = None, unit: str = ""
    ) -> pd.DataFrame:
        """A row for each interval: ``start`` in local time as its index, then the statistics.

        Parameters
        ----------
        statistics : mapping from name to array_like of shape (count,), optional
            As ``interval_statistics`` gives them.
        unit : str
            Their unit; a count has none.

        """
        columns = {"start": self.starts(), **(statistics or {})}
        units = {name: unit for name in statistics or {} if name != "count"}
        return dataframe(columns, units, "start")

    def __repr__(self) -> str:
        return f"<{self.count} intervals of {self.length_s:g} s, zone {self.zone.key}>"


def wall_clock_intervals(
    start: datetime, end: datetime, length_s: float, zone: ZoneInfo
) -> Intervals:
    """The intervals of a length that hold all of a time, aligned to midnight on the wall clock.

    An hour that the clocks show twice makes two intervals of an hour; one that they skip makes none.
    Days have 23 or 25 hours then. A longer interval in which the clocks change is kept whole.

    Parameters
    ----------
    start, end : datetime
        With a zone of any kind.
    length_s : float, in s
        A whole number of s that divides a day, or a whole number of days.

    Raises
    ------
    QuantityError
        The length fits no wall clock, or the intervals are too many.

    """
    whole = float(length_s).is_integer() and length_s > 0
    if not whole or (DAY_S % length_s if length_s <= DAY_S else length_s % DAY_S):
        raise QuantityError(
            f"{length_s:g} s cannot be aligned to the clock",
            valid="a part of a day that divides it (10 s, 15 min, 6 h), or whole days",
        )
    if (end - start).total_seconds() / length_s > MAX_INTERVALS:
        raise QuantityError("these are too many intervals", valid=f"at most {MAX_INTERVALS:,}")
    length = int(length_s)
    margin = timedelta(seconds=length + DAY_S)
    low, high = start.astimezone(UTC), end.astimezone(UTC)
    changes = transitions((low - margin).replace(microsecond=0), high + margin, zone)
    bounds = [(low - margin).replace(microsecond=0), *changes, high + margin]
    edges: list[int] = []
    reached = math.nan  # the wall time just before the piece, in s
    for first, last in pairwise(bounds):
        at = int(first.timestamp())
        offset = int((first.astimezone(zone).utcoffset() or timedelta(0)).total_seconds())
        wall, wall_end = at + offset, int(last.timestamp()) + offset
        begins = -(-wall // length) * length  # the first multiple from here on
        piece = range(begins, wall_end, length)
        # The clocks change here. A time that they had reached, or skip, begins a new interval; one in
        # whose middle they change goes on.
        steps_back = not math.isnan(reached) and wall < reached
        if steps_back:
            if reached % length == 0 and length < DAY_S:
                edges.append(at)
            elif begins < reached:
                piece = range(-(-int(reached) // length) * length, wall_end, length)
        elif not math.isnan(reached) and -(-wall // length) != -(-int(reached) // length):
            edges.append(at)
        edges += [moment - offset for moment in piece]
        reached = wall_end
    every = np.unique(np.array(edges, float))
    first_edge = max(0, int(np.searchsorted(every, low.timestamp(), side="right")) - 1)
    last_edge = int(np.searchsorted(every, high.timestamp(), side="left"))
    return Intervals(every[first_edge : last_edge + 1], float(length), zone)


def wall_seconds(times_s: NDArray[np.float64], zone: ZoneInfo) -> NDArray[np.float64]:
    """What the clock of a place shows, in s as if it were UTC; for times in s since 1970-01-01 UTC.

    Examples
    --------
    >>> wall_seconds(np.array([0.0]), ZoneInfo("Europe/Vienna")).tolist()
    [3600.0]

    """
    if not times_s.size:
        return times_s.copy()
    first, last = (datetime.fromtimestamp(t, UTC) for t in (times_s.min(), times_s.max() + 1.0))
    changes = [first, *transitions(first, last, zone)]
    begins = np.array([change.timestamp() for change in changes])
    offsets = np.array(
        [(change.astimezone(zone).utcoffset() or timedelta()).total_seconds() for change in changes]
    )
    place = np.maximum(np.searchsorted(begins, times_s, side="right") - 1, 0)
    found: NDArray[np.float64] = times_s + offsets[place]
    return found
