"""Octave and third-octave bands: filters of class 1, and levels of bands, block by block."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from scipy import signal

from leitwerk.errors import QuantityError
from leitwerk.sound.mid_frequencies import Band

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

_ORDER = 3  # of the low-pass filter from which a band filter comes
_TOP = 0.2345  # the upper edge of a band, by the rate at which it is filtered
_TOO_MANY = 20  # halvings of the rate


def band_sections(band: Band, rate_hz: float) -> Array:
    """A Butterworth band filter as second-order sections; -3 dB at the edges.

    At rates of at least 4.27 times its upper edge it is of class 1.

    Raises
    ------
    QuantityError
        The band does not lie below half the rate.

    References
    ----------
    IEC 61260-1:2014, 5.10, table 1.

    """
    if not band.high_hz < rate_hz / 2.0:
        raise QuantityError(
            f"the band of {band.nominal_hz:g} Hz reaches up to {band.high_hz:g} Hz, beyond half of "
            f"{rate_hz:g} samples a second",
            valid=f"more than {2 * band.high_hz:.0f} samples a second",
        )
    found: Array = signal.butter(
        _ORDER, (band.low_hz, band.high_hz), "bandpass", output="sos", fs=rate_hz
    )
    return found


@dataclass
class _Stage:
    """What is filtered at one rate: how its samples come from those of the stage before, and its bands."""

    rate_hz: float
    way: str  # "as it is", "twice", "half"
    sections: Array
    state: Array
    phase: int = 0
    bands: list[tuple[int, Array, Array]] = field(default_factory=list)

    def come(self, x: Array) -> Array:
        """The samples of this stage, from some more of the one before."""
        if self.way == "as it is":
            return x
        if self.way == "twice":
            wide = np.zeros(2 * x.size)
            wide[::2] = 2.0 * x
            found, self.state = signal.sosfilt(self.sections, wide, zi=self.state)
            return np.asarray(found)
        found, self.state = signal.sosfilt(self.sections, x, zi=self.state)
        kept = found[self.phase :: 2]
        self.phase = (self.phase + x.size) % 2
        return np.asarray(kept)


class BandFilters:
    """Filters for many bands of one signal, which goes on from block to block.

    High bands are filtered at twice the rate, as a digital filter near half of its rate has not the form that
    the standard asks for; low bands at a half, a quarter and so on.

    Parameters
    ----------
    bands : sequence of Band
        From low to high.
    rate_hz : float

    Raises
    ------
    QuantityError
        A band does not lie below half the rate.

    """

    def __init__(self, bands: Sequence[Band], rate_hz: float) -> None:
        self.bands = tuple(bands)
        self.rate_hz = rate_hz
        stages: dict[int, list[int]] = {}
        for number, band in enumerate(self.bands):
            if not band.high_hz < rate_hz / 2.0:
                band_sections(band, rate_hz)  # says why
            halvings = math.floor(math.log2(_TOP * rate_hz / band.high_hz))
            stages.setdefault(max(-1, min(halvings, _TOO_MANY)), []).append(number)
        self._twice = self._stage(-1, stages[-1]) if -1 in stages else None
        deepest = max(stages, default=0)
        self._down = [self._stage(k, stages.get(k, [])) for k in range(deepest + 1)]

    @property
    def stages(self) -> list[_Stage]:
        """What is filtered at each rate, the highest first."""
        return [*([self._twice] if self._twice else []), *self._down]

    def _stage(self, halvings: int, numbers: Sequence[int]) -> _Stage:
        rate = self.rate_hz / 2.0**halvings
        if halvings < 0:
            # Images of what lies in the highest band are taken off; it is flat up to its edge.
            sections = signal.ellip(9, 0.05, 50.0, 0.4665, output="sos")
        elif halvings > 0:
            # Of the rate before: flat up to the highest band that is left, and nothing that folds into it.
            sections = signal.ellip(7, 0.01, 85.0, 2.0 * _TOP / 2.0, output="sos")
        else:
            sections = np.array([[1.0, 0.0, 0.0, 1.0, 0.0, 0.0]])
        way = "twice" if halvings < 0 else "half" if halvings else "as it is"
        stage = _Stage(rate, way, sections, np.zeros((len(sections), 2)))
        for number in numbers:
            own = band_sections(self.bands[number], rate)
            stage.bands.append((number, own, np.zeros((len(own), 2))))
        return stage

    def take(self, x: Array) -> list[Array]:
        """Some more samples, filtered: an array for each band, at the rate of its stage."""
        found: list[Array] = [np.zeros(0)] * len(self.bands)
        if self._twice is not None:
            self._filter(self._twice, x, found)
        for stage in self._down:
            x = self._filter(stage, x, found)
        return found

    def _filter(self, stage: _Stage, x: Array, found: list[Array]) -> Array:
        own = stage.come(x)
        for place, (number, sections, state) in enumerate(stage.bands):
            found[number], after = signal.sosfilt(sections, own, zi=state)
            stage.bands[place] = number, sections, after
        return own

    def mean_squares(self, x: Array) -> Array:
        """The mean square of each band over some more samples; not a number where a stage had none."""
        return np.array(
            [np.dot(y, y) / y.size if y.size else math.nan for y in self.take(x)], float
        )
