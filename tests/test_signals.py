"""The sensor curves against the printed tables of their standards."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.errors import QuantityError
from leitwerk.signals import TwoPoint, find_sensor, platinum, thermocouple

# IEC 60584-1:2013, table of type K: emf in mV, printed to 1 µV.
TYPE_K = [
    (-270, -6.458), (-200, -5.891), (-100, -3.554), (-1, -0.039), (0, 0.0), (1, 0.039), (20, 0.798),
    (100, 4.096), (127, 5.206), (300, 12.209), (500, 20.644), (1000, 41.276), (1372, 54.886),
]  # fmt: skip
# IEC 60751:2022, table of resistance for R0 = 100 Ω, printed to 0.01 Ω.
PT100 = [
    (-200, 18.52), (-100, 60.26), (-50, 80.31), (0, 100.0), (50, 119.40), (100, 138.51),
    (200, 175.86), (400, 247.09), (850, 390.48),
]  # fmt: skip


@pytest.mark.parametrize(("celsius", "millivolt"), TYPE_K)
def test_type_k_table(celsius, millivolt):
    assert thermocouple.emf(celsius, "K") == pytest.approx(millivolt, abs=0.0005 + 1e-9)


@pytest.mark.parametrize(("celsius", "ohm"), PT100)
def test_pt100_table(celsius, ohm):
    assert platinum.resistance(celsius) == pytest.approx(ohm, abs=0.005 + 1e-9)
    assert platinum.temperature(ohm) == pytest.approx(celsius, abs=0.02)
    assert platinum.temperature(ohm * 5, r0=500) == pytest.approx(celsius, abs=0.02)


def test_inverses_are_consistent_with_the_reference_functions():
    kelvin_k = np.linspace(-270, 1372, 200_001)
    back = thermocouple.temperature(thermocouple.emf(kelvin_k, "K"), "K")
    assert np.abs(back - kelvin_k).max() < 1e-6
    kelvin_pt = np.linspace(-200, 850, 200_001)
    assert np.abs(platinum.temperature(platinum.resistance(kelvin_pt)) - kelvin_pt).max() < 1e-9


@pytest.mark.parametrize(
    ("curve", "outside"),
    [
        (lambda x: thermocouple.emf(x, "K"), [-270.01, 1372.01]),
        (lambda x: thermocouple.temperature(x, "K"), [-6.4585, 54.8865]),
        (platinum.resistance, [-200.01, 850.01]),
        (platinum.temperature, [18.51, 390.49]),
    ],
)
def test_outside_its_domain_a_curve_gives_nan_and_no_warning(curve, outside):
    assert np.isnan(curve([*outside, np.nan, np.inf, -np.inf])).all()
    assert curve([]).shape == (0,)
    assert curve(np.zeros((2, 3), dtype=int) + 20).shape == (2, 3)


def test_cold_junction_is_compensated_as_emf():
    junction, tip = 22.9, 700.0
    measured = thermocouple.emf(tip, "K") - thermocouple.emf(junction, "K")
    compensated = measured + thermocouple.emf(junction, "K")
    assert thermocouple.temperature(compensated, "K") == pytest.approx(tip, abs=1e-6)
    # The common slip, adding temperatures, is off by degrees; the right way is not.
    assert abs(thermocouple.temperature(measured, "K") + junction - tip) > 0.4


@given(st.floats(-1e6, 1e6), st.floats(-1e3, 1e3), st.floats(0.01, 1e3))
def test_a_two_point_scale_turns_back(value, low, width):
    scale = TwoPoint(low, low + width, 0.0, 100.0)
    assert scale.value(scale.signal(value)) == pytest.approx(value, rel=1e-6, abs=1e-6)
    assert scale.value([low, low + width]) == pytest.approx([0.0, 100.0])


def test_names_that_are_not_known_are_refused_with_the_nearest():
    with pytest.raises(QuantityError, match="did you mean 'type K'"):
        find_sensor("tipe K")
    with pytest.raises(QuantityError, match="no thermocouple type"):
        thermocouple.emf(20, "X")
    with pytest.raises(QuantityError, match="same signal, 4"):
        TwoPoint(4, 4, 0, 100)
