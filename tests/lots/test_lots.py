"""Lots of units: capability, shares, noise, shorts, limits, thresholds, each against another source."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.special import stdtr

from leitwerk.errors import DomainError
from leitwerk.lots import (
    Around,
    LimitRule,
    Limits,
    Measured,
    Pattern,
    ReferenceValue,
    Touches,
    capability,
    difference,
    drift,
    error,
    find_shorts,
    noise,
    outliers,
    patterns_for,
    response,
    rest,
    share_interval,
    signal_to_noise_db,
    suggest_threshold,
    trend,
)


def with_moments(count, mean, spread):
    """Values whose mean and standard deviation are exactly these."""
    values = np.random.default_rng(count).normal(size=count)
    return mean + spread * (values - values.mean()) / values.std(ddof=1)


# ---------------------------------------------------------------------- capability and shares


def test_cp_with_its_interval_as_published():
    """D. C. Montgomery, Introduction to Statistical Quality Control: n 20, s 1.75, limits 38 and 62."""
    found = capability(with_moments(20, 50.0, 1.75), 38.0, 62.0)
    assert found.cp == pytest.approx(2.29, abs=0.005)
    assert found.cp_interval == pytest.approx((1.57, 3.01), abs=0.01)


def test_cp_and_cpk_as_published():
    """NIST/SEMATECH e-Handbook, 6.1.6: limits 8 and 20, mean 16, s 2."""
    found = capability(with_moments(50, 16.0, 2.0), 8.0, 20.0)
    assert (found.cp, found.cpk) == pytest.approx((1.0, 0.6667), abs=1e-4)
    half = 1.96 * math.sqrt(1 / (9 * 50) + found.cpk**2 / (2 * 49))
    assert found.cpk_interval == pytest.approx((found.cpk - half, found.cpk + half), abs=1e-4)


def test_the_intervals_hold_as_often_as_they_say():
    random = np.random.default_rng(4)
    cp, cpk = 16.0 / (6 * 2.0), 7.0 / (3 * 2.0)
    held = np.zeros(2)
    for _ in range(1500):
        found = capability(random.normal(1.0, 2.0, 40), -8.0, 8.0)
        held += [
            found.cp_interval[0] <= cp <= found.cp_interval[1],
            found.cpk_interval[0] <= cpk <= found.cpk_interval[1],
        ]
    assert np.all(np.abs(held / 1500 - 0.95) < 0.02)


@pytest.mark.parametrize(
    ("values", "low", "high", "cpk"),
    [
        ([1.0, 2.0, 3.0], -math.inf, 5.0, 1.0),
        ([1.0, math.nan, 3.0, 2.0], -1.0, math.inf, 1.0),
        ([2.0, 2.0], 1.0, 3.0, math.inf),
    ],
)
def test_one_sided_limits_and_values_without_a_spread(values, low, high, cpk):
    found = capability(values, low, high)
    assert found.cpk == pytest.approx(cpk)
    assert math.isnan(found.cp) or math.isinf(found.cp)
    assert all(v is None or isinstance(v, int | float | list) for v in found.to_dict().values())


@pytest.mark.parametrize(
    ("count", "of", "interval"),
    [(0, 10, (0.0, 0.3085)), (5, 10, (0.1871, 0.8129)), (10, 10, (0.6915, 1.0))],
)
def test_the_interval_of_a_share_as_in_tables(count, of, interval):
    assert share_interval(count, of) == pytest.approx(interval, abs=5e-5)


@pytest.mark.parametrize("act", [
    lambda: capability([1.0], 0.0, 2.0), lambda: capability([1.0, 2.0], 2.0, 1.0),
    lambda: share_interval(3, 2), lambda: share_interval(0, 0), lambda: difference([1.0], [1.0, 2.0]),
])  # fmt: skip
def test_what_cannot_be_worked_out_is_refused(act):
    with pytest.raises(DomainError) as found:
        act()
    assert found.value.remedy


def test_lots_differ_as_another_program_says():
    from scipy.stats import ttest_ind

    random = np.random.default_rng(1)
    one, other = random.normal(10.0, 1.0, 30), random.normal(10.8, 2.5, 18)
    found = difference(one, other)
    interval = ttest_ind(one, other, equal_var=False).confidence_interval(0.95)
    assert found.interval == pytest.approx((interval.low, interval.high))
    assert found.spread_interval[0] < 1.0 / 2.5 < found.spread_interval[1]
    assert found.is_clear == (interval.high < 0.0)


# ---------------------------------------------------------------------- measures


def test_signal_to_noise_by_its_definition():
    before = np.tile([-1.0, 1.0], 500)  # standard deviation 1
    for size, decibel in ((10.0, 20.0), (100.0, 40.0), (-50.0, 33.979)):
        found = signal_to_noise_db(before, before + size)
        assert found.value == pytest.approx(decibel, abs=0.02)
    assert signal_to_noise_db(before, before).value == -math.inf
    assert signal_to_noise_db([1.0] * 9, [2.0] * 9).value == math.inf


def test_noise_is_about_the_line_and_known_as_well_as_it_says():
    random = np.random.default_rng(2)
    found = [noise(random.normal(0.0, 3.0, 40) + np.arange(40.0)) for _ in range(500)]
    values = np.array([one.value for one in found])
    assert values.mean() == pytest.approx(3.0, rel=0.02)
    assert values.std() == pytest.approx(found[0].standard, rel=0.25)


def test_rest_response_drift_and_error():
    assert rest([1.0, 2.0, math.nan, 3.0]) == Measured(2.0, pytest.approx(1 / math.sqrt(3)), 3)
    assert response([1.0, 1.0], [4.0, 4.0]).value == 3.0
    assert drift(np.arange(8.0)).value == 6.0
    assert error([21.4, 21.6], 21.0).value == pytest.approx(0.5)
    assert math.isnan(rest([]).value)
    assert math.isnan(drift([1.0, 2.0]).value)


# ---------------------------------------------------------------------- shorts

LINES = tuple(f"line {k}" for k in range(1, 6))
TIED = st.sets(
    st.tuples(st.sampled_from(LINES), st.sampled_from([*LINES, "ground", "supply"])), max_size=4
)


def components(pairs):
    """What is connected, by walking along the pairs."""
    left = {name: {name} for name in (*LINES, "ground", "supply")}
    for one, other in pairs:
        joined = left[one] | left[other]
        for name in joined:
            left[name] = joined
    return left


@given(TIED)
def test_shorts_are_found_and_no_others(pairs):
    tied = components(pairs)

    def reads(line, driven):
        if "ground" in tied[line]:
            return False
        return "supply" in tied[line] or bool(tied[line] & driven)

    seen = [
        Pattern(driven, frozenset(line for line in LINES if reads(line, driven)))
        for driven in patterns_for(LINES)
    ]
    found = find_shorts(LINES, seen)
    again = components({(one.line, one.to) for one in found})
    for line in LINES:
        if {"ground", "supply"} <= tied[line]:  # no board lives with that
            continue
        assert again[line] & {*LINES, "ground", "supply"} == tied[line] & {
            *LINES,
            "ground",
            "supply",
        }


# ---------------------------------------------------------------------- limits


@pytest.mark.parametrize(
    ("rule", "limits"),
    [
        (LimitRule(1.0, 2.0), Limits(1.0, 2.0)),
        (LimitRule(deviation=5.0), Limits(205.0, 215.0)),
        (LimitRule(deviation=10.0, around=Around.PERCENT), Limits(189.0, 231.0)),
        (LimitRule(deviation=3.0, around=Around.SPREADS), Limits(198.0, 222.0)),
    ],
)
def test_limits_around_a_reference(rule, limits):
    assert rule.limits(ReferenceValue(210.0, 4.0, 12)) == limits


@pytest.mark.parametrize("units", [10, 30])
def test_limits_in_spreads_fail_as_many_good_units_as_statistics_predict(units):
    """The spread is known from the reference alone: for a further unit that is Student's distribution."""
    random, k = np.random.default_rng(units), 3.0
    wrong = checked = 0
    for _ in range(1500):
        good = random.normal(212.0, 4.0, units)
        found = ReferenceValue(float(good.mean()), float(good.std(ddof=1)), units)
        limits = LimitRule(deviation=k, around=Around.SPREADS).limits(found)
        tested = random.normal(212.0, 4.0, 40)
        wrong += int(((tested < limits.low) | (tested > limits.high)).sum())
        checked += tested.size
    predicted = 2.0 * stdtr(units - 1, -k / math.sqrt(1.0 + 1.0 / units))
    assert wrong / checked == pytest.approx(predicted, rel=0.15)


@pytest.mark.parametrize("reference", [None, ReferenceValue(210.0, 4.0, 9)])
def test_a_spread_needs_a_reference_of_enough_units(reference):
    with pytest.raises(DomainError, match="reference"):
        LimitRule(deviation=3.0, around=Around.SPREADS).limits(reference)


@pytest.mark.parametrize(
    ("limits", "value", "guarded", "verdict"),
    [
        (Limits(1.0, 2.0), 1.95, False, "pass"),
        (Limits(1.0, 2.0), 1.95, True, "above"),  # within its uncertainty of the limit
        (Limits(1.0, 2.0), 1.05, True, "below"),
        (Limits(1.0, 2.0), 0.5, False, "below"),
        (Limits(high=2.0), 2.1, False, "above"),
        (Limits(low=2.0), -math.inf, False, "below"),
        (Limits(1.0, 2.0), math.nan, False, "no value"),
    ],
)
def test_a_guard_band_makes_limits_narrower(limits, value, guarded, verdict):
    measured = Measured(value, 0.03, 10)
    assert limits.verdict(measured, uncertainty=0.04, guarded=guarded) == verdict  # u 0.05


# ---------------------------------------------------------------------- units beside each other


@pytest.mark.parametrize("count", [8, 12, 40, 300])
def test_units_that_belong_are_rarely_called_odd(count):
    random = np.random.default_rng(count)
    lots = 600
    odd = sum(outliers(random.normal(5.0, 2.0, count)).any() for _ in range(lots))
    assert odd / lots < 0.09
    planted = random.normal(5.0, 2.0, count)
    planted[3] = 5.0 + 2.0 * (30.0 if count < 20 else 8.0)
    assert outliers(planted)[3]


def test_a_trend_over_a_lot():
    random = np.random.default_rng(5)
    values = random.normal(0.0, 1.0, 200) + np.linspace(0.0, 2.0, 200)
    found = trend(values)
    assert found.is_clear
    assert abs(found.change - 2.0) < 2.0 * found.uncertainty
    clear = sum(trend(random.normal(size=50)).is_clear for _ in range(400))
    assert clear < 36  # 5 % are 20
    assert trend([1.0, 2.0]) is None


# ---------------------------------------------------------------------- thresholds


def test_a_threshold_has_the_same_margin_on_both_sides():
    random = np.random.default_rng(6)
    at_rest, touched = random.normal(200.0, 3.0, 400), random.normal(800.0, 6.0, 400)
    for way in (1.0, -1.0):
        found = suggest_threshold(way * at_rest, way * touched)
        assert found.threshold == pytest.approx(way * 400.0, rel=0.05)  # 600 parted 3 to 6
        assert found.hysteresis == pytest.approx(36.0, rel=0.1)
        assert found.below == pytest.approx((200.0 - 36.0) / 3.0, rel=0.1)
        assert found.above == pytest.approx(400.0 / 6.0, rel=0.1)
        assert found.ok


@pytest.mark.parametrize("touched", [[200.0] * 30, [900.0] * 5])
def test_no_threshold_without_a_response_or_with_few_samples(touched):
    with pytest.raises(DomainError):
        suggest_threshold(np.random.default_rng(1).normal(200.0, 3.0, 30), touched)


def test_touches_are_parted_from_rest():
    random, touches = np.random.default_rng(7), Touches(("a", "b"))
    for _ in range(40):
        touches.take_rest(random.normal(200.0, 3.0, 2))
    for k in range(200):
        hit = 50 <= k < 120
        touched = touches.take(random.normal(200.0, 3.0, 2) + np.array([600.0 * hit, 0.0]))
        assert bool(touched[0]) == hit
        assert not touched[1]
    assert touches.suggestion("a").threshold == pytest.approx(500.0, rel=0.1)
    assert touches.suggestion("b") is None
