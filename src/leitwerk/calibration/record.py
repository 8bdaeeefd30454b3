"""The record of a calibration: by whom and with what, as found and as left, until when."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from datetime import date, timedelta

import numpy as np

from leitwerk.calibration.conformity import Decision, decide
from leitwerk.calibration.correction import CalibrationPoint, Correction, fit_correction


@dataclass(frozen=True, slots=True)
class Uncorrected:
    """A calibration that corrects nothing: the errors that were found at some readings stay.

    ``errors`` are pairs of reading and error, in the order of the readings; ``expanded`` is the expanded
    uncertainty (k = 2) of the calibration. All in the channel's unit.
    """

    errors: tuple[tuple[float, float], ...]
    expanded: float

    def error_at(self, reading: float) -> float:
        """The error at a reading: on a line between the points, beyond them that of the nearest."""
        if not self.errors or math.isnan(reading):
            return max((error for _, error in self.errors), key=abs, default=0.0)
        readings, errors = zip(*self.errors, strict=True)
        return float(np.interp(reading, readings, errors))


@dataclass(frozen=True, slots=True)
class CalibrationRecord:
    """One calibration of a channel.

    Parameters
    ----------
    on : date
    due : date
    reference : str
        The instrument it was compared with.
    found : tuple of CalibrationPoint
        As found, before anything was touched.
    kind : str
        Which correction is made of it, as for ``fit_correction``; ``none`` for a record only.
    left : tuple of CalibrationPoint
        As left: readings with the correction in force, when they were taken.
    expanded : float
        Expanded uncertainty (k = 2) of the calibration, in the channel's unit.

    """

    on: date
    due: date
    reference: str
    found: tuple[CalibrationPoint, ...]
    kind: str = "offset and gain"
    left: tuple[CalibrationPoint, ...] = ()
    expanded: float = 0.0

    @property
    def correction(self) -> Correction | None:
        """The correction that this record asks for.

        Raises
        ------
        DomainError
            The points do not allow it.

        """
        if self.kind == "none":
            return None
        return replace(fit_correction(self.found, self.kind), expanded=self.expanded)

    @property
    def uncorrected(self) -> Uncorrected | None:
        """What a record that corrects nothing leaves; None where it asks for a correction."""
        if self.kind != "none":
            return None
        points = sorted(self.left or self.found, key=lambda point: point.reading)
        return Uncorrected(tuple((p.reading, p.error) for p in points), self.expanded)

    @property
    def interval(self) -> timedelta:
        """From this calibration to the next one due."""
        return self.due - self.on

    def is_overdue(self, today: date) -> bool:
        """Whether it should have been repeated by now."""
        return today > self.due

    def conformity(self, tolerance: float, *, as_left: bool = False) -> list[Decision]:
        """For each point, whether its error lies within a tolerance, as found or as left."""
        points = self.left if as_left else self.found
        return [decide(p.error, self.expanded / 2.0, -tolerance, tolerance) for p in points]
