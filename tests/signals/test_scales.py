"""Scales: what each gives, that it turns back, and that chains behave."""

import math
import tracemalloc

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from leitwerk.errors import DomainError, QuantityError
from leitwerk.signals.bridge import Arms, StrainBridge, check_shunt, load_cell
from leitwerk.signals.linear import Limits, Linear, TwoPoint
from leitwerk.signals.loop import LoopBands, Shunt
from leitwerk.signals.polynomial import Polynomial
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Chain
from leitwerk.signals.square_root import Logarithmic, SquareRoot
from leitwerk.signals.states import States
from leitwerk.signals.table import PointTable
from leitwerk.signals.transformer import parse_transformer

number = st.floats(-1e6, 1e6)
rising = st.lists(st.floats(-1e3, 1e3), min_size=2, max_size=8, unique=True).map(sorted)


@st.composite
def tables(draw):
    signals = draw(rising)
    assume(min(np.diff(signals)) > 1e-3)
    steps = draw(st.lists(st.floats(0.01, 100), min_size=len(signals), max_size=len(signals)))
    values = np.cumsum(steps) * draw(st.sampled_from([1.0, -1.0]))
    between = draw(st.sampled_from(["linear", "cubic", "logarithmic"]))
    if between == "logarithmic":
        values = np.abs(values)
    points = tuple(zip(signals, values.tolist(), strict=True))
    return PointTable(points, between, draw(st.booleans()))


monotone = st.one_of(
    st.builds(Linear, st.floats(0.01, 1e3), number),
    st.builds(TwoPoint, st.floats(-9, 0), st.floats(1, 9), st.floats(-9, 0), st.floats(1, 9)),
    tables(),
    st.just(SquareRoot(4.0, 20.0, 120.0)),
    st.just(Logarithmic(0.0, 10.0, 1e-3, 1e3)),
    st.just(Polynomial((1.0, 2.0, 0.5), -1.0, 4.0)),
    st.builds(StrainBridge, st.sampled_from(Arms), st.floats(1.5, 200), st.floats(0, 0.5)),
)


def inside(scale, part):
    low, high = (max(-1e3, scale.domain[0]), min(1e3, scale.domain[1]))
    if isinstance(scale, PointTable):
        # Not so far beyond a table that the exponential of a logarithmic one leaves the floats.
        (low, high), further = scale.ends, 0.5 * scale.extrapolate
        low, high = low - further * (high - low), high + further * (high - low)
    return low + part * (high - low)


@given(monotone, st.lists(st.floats(0.02, 0.98), min_size=1, max_size=20))
def test_the_inverse_of_a_scale_is_identity_in_its_domain(scale, parts):
    x = np.array([inside(scale, p) for p in parts])
    if isinstance(scale, SquareRoot):
        x = x[x > 4.001]
    back = scale.signal(scale.value(x))
    size = np.abs(x).max(initial=1.0) + 1.0
    # Where a curve is nearly flat, rounding of the value alone moves the signal.
    slope = (scale.value(x + 1e-6 * size) - scale.value(x)) / (1e-6 * size)
    loose = 1e-9 * size + 1e-13 * np.abs(scale.value(x)) / np.maximum(np.abs(slope), 1e-300)
    good = np.isfinite(slope)
    assert (np.abs(back - x) <= 10 * loose)[good].all()


@given(monotone, st.lists(st.floats(0, 1), min_size=2, max_size=20).map(sorted))
def test_monotone_scales_stay_monotone(scale, parts):
    values = scale.value([inside(scale, p) for p in parts])
    steps = np.diff(values[np.isfinite(values)])
    slack = 1e-9 * np.abs(values[np.isfinite(values)]).max(initial=1.0)
    assert (steps >= -slack).all() or (steps <= slack).all()


@given(st.lists(monotone, min_size=3, max_size=3), st.lists(number, max_size=5))
def test_chains_associate(scales, x):
    a, b, c = scales
    one, other = a.then(b).then(c), a.then(b.then(c))
    assert one == other
    np.testing.assert_array_equal(one.value(x), other.value(x))
    np.testing.assert_array_equal(one.value(x), c.value(b.value(a.value(x))))


@given(st.lists(monotone, min_size=1, max_size=3), st.floats())
def test_no_float_raises_or_warns_and_nan_has_its_reason(scales, x):
    chain = Chain.of(*scales)
    values, qualities = chain.convert([x])
    assert np.isfinite(values[0]) == (qualities[0] in {Quality.GOOD, Quality.EXTRAPOLATED})
    chain.signal([x])
    assert len(chain.domain) == len(chain.span) == 2


def test_a_chain_finds_its_domain_through_its_links():
    chain = TwoPoint(0.0, 5.0, 0.0, 20.0).then(Limits(4.0, 20.0), Linear(2.0))
    assert chain.domain == pytest.approx((1.0, 5.0))
    assert chain.span == pytest.approx((8.0, 40.0))
    falling = Linear(-1.0).then(Limits(0.0, 3.0))
    assert falling.domain == pytest.approx((-3.0, 0.0))
    assert Chain().value([1.0, 2.0]).tolist() == [1.0, 2.0]
    assert chain.without(Limits).stages == (chain.stages[0], chain.stages[2])
    assert chain.inverse().value([10.0]) == pytest.approx(1.25)


@pytest.mark.parametrize(
    ("scale", "signal", "value"),
    [
        (SquareRoot(4, 20, 100, 0.1), [3.99, 4, 4.15, 4.16, 8, 20, 21.1],
         [0, 0, 0, 10, 50, 100, math.nan]),
        (SquareRoot(4, 20, 100), [3.5, 3.9, 4.0], [math.nan, 0, 0]),
        (Polynomial((0, 0, 1), -3, 2), [-3, 0, 2, 2.1], [9, 0, 4, math.nan]),
        (PointTable(((0, 1), (1, 10), (2, 1000)), "logarithmic"), [0.5, 1.5], [10**0.5, 100]),
        (PointTable(((0, 0), (1, 1), (2, 4)), extrapolate=True), [-1, 3], [-1, 7]),
        (PointTable(((0, 0), (1, 1), (2, 1), (3, 2)), "cubic"), [1.5, 1.0, 3.0], [1, 1, 2]),
        (load_cell(2.0, 500.0, zero=0.02), [0.02, 1.02, 2.02], [0, 250, 500]),
        (Shunt(250.0).scale, [1.0, 5.0], [4, 20]),
        (StrainBridge(Arms.HALF_BENDING, 2.0), [1.0], [1000]),
        (StrainBridge(Arms.FULL_BENDING, 2.0), [2.0], [1000]),
        (StrainBridge(Arms.QUARTER, 2.0, unstrained=0.1), [0.1], [0]),
        (parse_transformer("200/5 A").scale, [5.0], [200]),
        (parse_transformer("230/110 V").scale, [110.0], [230]),
        (parse_transformer("20 kV/100 V").scale, [100.0], [20_000]),
    ],
    ids=str,
)  # fmt: skip
def test_what_a_scale_gives(scale, signal, value):
    assert scale.value(signal) == pytest.approx(value, nan_ok=True, abs=1e-9)


def test_a_smooth_table_never_overshoots():
    table = PointTable(((0, 0), (1, 0), (2, 5), (3, 5)), "cubic")
    values = table.value(np.linspace(0, 3, 301))
    assert values.min() >= 0
    assert values.max() <= 5
    assert not table.has_inverse
    with pytest.raises(DomainError, match="cannot be turned back"):
        table.signal(2.0)


def test_a_smooth_table_that_ends_level_turns_back_and_has_nothing_beyond():
    table = PointTable(((0, 1), (1, 4), (2, 5)), "cubic", extrapolate=True)
    assert table.signal(table.value([0, 0.5, 2, -1])) == pytest.approx([0, 0.5, 2, -1], abs=1e-7)
    assert np.isnan(table.signal(5.1))


def test_extrapolation_is_uncertain_and_only_when_asked_for():
    points = ((0.0, 0.0), (1.0, 1.0))
    values, qualities = PointTable(points, extrapolate=True).convert([2.0])
    assert (values[0], qualities[0]) == (2.0, Quality.EXTRAPOLATED)
    values, qualities = PointTable(points).convert([2.0, -1.0])
    assert np.isnan(values).all()
    assert qualities.tolist() == [Quality.ABOVE_RANGE, Quality.BELOW_RANGE]


@pytest.mark.parametrize(
    ("current", "quality"),
    [
        (0.0, Quality.FAILURE_LOW), (3.6, Quality.FAILURE_LOW), (3.61, Quality.UNDER_LIMIT),
        (3.79, Quality.UNDER_LIMIT), (3.8, Quality.GOOD), (12.0, Quality.GOOD),
        (20.5, Quality.GOOD), (20.51, Quality.OVER_LIMIT), (20.99, Quality.OVER_LIMIT),
        (21.0, Quality.FAILURE_HIGH), (math.nan, Quality.NO_NUMBER),
    ],
)  # fmt: skip
def test_the_bands_of_a_loop_come_before_scaling(current, quality):
    """NAMUR NE 43: 3.6, 3.8, 20.5 and 21 mA."""
    chain = LoopBands().then(TwoPoint(4.0, 20.0, 0.0, 100.0))
    values, qualities = chain.convert([current])
    assert qualities[0] == quality
    assert np.isnan(values[0]) == (
        quality in {Quality.FAILURE_LOW, Quality.FAILURE_HIGH, Quality.NO_NUMBER}
    )
    _, kept = chain.convert([12.0], [Quality.OPEN_SENSOR])
    assert kept[0] == Quality.OPEN_SENSOR


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: TwoPoint(4, 4, 0, 100), "same signal, 4"),
        (lambda: TwoPoint(4, 20, 1, 1), "same value, 1"),
        (lambda: Linear(0.0), "gain 0"),
        (lambda: Linear(math.inf), "gain inf"),
        (lambda: PointTable(((0, 0), (0, 1))), "point 2 of the table, 0, has the same signal"),
        (lambda: PointTable(((0, 0), (2, 1), (1, 2))), "point 3 of the table, 1, has a lower"),
        (lambda: PointTable(((0, 0), (1, 1)), "logarithmic"), "value 0, which has no logarithm"),
        (lambda: PointTable(((0, 0),)), "at least two points"),
        (lambda: PointTable(((0, math.nan), (1, 1))), "point 1 of the table"),
        (lambda: Polynomial((), 0, 1), "not a polynomial"),
        (lambda: Polynomial((1, 2), 1, 0), "not a polynomial"),
        (lambda: SquareRoot(20, 4, 100), "signal that rises"),
        (lambda: SquareRoot(4, 20, 100, 1.5), "cut-off"),
        (lambda: Logarithmic(0, 10, 0, 1), "no logarithmic scale"),
        (lambda: LoopBands(3.8, 3.6), "do not rise"),
        (lambda: load_cell(0, 100), "not a scale"),
        (lambda: Shunt(0.0), "not a shunt"),
        (lambda: StrainBridge(Arms.QUARTER, 0.0), "no strain gauge"),
        (lambda: parse_transformer("200/5"), "not a transformer ratio"),
        (lambda: parse_transformer("200 V/5 A"), "ratio of V to A"),
        (lambda: parse_transformer("0/5 A"), "side of 0"),
        (lambda: States().number("ajar"), "not one of the two states"),
    ],
)
def test_what_is_no_scale_is_refused(make, message):
    with pytest.raises((QuantityError, DomainError), match=message):
        make()


def test_a_shunt_says_what_range_it_needs():
    shunt = Shunt(250.0, tolerance=0.001)
    assert shunt.voltage_range() == (1.0, 5.0)
    assert shunt.needed_range() == pytest.approx((0.0, 5.25525))
    assert shunt.error(20.0) == pytest.approx(0.02)


def test_shunt_calibration_looks_like_compression_and_names_what_is_wrong():
    # 100 kΩ across 350 Ω: -350 / (4 · 100000 + 2 · 350) V/V.
    good = check_shunt(-0.8735, 100e3)
    assert good.expected == pytest.approx(-0.873471, abs=1e-6)
    assert good.cause == ""
    assert "wrong sign" in check_shunt(0.8735, 100e3).cause
    assert "excitation leads" in check_shunt(-0.84, 100e3).cause
    assert "wrong resistor" in check_shunt(-1.7, 100e3).cause


def test_a_quarter_bridge_is_not_linear():
    """The linear formula is 0.1 % off at 1000 µm/m and a gauge factor of 2."""
    exact = StrainBridge(Arms.QUARTER, 2.0)
    output = float(exact.signal(1000.0))
    assert 4 * output * 1e-3 / 2.0 * 1e6 == pytest.approx(1000 * (1 - 0.001), rel=1e-5)


def test_phase_displacement_matters_for_a_poor_power_factor():
    transformer = parse_transformer("200/5 A", displacement=math.radians(0.5))
    assert transformer.power_error(1.0) == pytest.approx(0.0, abs=1e-4)
    assert transformer.power_error(0.5) == pytest.approx(math.tan(math.pi / 3) * 0.008727, rel=0.01)
    with pytest.raises(QuantityError, match="not a power factor"):
        transformer.power_error(0.0)


def test_states_are_named_and_may_be_inverted():
    door = States(("ajar", "shut"), inverted=True)
    assert door.value([0, 1, math.nan]).tolist()[:2] == [1.0, 0.0]
    assert (door.name(0), door.name(math.nan)) == ("shut", "unknown")


@pytest.mark.parametrize(
    "scale", [TwoPoint(4, 20, 0, 100), SquareRoot(0, 1, 5), Linear(2.0).then(Limits(0, 2))]
)
def test_long_arrays_need_no_memory_beside_the_result(scale):
    x = np.linspace(0.0, 1.0, 2_000_000, dtype=np.float32)
    scale.value(x[:10])
    tracemalloc.start()
    result = scale.value(x)
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert peak - result.nbytes < 2_000_000
