"""One way to evaluate sound: weighting, detector, bands, by their names."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from leitwerk.errors import QuantityError
from leitwerk.sound.mid_frequencies import FRACTIONS

_MOST_DB = 20.0  # of a correction
WEIGHTINGS = ("A", "C", "Z")
# IEC 61672-1:2013, 5.8: time constants in s; I as IEC 60651:1979 has it.
TIME_CONSTANTS = {"F": 0.125, "S": 1.0, "I": 0.035}


@dataclass(frozen=True, slots=True)
class Evaluation:
    """One way to evaluate a signal, with a name of its own.

    ``weighting`` is A, C or Z; ``time`` F, S or I, or empty where only the equivalent level is wanted.
    ``percentiles`` are those of the time-weighted level, ``peak`` asks for the peak level; ``bands`` are
    *octave* or *third octave*, from ``low_hz`` to ``high_hz``, with the equivalent level of each.
    """

    name: str
    weighting: str = "A"
    time: str = "F"
    percentiles: tuple[float, ...] = ()
    peak: bool = False
    bands: str = ""
    low_hz: float = 25.0
    high_hz: float = 16_000.0

    def __post_init__(self) -> None:
        for what, one, valid in (
            ("weighting", self.weighting, WEIGHTINGS),
            ("time weighting", self.time, ("", *TIME_CONSTANTS)),
            ("bands", self.bands, ("", *FRACTIONS)),
        ):
            if one not in valid:
                raise QuantityError(
                    f"{self.name}: there is no {what} {str(one)[:20]!r}",
                    valid=", ".join(x or "none" for x in valid),
                )
        if self.percentiles and not self.time:
            raise QuantityError(
                f"{self.name}: percentiles need a time weighting", valid="F, S or I"
            )


def require_correction(correction: Mapping[float, float]) -> None:
    """Refuse a correction by frequency, in Hz and dB, that cannot be.

    Raises
    ------
    QuantityError
        It is empty, or a frequency or a level of it cannot be.

    """
    if not correction:
        raise QuantityError(
            "a correction without a frequency corrects nothing", valid="{4 kHz: 0.3 dB}"
        )
    for hertz, level in correction.items():
        if not (math.isfinite(hertz) and hertz > 0.0 and abs(level) <= _MOST_DB):
            raise QuantityError(
                f"a correction of {level:g} dB at {hertz:g} Hz cannot be",
                valid=f"at most {_MOST_DB:g} dB, above 0 Hz",
            )
