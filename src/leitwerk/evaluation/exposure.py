"""The daily noise exposure of a person, from the levels that were recorded in a shift."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.levels import level_of, powers
from leitwerk.analysis.series import Series
from leitwerk.analysis.summary import usual_interval, weights
from leitwerk.errors import QuantityError
from leitwerk.parsing.units import parse_unit
from leitwerk.results import Outcome, overall
from leitwerk.setup.papers import Exposure

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

NOMINAL_DAY_S = 8.0 * 3600.0
# ISO 9612:2009, table C.5 (sound level meter of class 1), and C.6 (position of the microphone).
_INSTRUMENT_DB, _POSITION_DB = 0.7, 1.0
USUAL_UNCERTAINTY_DB = math.hypot(_INSTRUMENT_DB, _POSITION_DB)
_COVERAGE = 1.65  # one-sided, 95 %: ISO 9612:2009, C.1


@dataclass(frozen=True)
class NoiseExposure:
    """The exposure of a shift. Levels are in dB, times in s.

    Attributes
    ----------
    equivalent : float
        Equivalent level of what was measured, LAeq.
    daily : float
        Exposure normalised to 8 h, LEX,8h.
    daily_at_most_missing : float
        The same, with all that is missing at the highest level that was measured.
    uncertainty : float
        Expanded uncertainty of the daily exposure, one-sided, 95 %.
    highest : float
        Highest level of one row.
    peak, peak_s : float
        Highest peak level, and when; NaN without a channel for it.
    dose : float
        Share of the allowed daily exposure, 1 where it is reached (exchange rate 3 dB).

    """

    level: str
    begin_s: float
    end_s: float
    measured_s: float
    missing_s: float
    day_s: float
    equivalent: float
    daily: float
    daily_at_most_missing: float
    uncertainty: float
    highest: float
    at_most: float
    peak_name: str = ""
    peak: float = math.nan
    peak_s: float = math.nan
    peak_at_most: float = math.nan
    peaks_missing: int = 0

    @property
    def dose(self) -> float:
        """Share of the allowed daily exposure: 10 ^ ((LEX,8h - allowed) / 10)."""
        return float(10.0 ** ((self.daily - self.at_most) / 10.0))

    @property
    def level_outcome(self) -> Outcome:
        """Passed where the exposure stays allowed with its uncertainty, and with what is missing as loud."""
        if self.daily > self.at_most:
            return Outcome.FAILED
        highest = self.daily_at_most_missing + self.uncertainty
        return Outcome.PASSED if highest <= self.at_most else Outcome.UNKNOWN

    @property
    def peak_outcome(self) -> Outcome | None:
        """Of the peak level; None where it is not judged."""
        if not math.isfinite(self.peak_at_most):
            return None
        if self.peak > self.peak_at_most:
            return Outcome.FAILED
        known = math.isfinite(self.peak) and not self.peaks_missing and self.missing_s == 0.0
        return Outcome.PASSED if known else Outcome.UNKNOWN

    @property
    def outcome(self) -> Outcome:
        """Of both."""
        return overall(one for one in (self.level_outcome, self.peak_outcome) if one is not None)


def noise_exposure(series: Series, judged: Exposure) -> NoiseExposure:
    """The daily noise exposure of a recording.

    Each row is the equivalent level of the time for which it stands. What was measured is taken to be like
    the whole shift: LEX,8h = LAeq + 10 lg (Te / 8 h).

    References
    ----------
    ISO 9612:2009, clause 11 (full-day measurement), annex C (uncertainty); ISO 1999:2013, 3.6.

    Raises
    ------
    QuantityError
        The recording lacks the channel, has no good level, or a unit does not fit.

    """
    levels = _column(series, judged.level)
    times = series.times_s
    interval_s = usual_interval(times)
    stands = weights(times, interval_s)
    good = np.isfinite(levels)
    measured_s = float(stands[good].sum())
    if measured_s <= 0.0:
        raise QuantityError(f"{judged.level} has no good level", valid="rows with good values")
    energy = float(np.dot(powers(levels[good]), stands[good]))
    highest = float(levels[good].max())
    whole_s = float(times[-1] + stands[-1] - times[0])
    missing_s = whole_s - measured_s if whole_s - measured_s > 1e-6 * whole_s else 0.0
    day_s = judged.day.seconds if judged.day is not None else whole_s
    equivalent = level_of(energy / measured_s)
    loudest = float(powers(np.array([highest]))[0])
    louder = level_of((energy + missing_s * loudest) / (measured_s + missing_s))
    by_day = level_of(day_s / NOMINAL_DAY_S)
    own = judged.uncertainty
    standard = USUAL_UNCERTAINTY_DB if own is None else own.value_in(parse_unit("dB"))
    peak_name, peak, peak_s, lacking = _peak(series, judged)
    limit = judged.peak_at_most
    return NoiseExposure(
        judged.level, float(times[0]), float(times[-1] + stands[-1]), measured_s, missing_s, day_s,
        equivalent, equivalent + by_day, louder + by_day, _COVERAGE * standard, highest,
        judged.at_most.value_in(parse_unit("dB")), peak_name, peak, peak_s,
        math.nan if limit is None else limit.value_in(parse_unit("dB")), lacking,
    )  # fmt: skip


def _column(series: Series, name: str) -> Array:
    for k, column in enumerate(series.columns):
        if column.name == name:
            if column.unit != "dB":
                raise QuantityError(f"{name} is in {column.unit or 'no unit'}", valid="dB")
            found: Array = series.good()[:, k]
            return found
    valid = ", ".join(column.name for column in series.columns)
    raise QuantityError(f"the rows have no channel {name!r}", valid=valid)


def _peak(series: Series, judged: Exposure) -> tuple[str, float, float, int]:
    if judged.peak is None:
        return "", math.nan, math.nan, 0
    peaks = _column(series, judged.peak)
    good = np.isfinite(peaks)
    if not good.any():
        return judged.peak, math.nan, math.nan, peaks.size
    k = int(np.nanargmax(peaks))
    return judged.peak, float(peaks[k]), float(series.times_s[k]), int((~good).sum())
