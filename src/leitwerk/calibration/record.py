"""The record of a calibration: by whom and with what, as found and as left, until when."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, timedelta

from leitwerk.calibration.conformity import Decision, decide
from leitwerk.calibration.correction import CalibrationPoint, Correction, fit_correction


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
