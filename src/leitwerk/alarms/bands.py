"""Bands: named parts of a channel's span, with hysteresis at their borders.

A border is passed upwards where it stands, and downwards only so far below it as the hysteresis
says. Each border is followed like an alarm, so that recordings and live values give the same band.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.alarms.definition import AlarmDefinition
from leitwerk.alarms.runs import level_changes
from leitwerk.alarms.states import Level

if TYPE_CHECKING:
    from numpy.typing import NDArray

NO_BAND = -1


@dataclass(frozen=True, slots=True)
class BandPart:
    """A band from ``start`` (not counted in, but for the lowest) to ``end``, in the channel's unit."""

    name: str
    start: float
    end: float
    text: str
    color: str = ""


@dataclass(frozen=True, slots=True)
class Bands:
    """The bands of a channel, from the lowest up, without overlaps; there may be gaps."""

    parts: tuple[BandPart, ...]
    hysteresis: float = 0.0

    def borders(self) -> list[AlarmDefinition]:
        """Every border as what it is passed like, from the lowest up."""
        ends = sorted({end for part in self.parts for end in (part.start, part.end)})
        return [
            AlarmDefinition.above(f"{end:g}", end, end - self.hysteresis)
            for end in ends
            if np.isfinite(end)
        ]

    def at(
        self,
        values: Sequence[float] | NDArray[np.float64],
        times_s: NDArray[np.float64] | None = None,
    ) -> NDArray[np.intp]:
        """The number of the band at each of a course of values; ``NO_BAND`` in gaps and where bad.

        A bad value leaves it where it was.

        Examples
        --------
        >>> inf = float("inf")
        >>> dry, wet = BandPart("dry", -inf, 8.0, "dry"), BandPart("wet", 8.0, inf, "wet")
        >>> Bands((dry, wet), hysteresis=0.5).at([7.9, 8.1, 7.8, 7.4]).tolist()
        [0, 1, 1, 0]

        """
        x = np.asarray(values, float)
        times = np.arange(x.size, dtype=float) if times_s is None else times_s
        borders = self.borders()
        passed = np.zeros(x.size, np.intp)
        for border in borders:
            at, level = level_changes(border, times, x)
            lengths = np.diff(np.concatenate(([0], at, [x.size])))
            passed += np.repeat(np.append(False, level == Level.TRIPPED), lengths)
        return self.numbers(passed, x)

    def numbers(self, passed: NDArray[np.intp], values: NDArray[np.float64]) -> NDArray[np.intp]:
        """The number of the band, given how many borders have been passed from below."""
        ends = [-np.inf, *(border.trip[1] for border in self.borders())]
        table = [
            next((k for k, p in enumerate(self.parts) if p.start <= low < p.end), NO_BAND)
            for low in ends
        ]
        found = np.array(table, np.intp)[passed]
        found[np.isnan(values)] = NO_BAND
        return found
