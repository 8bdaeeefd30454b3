"""Octave and third-octave bands by their mid frequencies and edges."""

from __future__ import annotations

import math
from dataclasses import dataclass

from leitwerk.errors import QuantityError

FRACTIONS = {"octave": 1, "third octave": 3}
_RATIO = 10.0**0.3  # IEC 61260-1:2014, 5.2.1: the octave ratio, base 10
_PREFERRED = (1.0, 1.25, 1.6, 2.0, 2.5, 3.15, 4.0, 5.0, 6.3, 8.0)  # ISO 266


@dataclass(frozen=True, slots=True)
class Band:
    """A band: its exact mid frequency, its edges in Hz, and the nominal mid frequency that names it."""

    mid_hz: float
    low_hz: float
    high_hz: float
    nominal_hz: float


def band_at(fraction: str, number: int) -> Band:
    """The band with a number: 0 is that of 1 kHz.

    Raises
    ------
    QuantityError
        There is no such fraction.

    References
    ----------
    IEC 61260-1:2014, 5.4 (exact mid frequencies, base 10), 5.5 (edges), annex E (nominal frequencies).

    Examples
    --------
    >>> band = band_at("third octave", -12)
    >>> band.nominal_hz, round(band.mid_hz, 4), round(band.low_hz, 3), round(band.high_hz, 3)
    (63.0, 63.0957, 56.234, 70.795)

    """
    if fraction not in FRACTIONS:
        raise QuantityError(
            f"there are no bands of a {str(fraction)[:20]!r}", valid=", ".join(FRACTIONS)
        )
    b = FRACTIONS[fraction]
    mid = 1000.0 * _RATIO ** (number / b)
    half = _RATIO ** (0.5 / b)
    third = 3 * number // b
    decade, place = divmod(third, 10)
    return Band(mid, mid / half, mid * half, _PREFERRED[place] * 1000.0 * 10.0**decade)


def bands_between(fraction: str, low_hz: float, high_hz: float) -> list[Band]:
    """The bands whose nominal mid frequencies are from one to another, both included.

    Raises
    ------
    QuantityError
        There are none, or no such fraction.

    """
    b = FRACTIONS.get(fraction, 1)
    if not 0.0 < low_hz <= high_hz < math.inf:
        raise QuantityError(
            f"{low_hz:g} to {high_hz:g} Hz hold no band", valid="frequencies that rise"
        )
    first = math.floor(b * math.log(low_hz / 1000.0, _RATIO)) - 1
    last = math.ceil(b * math.log(high_hz / 1000.0, _RATIO)) + 1
    every = [band_at(fraction, number) for number in range(first, last + 1)]
    found = [x for x in every if low_hz * 0.999 <= x.nominal_hz <= high_hz * 1.001]
    if not found:
        raise QuantityError(f"{low_hz:g} to {high_hz:g} Hz hold no band of a {fraction}")
    return found
