"""Calibration, uncertainty and conformity, against worked examples and second ways."""

import math
from datetime import date

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.calibration.conformity import decide, global_risks
from leitwerk.calibration.correction import CalibrationPoint, Correction, fit_correction
from leitwerk.calibration.record import CalibrationRecord
from leitwerk.calibration.uncertainty import Budget, Contribution, mean_contribution
from leitwerk.errors import DomainError
from leitwerk.signals.linear import TwoPoint

KINDS = ["offset", "gain", "offset and gain", "polynomial 2", "polynomial 3", "table"]


def points(error, at=(0.0, 25.0, 50.0, 75.0, 100.0)):
    return [CalibrationPoint(r, (r + error(r),)) for r in at]


@pytest.mark.parametrize(
    ("kind", "error"),
    [
        ("offset", lambda _: 0.4),
        ("gain", lambda r: 0.01 * r),
        ("offset and gain", lambda r: 0.4 + 0.01 * r),
        ("table", lambda r: 0.3 * math.sin(r / 20)),
    ],
)
def test_a_correction_takes_off_the_error_that_it_describes(kind, error):
    found = fit_correction(points(error), kind)
    for p in points(error):
        assert found.value(p.reading) == pytest.approx(p.reference, abs=1e-9)
    assert np.abs(found.residuals).max() < 1e-9


def test_a_polynomial_against_the_textbook_fit():
    error = [0.1, -0.2, 0.3, 0.1, -0.1, 0.2]
    x = np.array([0.0, 20, 40, 60, 80, 100])
    found = fit_correction(
        [CalibrationPoint(r, (r + e,)) for r, e in zip(x, error, strict=True)], "polynomial 2"
    )
    reading = x + error
    textbook = np.polyval(np.polyfit(reading, x - reading, 2), reading)
    assert found.value(reading) == pytest.approx(reading + textbook, abs=1e-9)
    # n - p degrees of freedom, not n - 1 and not n.
    assert found.residual_deviation == pytest.approx(
        math.sqrt(np.sum((x - found.value(reading)) ** 2) / 3)
    )


@given(
    st.sampled_from(KINDS), st.floats(-2, 2), st.floats(-0.02, 0.02), st.floats(1e3, 1e6),
    st.lists(st.floats(-200, 300), max_size=9),
)  # fmt: skip
def test_a_correction_turns_back_also_far_from_zero(kind, offset, gain, far, x):
    at = [far + r for r in (0.0, 25.0, 50.0, 75.0, 100.0)]
    found = fit_correction(points(lambda r: offset + gain * (r - far), at), kind)
    values = np.array(x) + far
    assert found.signal(found.value(values)) == pytest.approx(values, rel=1e-9)


def test_a_correction_is_a_link_that_can_be_taken_off_again():
    scale = TwoPoint(4.0, 20.0, 0.0, 100.0)
    correction = fit_correction(points(lambda _: 0.4), "offset")
    chain = scale.then(correction)
    assert chain.value(12.0) == pytest.approx(49.6)
    assert chain.without(Correction).value(12.0) == pytest.approx(50.0)
    assert correction.holds(0.4, 100.4)
    assert not correction.holds(0.0, 50.0)


@pytest.mark.parametrize(
    ("given_points", "kind", "message"),
    [
        ([], "offset", "0 different points are too few"),
        (points(lambda _: 0, [1.0]), "offset and gain", "1 different points are too few"),
        (points(lambda _: 0, [1.0, 1.0]), "table", "1 different points are too few"),
        (points(lambda _: 0, [0.0]), "gain", "readings of 0"),
        (points(lambda _: math.nan), "offset", "no number"),
        ([CalibrationPoint(1.0, ())], "offset", "no number"),
        (points(lambda r: -2 * r), "offset and gain", None),
        ([CalibrationPoint(0, (0.0,)), CalibrationPoint(9, (1.0,)), CalibrationPoint(2, (2.0,))],
         "table", "does not rise steadily"),
        (points(lambda _: 0), "spline", "not a kind of correction"),
    ],
)  # fmt: skip
def test_points_that_allow_no_correction_are_refused(given_points, kind, message):
    if message is None:
        assert fit_correction(given_points, kind).relation.gain == pytest.approx(-1)
        return
    with pytest.raises(DomainError, match=message):
        fit_correction(given_points, kind)


def test_a_budget_against_a_worked_example():
    """EA-4/02 M:2022, S10: a vernier caliper; the combined uncertainty is 33 µm."""
    budget = Budget(
        (
            Contribution("gauge block", 0.8, "rectangular"),
            Contribution("temperature difference", 2.0, "rectangular", sensitivity=1.7),
            Contribution("scale division", 25.0, "rectangular"),
            Contribution("mechanical effects", 50.0, "rectangular"),
        )
    )
    assert budget.standard == pytest.approx(33.0, abs=0.7)
    assert (budget.freedom, budget.k) == (math.inf, 2.0)
    assert sum(row["share"] for row in budget.lines()) == pytest.approx(1.0)
    assert "k = 2.00" in str(budget)


def test_few_readings_widen_the_coverage_factor():
    """JCGM 100:2008, table G.2: t for 95.45 % and 4, 9 and 19 degrees of freedom."""
    for freedom, k in ((4, 2.87), (9, 2.32), (19, 2.14)):
        assert Budget((Contribution("a", 1.0, freedom=freedom),)).k == pytest.approx(k, abs=0.005)
    # JCGM 100:2008, G.4.1: two equal parts of 4 and infinite freedom make 16.
    both = Budget((Contribution("a", 1.0, freedom=4), Contribution("b", 1.0)))
    assert both.freedom == pytest.approx(16.0)


def test_type_a_is_the_deviation_of_the_mean():
    line = mean_contribution("readings", [10.1, 10.3, 10.2, 10.2])
    assert line.standard == pytest.approx(np.std([10.1, 10.3, 10.2, 10.2], ddof=1) / 2)
    assert line.freedom == 3
    with pytest.raises(DomainError, match="1 readings have no deviation"):
        mean_contribution("one", [1.0])
    with pytest.raises(DomainError, match="not a distribution"):
        Contribution("a", 1.0, "flat")
    with pytest.raises(DomainError, match="not an uncertainty"):
        Contribution("a", -1.0)


@pytest.mark.parametrize(
    ("measured", "verdict"),
    [(0.0, "pass"), (0.8, "pass"), (0.81, "marginal"), (1.2, "marginal"), (1.21, "fail"),
     (-1.1, "marginal")],
)  # fmt: skip
def test_decisions_with_a_guard_band_of_the_expanded_uncertainty(measured, verdict):
    found = decide(measured, 0.1, -1.0, 1.0)
    assert found.verdict == verdict
    assert found.acceptance == pytest.approx((-0.8, 0.8))


def test_conformance_probabilities():
    """JCGM 106:2012, 7.4: at the limit half; two standard uncertainties inside, 97.7 %."""
    assert decide(1.0, 0.1, -9.0, 1.0).conforms == pytest.approx(0.5)
    accepted = decide(0.8, 0.1, -math.inf, 1.0)
    assert accepted.conforms == pytest.approx(0.97725, abs=1e-5)
    assert accepted.false_accept == pytest.approx(0.02275, abs=1e-5)
    assert accepted.false_reject == 0.0
    assert decide(1.5, 0.1, -1.0, 1.0).false_reject == pytest.approx(2.9e-7, rel=0.02)
    assert decide(0.5, 0.0, -1.0, 1.0).conforms == 1.0
    assert decide(0.95, 0.1, -1.0, 1.0, guard=0.0).verdict == "pass"
    with pytest.raises(DomainError, match="limits 1 and -1"):
        decide(0.0, 0.1, 1.0, -1.0)


def test_global_risks_against_a_simulation():
    rng = np.random.default_rng(106)
    true = rng.normal(0.1, 1.0, 2_000_000)
    seen = true + rng.normal(0.0, 0.3, true.size)
    inside, accepted = np.abs(true) <= 2.0, np.abs(seen) <= 1.7
    accept, reject = global_risks((0.1, 1.0), 0.3, (-2.0, 2.0), guard=0.3)
    assert accept == pytest.approx(np.mean(accepted & ~inside), abs=3e-4)
    assert reject == pytest.approx(np.mean(~accepted & inside), abs=6e-4)


def test_a_record_knows_when_it_is_due_and_whether_it_conformed():
    record = CalibrationRecord(
        on=date(2026, 3, 2), due=date(2027, 3, 2), reference="R-0031",
        found=tuple(points(lambda r: 0.3 if r < 60 else 1.0)), left=tuple(points(lambda _: 0.01)),
        kind="offset", expanded=0.1,
    )  # fmt: skip
    assert record.interval.days == 365
    assert not record.is_overdue(date(2027, 3, 2))
    assert record.is_overdue(date(2027, 3, 3))
    assert [d.verdict for d in record.conformity(0.5)] == ["pass"] * 3 + ["fail"] * 2
    assert {d.verdict for d in record.conformity(0.5, as_left=True)} == {"pass"}
    assert record.correction.expanded == 0.1
    assert points(lambda _: 0.3)[0].error == pytest.approx(0.3)
    assert CalibrationPoint(1.0, (1.1, 1.3)).repeatability == pytest.approx(math.sqrt(0.02))
