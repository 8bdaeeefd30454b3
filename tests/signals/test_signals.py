"""The sensor curves against the printed tables of their standards, and against a second way."""

from itertools import pairwise

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.errors import DomainError, QuantityError
from leitwerk.signals import rtd, thermocouple
from leitwerk.signals.quality import Quality
from leitwerk.signals.rtd import ResistanceThermometer, lead_error
from leitwerk.signals.sensors import find_sensor
from leitwerk.signals.thermistor import SteinhartHart
from leitwerk.signals.thermocouple import Thermocouple
from leitwerk.signals.thermocouple_curves import CURVES
from leitwerk.signals.tolerance import platinum_tolerance, thermocouple_tolerance

# IEC 60584-1:2013, tables of the emf in mV, printed to 1 µV.
THERMOCOUPLES = {
    "B": {0: 0.0, 21: -0.003, 50: 0.002, 100: 0.033, 500: 1.242, 1000: 4.834, 1500: 10.099,
          1820: 13.820},
    "E": {-270: -9.835, -200: -8.825, -100: -5.237, 100: 6.319, 500: 37.005, 1000: 76.373},
    "J": {-210: -8.095, -100: -4.633, 100: 5.269, 500: 27.393, 760: 42.919, 1000: 57.953,
          1200: 69.553},
    "K": {-270: -6.458, -200: -5.891, -100: -3.554, -1: -0.039, 0: 0.0, 1: 0.039, 20: 0.798,
          100: 4.096, 127: 5.206, 300: 12.209, 500: 20.644, 1000: 41.276, 1372: 54.886},
    "N": {-270: -4.345, -200: -3.990, -100: -2.407, 100: 2.774, 500: 16.748, 1000: 36.256,
          1300: 47.513},
    "R": {-50: -0.226, 100: 0.647, 500: 4.471, 1000: 10.506, 1500: 17.451, 1768: 21.101},
    "S": {-50: -0.236, 100: 0.646, 500: 4.233, 1000: 9.587, 1500: 15.582, 1768: 18.693},
    "T": {-270: -6.258, -200: -5.603, -100: -3.379, 100: 4.279, 200: 9.288, 400: 20.872},
}  # fmt: skip
# Platinum: IEC 60751:2022; nickel: DIN 43760; copper: GOST 6651-2009. R0 = 100 Ω, printed to 0.01 Ω.
THERMOMETERS = {
    "platinum": {-200: 18.52, -100: 60.26, -50: 80.31, 0: 100.0, 50: 119.40, 100: 138.51,
                 200: 175.86, 400: 247.09, 850: 390.48},
    "nickel": {-60: 69.52, 0: 100.0, 100: 161.78, 180: 223.15, 250: 289.16},
    "copper": {-180: 20.53, -50: 78.46, 0: 100.0, 100: 142.80, 200: 185.60},
}  # fmt: skip


def rows(tables):
    return [(name, t, value) for name, table in tables.items() for t, value in table.items()]


@pytest.mark.parametrize(("kind", "celsius", "millivolt"), rows(THERMOCOUPLES))
def test_thermocouple_table(kind, celsius, millivolt):
    assert thermocouple.emf(celsius, kind) == pytest.approx(millivolt, abs=0.0006)
    if kind != "B" or celsius > 42:  # below, an emf of type B stands for two temperatures
        back = thermocouple.temperature(millivolt, kind)  # also at both ends of the table
        assert thermocouple.emf(back, kind) == pytest.approx(millivolt, abs=0.0006)
        assert back == pytest.approx(celsius, abs=1.0 if celsius < -200 or kind in "BRS" else 0.1)


@pytest.mark.parametrize(("metal", "celsius", "ohm"), rows(THERMOMETERS))
def test_resistance_table(metal, celsius, ohm):
    assert rtd.resistance(celsius, metal=metal) == pytest.approx(ohm, abs=0.0051)
    assert rtd.temperature(ohm, metal=metal) == pytest.approx(celsius, abs=0.02)
    assert rtd.temperature(ohm * 5, 500, metal) == pytest.approx(celsius, abs=0.02)


@pytest.mark.parametrize("kind", thermocouple.TYPES)
def test_pieces_meet_so_that_a_wrong_digit_would_show(kind):
    pieces = CURVES[kind].pieces
    for one, other in pairwise(pieces):
        at, left, right = np.array([one.high]), np.empty(1), np.empty(1)
        one.emf(at, left)
        other.emf(at, right)
        assert left == pytest.approx(right, abs=1e-7)


@pytest.mark.parametrize("kind", thermocouple.TYPES)
def test_the_quick_inverse_keeps_its_bound_over_the_whole_range(kind):
    """Half a million temperatures, denser than any part of the table; 0.1 mK promised, 1 mK asked."""
    curve = CURVES[kind]
    t = np.linspace(curve.unique_above or curve.low, curve.high, 500_001)
    back = thermocouple.temperature(thermocouple.emf(t, kind), kind)
    assert np.abs(back - t).max() < thermocouple.INVERSE_ERROR_K
    # The second way: Newton's iteration on the reference function.
    e = thermocouple.emf(t[::50], kind)
    exact, _ = thermocouple.solve(curve, e, t[0])
    assert np.abs(thermocouple.temperature(e, kind) - exact).max() < thermocouple.INVERSE_ERROR_K


@pytest.mark.parametrize("metal", rtd.METALS)
def test_the_inverse_of_a_thermometer_keeps_its_bound(metal):
    t = np.linspace(*ResistanceThermometer(100.0, metal).span, 500_001)
    assert np.abs(rtd.temperature(rtd.resistance(t, metal=metal), metal=metal) - t).max() < 1e-6


def test_type_b_below_42_degrees_is_ambiguous_and_not_a_temperature():
    values, qualities = Thermocouple("B").convert([-0.004, -0.0025, -0.001, 0.0, 0.001, 0.1])
    assert [Quality(q) for q in qualities] == [
        Quality.BELOW_RANGE, *[Quality.AMBIGUOUS] * 3, Quality.GOOD, Quality.GOOD,
    ]  # fmt: skip
    assert np.isnan(values[:4]).all()
    assert values[4:] == pytest.approx([45.9, 155.4], abs=0.1)


SCALES = [
    *(Thermocouple(k) for k in thermocouple.TYPES),
    *(ResistanceThermometer(100.0, m) for m in rtd.METALS),
]


@pytest.mark.parametrize("scale", SCALES, ids=str)
def test_domains_end_exactly_and_nothing_is_extrapolated(scale):
    ends = np.array(scale.domain)
    assert np.isfinite(scale.value(ends)).all()
    outside = [ends[0] - 1e-6, ends[1] + 1e-6, np.nan, np.inf, -np.inf]
    assert np.isnan(scale.value(outside)).all()
    low, high = scale.span
    assert np.isfinite(scale.signal([low, high])).all()
    assert np.isnan(scale.signal([low - 1e-6, high + 1e-6, np.nan])).all()


@pytest.mark.parametrize("scale", SCALES, ids=str)
def test_arrays_of_every_shape_and_type_give_float64(scale):
    whole = np.arange(100, 112)
    expected = scale.signal(whole.astype(float))
    frozen = whole.astype(float)
    frozen.flags.writeable = False
    for given_, want in (
        (whole, expected),
        (whole.astype(np.float32), expected),
        (whole.tolist(), expected),
        (frozen, expected),
        (pd.Series(whole), expected),
        (whole[::3], expected[::3]),
        (whole.reshape(3, 4).T, expected.reshape(3, 4).T),
        (np.asfortranarray(whole.reshape(3, 4)), expected.reshape(3, 4)),
        (np.float64(100), expected[0]),
        ([], np.empty(0)),
        (np.empty((0, 3)), np.empty((0, 3))),
    ):
        found = scale.signal(given_)
        assert found.dtype == np.float64
        assert found.shape == np.shape(want)
        np.testing.assert_array_equal(found, want)


@given(st.sampled_from(SCALES), st.floats())
def test_no_float_raises_or_warns(scale, x):
    scale.convert([x])
    scale.signal([x])


def test_a_long_array_is_worked_in_pieces_with_the_same_result():
    t = np.random.default_rng(8).uniform(-300.0, 1400.0, 100_003)
    whole = thermocouple.emf(t, "K")
    np.testing.assert_array_equal(whole[::1000], thermocouple.emf(t[::1000], "K"))


@pytest.mark.parametrize("kind", [k for k in thermocouple.TYPES if k != "B"])
def test_cold_junction_is_compensated_as_emf(kind):
    junction, tip = np.array([0.0, 22.9, 35.0]), 340.0
    measured = thermocouple.emf(tip, kind) - thermocouple.emf(junction, kind)
    assert thermocouple.temperature(measured, kind, junction) == pytest.approx([tip] * 3, abs=1e-3)
    assert thermocouple.temperature(measured[1], kind, 22.9) == pytest.approx(tip, abs=1e-3)
    # The common slip, adding temperatures, is off by degrees; the right way is not.
    assert abs(thermocouple.temperature(measured[1], kind) + 22.9 - tip) > 0.2
    with pytest.raises(QuantityError, match="cold junction at 9999"):
        Thermocouple(kind, 9999)


def test_tolerance_classes():
    assert platinum_tolerance([-50, 0, 100, 301], "A") == pytest.approx(
        [np.nan, 0.15, 0.35, np.nan], nan_ok=True
    )
    assert platinum_tolerance(-196, "B", "wire") == pytest.approx(1.28)
    assert thermocouple_tolerance([0, 375, 1000], "K", 1) == pytest.approx([1.5, 1.5, 4.0])
    assert thermocouple_tolerance([1000, 1100, 1600], "S", 1) == pytest.approx([1.0, 1.0, 2.5])
    assert thermocouple_tolerance(-200, "T", 3) == pytest.approx(3.0)
    with pytest.raises(QuantityError, match="type B has no tolerance class 1"):
        thermocouple_tolerance(20, "B", 1)


def test_leads_make_a_thermometer_read_too_hot():
    # 2 x 0.5 Ω at 0 °C: 1 Ω / 0.39083 Ω/K.
    assert lead_error(0.0, 0.5) == pytest.approx(2.559, abs=0.002)
    assert lead_error(0.0, 0.5, r0=1000.0) == pytest.approx(0.256, abs=0.001)
    assert lead_error(0.0, 0.5, 3, mismatch=0.05) == pytest.approx(0.128, abs=0.001)
    assert lead_error([0.0, 50.0], 0.5, 4).tolist() == [0.0, 0.0]


def test_thermistor_models_and_their_fits():
    # 10 kΩ at 25 °C, beta 25/85 of 3977 K: R(85 °C) = 10 kΩ · exp(3977 · (1/358.15 - 1/298.15)).
    beta = SteinhartHart.from_beta(10e3, 3977.0)
    assert beta.signal(85.0) == pytest.approx(10e3 * np.exp(3977 * (1 / 358.15 - 1 / 298.15)))
    points = [(t, float(beta.signal(t))) for t in (0.0, 25.0, 50.0, 85.0)]
    again = SteinhartHart.fit(points, beta=True)
    assert (again.a, again.b) == pytest.approx((beta.a, beta.b), rel=1e-9)
    full = SteinhartHart.fit([(0.0, 32_650.0), (25.0, 10_000.0), (85.0, 1_069.0)])
    assert full.value([32_650, 10_000, 1_069]) == pytest.approx([0, 25, 85], abs=1e-6)
    assert np.isnan(full.value([40_000, 1_000, 0, -1])).all()
    assert full.value(full.signal([10.0, 60.0])) == pytest.approx([10, 60], abs=1e-9)
    for bad in ([(0, 1)], [(0, 10), (10, 20), (20, 30)], [(0, -1), (1, 2), (2, 3)]):
        with pytest.raises(DomainError):
            SteinhartHart.fit(bad)


def test_names_that_are_not_known_are_refused_with_the_nearest():
    with pytest.raises(QuantityError, match="did you mean 'type K'"):
        find_sensor("tipe K")
    with pytest.raises(QuantityError, match="not a thermocouple type"):
        thermocouple.emf(20, "X")
    assert find_sensor("thermocouple type J") is find_sensor("J")
