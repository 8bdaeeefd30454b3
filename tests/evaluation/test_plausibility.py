"""What readings say of themselves: planted oddities are named, and usual readings are not."""

import numpy as np
import pytest

from conftest import checked, kiln_text
from leitwerk.evaluation.plausibility import doubts

N = 100
T = np.arange(float(N))
RNG = np.random.default_rng(5)


def found(**columns):
    setup = checked(kiln_text())
    channels = [c for c in setup.channels if c.name in columns]
    values = np.column_stack([columns[c.name] for c in channels])
    constants = [5.0 if c.name == "air_top" else None for c in channels]
    return doubts(channels, T, values, [0.001] * len(channels), constants)


def noise(scale=0.05):
    return RNG.normal(0.0, scale, N)


@pytest.mark.parametrize(
    ("columns", "says"),
    [
        ({"air_top": 21.5 + noise(), "air_bottom": 21.2 + noise()}, []),
        ({"air_top": np.full(N, 21.5)}, ["has not moved from 21.5 °C in 100 readings"]),
        ({"air_top": 21.5 + noise() + np.where(T == 50, 400.0, 0.0)}, ["follows within 5 s cannot"]),
        ({"air_top": 21.5 + (same := noise(1.0)), "air_bottom": 21.2 + same}, ["move exactly alike"]),
        # A slow change that both follow, each with a noise of its own, is usual.
        ({"air_top": 20 + T / 10 + noise(), "air_bottom": 19 + T / 11 + noise()}, []),
        ({"air_top": 19.2 + noise(), "timber_core": 21.6 + noise()}, ["are they swapped?"]),
        ({"air_top": 19.2 + noise(), "timber_core": 25.6 + noise()}, []),
        ({"door": np.zeros(N)}, []),
        ({"air_top": np.where(T < 50, 21.5, np.nan)}, []),
    ],
)  # fmt: skip
def test_oddities(columns, says):
    shown = found(**columns)
    assert len(shown) == len(says), shown
    assert all(part in text for part, text in zip(says, shown, strict=True))
