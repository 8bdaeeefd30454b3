"""Calibration: corrections from points, uncertainty to the GUM, decisions to JCGM 106."""

from leitwerk.calibration.conformity import Decision, decide, global_risks
from leitwerk.calibration.correction import CalibrationPoint, Correction, fit_correction
from leitwerk.calibration.record import CalibrationRecord
from leitwerk.calibration.uncertainty import Budget, Contribution, mean_contribution

__all__ = [
    "Budget",
    "CalibrationPoint",
    "CalibrationRecord",
    "Contribution",
    "Correction",
    "Decision",
    "decide",
    "fit_correction",
    "global_risks",
    "mean_contribution",
]
