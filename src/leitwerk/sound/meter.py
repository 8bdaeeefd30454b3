"""A sound level meter in software: several evaluations of one signal at once, block by block."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy import signal

from leitwerk.errors import QuantityError
from leitwerk.signals.quality import Quality
from leitwerk.sound.bands import BandFilters
from leitwerk.sound.detectors import PeakDetector, TimeWeighting
from leitwerk.sound.evaluation import TIME_CONSTANTS, Evaluation
from leitwerk.sound.levels import exceeded_level, pressure_level
from leitwerk.sound.mid_frequencies import bands_between
from leitwerk.sound.weightings import weighting_sections

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Array = NDArray[np.float64]

_SETTLED = 5.0  # time constants, until an exponential mean has come to within 1 %
_LOWEST_DB, _CLASS_DB, _CLASSES = -20.0, 0.1, 2300  # classes in which levels are counted
_TOGETHER = 500_000  # samples that are weighted in one call
_LEVEL_STEP_S = 0.01  # from one level to the next that percentiles are made of


@dataclass(frozen=True, slots=True)
class Levels:
    """What one integration gives: levels in dB by evaluation and name, and whether they can be trusted."""

    begin_s: float
    values: Mapping[str, float]
    quality: Quality


class SoundMeter:
    """Evaluates sampled sound pressure; any division into blocks gives the same levels, bit by bit.

    Parameters
    ----------
    rate_hz : float
        Samples a second.
    evaluations : sequence of Evaluation
    integration_s : float
        For how long each row of levels is made.
    upper_db : float
        The upper end of the measuring range: a peak above it makes a row ``ABOVE_RANGE``.
    lower_db : float
        Its lower end: a row whose level is below it is ``BELOW_RANGE``.

    Raises
    ------
    QuantityError
        The rate, an evaluation or the integration time cannot be used.

    """

    def __init__(
        self,
        rate_hz: float,
        evaluations: Sequence[Evaluation],
        *,
        integration_s: float = 1.0,
        upper_db: float = math.inf,
        lower_db: float = -math.inf,
    ) -> None:
        self.rate_hz, self.integration_s = rate_hz, integration_s
        self._count = round(rate_hz * integration_s)
        if (
            not self._count >= 1
            or abs(self._count / rate_hz - integration_s) > 1e-9 * integration_s
        ):
            raise QuantityError(
                f"{integration_s:g} s are no whole number of samples at {rate_hz:g} a second",
                valid="a whole number of samples",
            )
        names = [evaluation.name for evaluation in evaluations]
        if len({*names}) != len(names) or not names:
            raise QuantityError(
                "evaluations need names of their own", valid="one evaluation or more"
            )
        self._chains = [_Chain(evaluation, rate_hz) for evaluation in evaluations]
        self._upper_pa = 20e-6 * 10.0 ** (upper_db / 20.0) if upper_db < math.inf else math.inf
        self._lower_db = lower_db
        self._rest = np.zeros(0)
        self._done = 0

    def take(self, pressure_pa: ArrayLike) -> Iterator[Levels]:
        """The rows that are complete with some more samples of the pressure in Pa.

        A row with a sample that is not a number is ``NO_NUMBER``; such samples count as silence, so that
        the rows after it are not lost.
        """
        x = np.asarray(pressure_pa, float).ravel()
        if self._rest.size:
            x = np.concatenate([self._rest, x])
        whole = x.size // self._count * self._count
        self._rest = x[whole:].copy()
        together = max(1, _TOGETHER // self._count) * self._count
        for begin in range(0, whole, together):
            yield from self._rows(x[begin : min(begin + together, whole)])

    def _rows(self, x: Array) -> Iterator[Levels]:
        """Some whole rows, weighted together and then evaluated one by one."""
        rows = [slice(k, k + self._count) for k in range(0, x.size, self._count)]
        # One sample that is not a number makes the sum of squares one, too.
        bad = {row.start for row in rows if not math.isfinite(float(np.dot(x[row], x[row])))}
        if bad:
            x = np.where(np.isfinite(x), x, 0.0)
        weighted = [chain.weigh(x) for chain in self._chains]
        for row in rows:
            values: dict[str, float] = {}
            for chain, y in zip(self._chains, weighted, strict=True):
                values |= chain.evaluate(y[row])
            quality = Quality.NO_NUMBER if row.start in bad else self._quality(x[row], values)
            if quality is Quality.GOOD:
                for chain in self._chains:
                    chain.count()
            yield Levels(self._done * self._count / self.rate_hz, values, quality)
            self._done += 1

    def percentiles(self) -> dict[str, float]:
        """The percentiles over all good rows so far, to 0.1 dB; not a number without one."""
        return {name: level for chain in self._chains for name, level in chain.percentiles()}

    def _quality(self, x: Array, values: Mapping[str, float]) -> Quality:
        if self._upper_pa < math.inf and np.abs(x).max() >= self._upper_pa:
            return Quality.ABOVE_RANGE
        below = self._chains[0].equivalent(values) < self._lower_db
        return Quality.BELOW_RANGE if below else Quality.GOOD


class _Chain:
    """One evaluation at work."""

    def __init__(self, evaluation: Evaluation, rate_hz: float) -> None:
        self._of, self._rate_hz = evaluation, rate_hz
        self._sections = weighting_sections(evaluation.weighting, rate_hz)
        self._state = np.zeros((len(self._sections), 2))
        self._time = TimeWeighting(evaluation.time, rate_hz) if evaluation.time else None
        self._peak = PeakDetector() if evaluation.peak else None
        self._bands = None
        if evaluation.bands:
            bands = bands_between(evaluation.bands, evaluation.low_hz, evaluation.high_hz)
            self._bands = BandFilters(bands, rate_hz)
        self._settling = round(_SETTLED * rate_hz * TIME_CONSTANTS.get(evaluation.time, 0.0))
        self._step = max(1, round(rate_hz * _LEVEL_STEP_S))
        self._recent = np.zeros(0)  # levels of the last integration, for percentiles
        self._histogram = np.zeros(_CLASSES, np.int64)

    def count(self) -> None:
        """Count the levels of the last integration."""
        if self._recent.size:
            place = np.floor((self._recent - _LOWEST_DB) / _CLASS_DB).astype(np.int64)
            self._histogram += np.bincount(np.clip(place, 0, _CLASSES - 1), minlength=_CLASSES)

    def percentiles(self) -> Iterator[tuple[str, float]]:
        """Its percentiles over all that was counted."""
        total = int(self._histogram.sum())
        above = np.cumsum(self._histogram[::-1])[::-1]  # how many are in a class or above it
        for percent in self._of.percentiles:
            level = math.nan
            if total:
                place = np.flatnonzero(above >= percent / 100.0 * total)[-1]
                level = _LOWEST_DB + _CLASS_DB * float(place)
            yield f"{self._of.name}.exceeded_{percent:g}", level

    def equivalent(self, values: Mapping[str, float]) -> float:
        """Its equivalent level among the values of a row."""
        return values[f"{self._of.name}.equivalent"]

    def weigh(self, x: Array) -> Array:
        """Some more samples with its frequency weighting."""
        if self._of.weighting == "Z":
            return x
        y, self._state = signal.sosfilt(self._sections, x, zi=self._state)
        return np.asarray(y)

    def evaluate(self, y: Array) -> dict[str, float]:
        """The levels of one integration of weighted samples, by ``evaluation.name``."""
        name = self._of.name
        mean = float(np.dot(y, y)) / y.size
        equivalent = float(pressure_level(mean))
        seconds = y.size / self._rate_hz
        found = {
            f"{name}.equivalent": equivalent,
            # To 1 s, not to the time that was measured.
            f"{name}.exposure": equivalent + 10.0 * math.log10(seconds),
        }
        if self._time is not None:
            weighted = self._time.take(y * y)
            found[f"{name}.maximum"] = float(pressure_level(weighted.max()))
            # It begins at 0: what it shows while it settles is no minimum.
            settled = weighted[self._settling :]
            self._settling = max(0, self._settling - weighted.size)
            low = float(pressure_level(settled.min())) if settled.size else math.nan
            found[f"{name}.minimum"] = low
            if self._of.percentiles:
                self._recent = pressure_level(np.maximum(settled[:: self._step], 1e-30))
                for percent in self._of.percentiles:
                    level = exceeded_level(self._recent, percent) if settled.size else math.nan
                    found[f"{name}.exceeded_{percent:g}"] = level
        if self._peak is not None:
            found[f"{name}.peak"] = float(pressure_level(self._peak.take(y) ** 2))
        if self._bands is not None:
            means = self._bands.mean_squares(y)
            for band, level in zip(self._bands.bands, pressure_level(means), strict=True):
                found[f"{name}.band_{band.nominal_hz:g}_Hz"] = float(level)
        return found
