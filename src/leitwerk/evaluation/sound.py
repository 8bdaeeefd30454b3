"""Sampled sound evaluated as a setup says: rows of levels, and what they are over the whole time."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.analysis.levels import level_of, powers
from leitwerk.analysis.series import Column, Series
from leitwerk.check.sound import (
    Calibrated,
    correction_of,
    evaluation_of,
    judge_calibrator,
)
from leitwerk.errors import QuantityError
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.sound import Sound
from leitwerk.signals.quality import Quality
from leitwerk.sound.bands import BandFilters
from leitwerk.sound.corrections import FrequencyCorrection
from leitwerk.sound.levels import pressure_level
from leitwerk.sound.meter import SoundMeter
from leitwerk.sound.mid_frequencies import bands_between
from leitwerk.sound.weightings import class_1_up_to

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True)
class SoundLevels:
    """Levels of each integration as rows, and over the whole time by name, in dB.

    ``whole`` leaves out rows whose quality is not good. ``notes`` say what limits the levels.
    """

    rows: Series
    whole: Mapping[str, float]
    calibrated: Calibrated
    notes: tuple[str, ...]

    @property
    def left_out(self) -> Mapping[str, int]:
        """How many rows are left out, by the reason."""
        assert self.rows.qualities is not None
        codes, counts = np.unique(self.rows.qualities[:, 0], return_counts=True)
        return {
            Quality(int(code)).reason: int(count)
            for code, count in zip(codes, counts, strict=True)
            if code != Quality.GOOD
        }

    def to_dict(self) -> dict[str, Any]:
        """The whole as plain data for JSON."""
        return {
            "rows": int(self.rows.times_s.size),
            "left_out": dict(self.left_out),
            "levels": {k: v if math.isfinite(v) else None for k, v in self.whole.items()},
            "calibrator": {
                "outcome": self.calibrated.outcome.value,
                "reasons": list(self.calibrated.reasons),
            },
            "notes": list(self.notes),
        }


def evaluate_sound(
    sound: Sound, blocks: Iterable[Array], rate_hz: float, begin_s: float | None = None
) -> SoundLevels:
    """Evaluate sound pressure, block by block; memory is that of the rows.

    Parameters
    ----------
    sound : Sound
        The section of a setup, which has been checked.
    blocks : iterable of array
        Sound pressure in Pa.
    rate_hz : float
    begin_s : float, optional
        The time of the first sample, in s since 1970-01-01 UTC; without it, rows have no date.

    Raises
    ------
    QuantityError
        The rate does not fit the evaluations; or there is not one whole integration.

    """
    evaluations = [evaluation_of(name, entry) for name, entry in sound.evaluations.items()]
    low, high = (
        (sound.range.low, sound.range.high) if sound.range is not None else (-math.inf, math.inf)
    )
    meter = SoundMeter(
        rate_hz, evaluations, integration_s=sound.integration.seconds, upper_db=high, lower_db=low
    )
    if sound.corrections:
        curves = [correction_of(sound, name) for name in sound.corrections]
        blocks = FrequencyCorrection(curves, rate_hz).run(blocks)
    found = [row for block in blocks for row in meter.take(block)]
    if not found:
        raise QuantityError(
            f"the recording is shorter than one integration of {sound.integration}",
            valid="a longer recording, or a shorter integration",
        )
    names = [*found[0].values]
    values = np.array([[row.values[name] for name in names] for row in found])
    codes = np.array([row.quality for row in found], np.uint8)
    columns = tuple(Column(name.replace(".", "_"), "dB") for name in names)
    # Silence has no level: its quality is what is kept.
    bad = ~np.isfinite(values)
    qualities = np.where(bad, np.maximum(codes, Quality.UNDEFINED)[:, None], codes[:, None])
    rows = Series(
        columns,
        np.array([row.begin_s for row in found]) + (begin_s or 0.0),
        np.where(bad, np.nan, values),
        qualities.astype(np.uint8),
        dated=begin_s is not None,
    )
    good = codes == Quality.GOOD
    return SoundLevels(
        rows=rows,
        whole=_whole(names, values[good]) | meter.percentiles(),
        calibrated=judge_calibrator(sound),
        notes=tuple(_notes(sound, rate_hz)),
    )


def _whole(names: list[str], values: Array) -> dict[str, float]:
    """Levels over the whole time: means of powers, extremes, sums of exposures."""
    whole = {}
    for k, name in enumerate(names):
        own, kind = values[:, k], name.partition(".")[2]
        if not own.size or not np.isfinite(own).any():
            whole[name] = math.nan
        elif kind in {"maximum", "peak"}:
            whole[name] = float(own.max())
        elif kind == "minimum":
            whole[name] = float(np.nanmin(own))
        else:
            mean = level_of(float(np.mean(powers(own))))
            whole[name] = mean
            if kind == "exposure":
                whole[name] = mean + 10.0 * math.log10(own.size)
    return whole


def _notes(sound: Sound, rate_hz: float) -> Iterable[str]:
    if sound.corrections:
        yield f"corrected by frequency: {', '.join(sound.corrections)}"
    for name, entry in sound.evaluations.items():
        if entry.weighting != "Z":
            top = class_1_up_to(entry.weighting, rate_hz)
            if top < 15_000.0:
                yield (
                    f"{name}: at {rate_hz:g} samples a second, weighting {entry.weighting} is of class 1 "
                    f"up to {top / 1000.0:.1f} kHz"
                )


def full_scale_by_calibrator(sound: Sound, blocks: Iterable[Array], rate_hz: float) -> float:
    """The sound pressure in Pa of full scale, from a recording of the calibrator.

    The level of the calibrator's band counts, so that a noise beside it does not.

    Raises
    ------
    QuantityError
        The setup has no calibrator, or the recording does not hold its tone.

    """
    entry = sound.calibrator
    if entry is None:
        raise QuantityError(
            "the setup has no calibrator", valid="sound: {calibrator: {level: 94 dB}}"
        )
    hertz = entry.frequency.value_in(parse_unit("Hz"))
    bands = bands_between("third octave", hertz * 0.9, hertz * 1.1)
    bank = BandFilters(bands[:1], rate_hz)
    means, wide = [], []
    second = round(rate_hz)
    for block in blocks:
        for begin in range(0, block.size - second + 1, second):
            x = block[begin : begin + second]
            means.append(float(bank.mean_squares(x)[0]))
            wide.append(float(np.mean(x**2)))
    steady = np.array(means[1:])  # the first second holds the beginning of the filter
    if not steady.size or not (steady > 0.0).all() or np.ptp(pressure_level(steady)) > 0.5:
        raise QuantityError(
            f"the recording holds no steady tone of {hertz:g} Hz",
            valid="2 s or more of the calibrator",
        )
    if float(np.mean(steady)) < 0.5 * float(np.mean(wide[1:])):
        raise QuantityError(
            f"most of the recording is not the tone of {hertz:g} Hz", valid="the calibrator alone"
        )
    level = entry.level.value + entry.correction.value
    pressure = 20e-6 * 10.0 ** (level / 20.0)
    return float(pressure / math.sqrt(float(np.mean(steady))))
