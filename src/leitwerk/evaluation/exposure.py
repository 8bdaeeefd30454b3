"""The daily noise exposure of a person, from the levels that were recorded in a shift."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from leitwerk.analysis.levels import level_of, powers
from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.steps import Steps, steps_of
from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.units import parse_unit
from leitwerk.results import Outcome, overall
from leitwerk.setup.papers import Exposure

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

    def __str__(self) -> str:
        text = (
            f"noise exposure of {self.level}: {self.outcome.value}: LEX,8h {self.daily:.1f} dB "
            f"(U = {self.uncertainty:.1f} dB), at most {self.at_most:g} dB; LAeq {self.equivalent:.1f} dB in "
            f"{duration_text(round(self.measured_s))}"
        )
        if math.isfinite(self.peak):
            text += f"; peak {self.peak:.1f} dB"
        return text

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


class ExposureMeter:
    """Gathers the daily noise exposure of a recording, piece by piece.

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

    def __init__(self, columns: Sequence[Column], judged: Exposure) -> None:
        self._judged = judged
        self._level = _place(columns, judged.level)
        self._peak = None if judged.peak is None else _place(columns, judged.peak)
        self._begin_s = self._end_s = math.nan
        self._energy, self._measured_s, self._highest = 0.0, 0.0, -math.inf
        self._highest_peak, self._peak_s, self._lacking = math.nan, math.nan, 0

    def take(self, steps: Steps) -> None:
        """Take the next rows."""
        if math.isnan(self._begin_s):
            self._begin_s = float(steps.times_s[0])
        self._end_s = steps.end_s
        levels = steps.values[:, self._level]
        good = np.isfinite(levels)
        if good.any():
            stands = steps.stands_s[good]
            self._energy += float(np.dot(powers(levels[good]), stands))
            self._measured_s += float(stands.sum())
            self._highest = max(self._highest, float(levels[good].max()))
        if self._peak is not None:
            peaks = steps.values[:, self._peak]
            known = np.isfinite(peaks)
            self._lacking += int((~known).sum())
            if known.any():
                k = int(np.nanargmax(peaks))
                if not peaks[k] <= self._highest_peak:
                    self._highest_peak, self._peak_s = float(peaks[k]), float(steps.times_s[k])

    def exposure(self) -> NoiseExposure:
        """What came of it."""
        judged, measured_s = self._judged, self._measured_s
        if measured_s <= 0.0:
            raise QuantityError(f"{judged.level} has no good level", valid="rows with good values")
        whole_s = self._end_s - self._begin_s
        missing_s = whole_s - measured_s if whole_s - measured_s > 1e-6 * whole_s else 0.0
        day_s = judged.day.seconds if judged.day is not None else whole_s
        loudest = float(powers(np.array([self._highest]))[0])
        louder = level_of((self._energy + missing_s * loudest) / (measured_s + missing_s))
        equivalent, by_day = level_of(self._energy / measured_s), level_of(day_s / NOMINAL_DAY_S)
        own, limit = judged.uncertainty, judged.peak_at_most
        standard = USUAL_UNCERTAINTY_DB if own is None else own.value_in(parse_unit("dB"))
        return NoiseExposure(
            judged.level, self._begin_s, self._end_s, measured_s, missing_s, day_s, equivalent,
            equivalent + by_day, louder + by_day, _COVERAGE * standard, self._highest,
            judged.at_most.value_in(parse_unit("dB")), judged.peak or "", self._highest_peak,
            self._peak_s, math.nan if limit is None else limit.value_in(parse_unit("dB")), self._lacking,
        )  # fmt: skip


def noise_exposure(series: Series, judged: Exposure) -> NoiseExposure:
    """The daily noise exposure of a recording: see ``ExposureMeter``."""
    meter = ExposureMeter(series.columns, judged)
    meter.take(steps_of(series))
    return meter.exposure()


def _place(columns: Sequence[Column], name: str) -> int:
    for k, column in enumerate(columns):
        if column.name == name:
            if column.unit != "dB":
                raise QuantityError(f"{name} is in {column.unit or 'no unit'}", valid="dB")
            return k
    valid = ", ".join(column.name for column in columns)
    raise QuantityError(f"the rows have no channel {name!r}", valid=valid)
