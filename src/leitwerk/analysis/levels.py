"""Arithmetic of levels in dB: what is added and averaged is the power behind them."""

from __future__ import annotations

import math
import re
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.parsing.units import Unit

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

# A channel that is named after the mid frequency of its band: band_63_Hz, l_31_5_Hz, l_1_kHz.
BAND_NAME = re.compile(r".*?(\d+(?:[.,_]\d+)?) *_?([kM]?Hz)", re.IGNORECASE)
_LEVEL = "level"  # the dimension of dB
_MOST_DB = 3000.0  # beyond it a power is too large for a number


def is_level(unit: Unit | None) -> bool:
    """Whether values in a unit are levels, which are averaged as powers."""
    return unit is not None and unit.dimension == _LEVEL


def powers(levels_db: Array) -> Array:
    """The power of each level, relative to that of 0 dB: 10 ^ (L / 10)."""
    found: Array = 10.0 ** (np.minimum(levels_db, _MOST_DB) / 10.0)
    return found


def level_of(power: float) -> float:
    """The level of a power that is above 0, in dB.

    Examples
    --------
    >>> round(level_of(2.0), 2)
    3.01

    """
    return 10.0 * math.log10(power)
