"""When the day, the hour or another period on the wall clock began."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

import numpy as np

from leitwerk.analysis.intervals import wall_clock_intervals

if TYPE_CHECKING:
    from numpy.typing import NDArray


class Periods:
    """Periods of a length on the wall clock of a zone. Remembers those that were asked for last."""

    def __init__(self, length_s: float, zone: ZoneInfo) -> None:
        self.length_s, self.zone = length_s, zone
        self._edges = np.zeros(0)
        wall_clock_intervals(
            _moment(0.0), _moment(1.0), length_s, zone
        )  # refuses a length that fits none

    def starts(self, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """When the period of each time began, both in s since 1970-01-01 UTC."""
        low, high = float(times_s[0]), float(times_s[-1])
        edges = self._edges
        if not (edges.size and edges[0] <= low and high < edges[-1]):
            margin = self.length_s
            found = wall_clock_intervals(
                _moment(low - margin), _moment(high + margin), self.length_s, self.zone
            )
            edges = self._edges = found.edges
        result: NDArray[np.float64] = edges[np.searchsorted(edges, times_s, side="right") - 1]
        return result


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)
