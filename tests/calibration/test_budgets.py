"""Budgets that lose nothing: what is known and not corrected for belongs to the result."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import checked
from leitwerk.check.channel_uncertainty import budget_at, uncertainty_at
from leitwerk.evaluation.signal_chain import explain_channel
from leitwerk.evaluation.verdict import Context, judge
from leitwerk.signals.scale import Chain

SETUP = """leitwerk: 1
title: Kiln
device: {model: fichte-8, at: "modbus+tcp://127.0.0.1:1?unit=3", serial: K2-00417}
sample: every 10 s
channels:
  air:
    label: Air
    terminal: 1
    signal: 0..10 V
    range: ±10 V
    scale: {0 V: 0 °C, 10 V: 100 °C}
"""
CALIBRATION = (
    "    calibration: {{date: 2026-03-02, due: 2027-03-02, reference: R-1, uncertainty: {u} K, "
    "found: {{{points}}}, correct: {kind}}}\n"
)


def air(calibration="", expect=""):
    text = SETUP + calibration + (f"    expect: {expect}\n" if expect else "")
    found = checked(text)
    assert not [f for f in found.findings if f.is_error], found.findings
    return found, found.channel("air")


def calibrated(kind, points, u=0.1):
    cells = ", ".join(f"{reading:g} °C: {reference:g} °C" for reading, reference in points)
    return CALIBRATION.format(u=u, points=cells, kind=kind)


def test_a_known_error_that_is_not_corrected_belongs_to_the_result():
    """JCGM 100, F.2.4.5: 0.5 K too high, found and left."""
    _, bare = air()
    found, left = air(calibrated("none", [(20.5, 20.0), (80.5, 80.0)]))
    _, mended = air(calibrated("offset", [(20.5, 20.0), (80.5, 80.0)]))
    at = explain_channel(left, value=50.0)
    assert at.bias == pytest.approx(0.5)
    assert at.expanded_uncertainty == pytest.approx(2.0 * math.hypot(at.standard_uncertainty) + 0.5)
    assert uncertainty_at(left, 50.0) > uncertainty_at(mended, 50.0) >= uncertainty_at(bare, 50.0)
    assert "with the known error of +0.5 °C, which is not corrected" in str(at)
    assert not [f for f in found.findings if f.rule == "calibration-residuals"]


def test_points_that_no_offset_fits_are_found_and_counted():
    found, channel = air(calibrated("offset", [(10.7, 10.0), (50.0, 50.0), (89.3, 90.0)]))
    (finding,) = [f for f in found.findings if f.rule == "calibration-residuals"]
    assert "a point is 0.7 K off the correction 'offset', and known to ± 0.1 K" in finding.message
    names = [line["name"] for line in explain_channel(channel, value=50.0).budget]
    assert "residuals of the fit" in names
    fits, _ = air(calibrated("offset and gain", [(10.7, 10.0), (50.0, 50.0), (89.3, 90.0)]))
    assert not [f for f in fits.findings if f.rule == "calibration-residuals"]


def test_an_expectation_tighter_than_the_channel_is_a_warning_and_no_pass():
    found, channel = air(calibrated("offset", [(20.0, 20.0), (80.0, 80.0)], u=0.5), "50 ± 0.2 °C")
    (finding,) = [f for f in found.findings if f.rule == "expectation-too-tight"]
    assert "50 ± 0.2 °C is tighter than air is known: ± 0.5 K (k = 2)" in finding.message
    known = uncertainty_at(channel, 50.0)
    report = judge(channel, np.full(10, 50.0), np.zeros(10, np.uint8), Context(uncertainty=known))
    assert (report.verdict, report.outcome) == ("marginal", "unknown")
    assert "not beyond doubt" in report.reason
    wide, other = air(calibrated("offset", [(20.0, 20.0), (80.0, 80.0)], u=0.5), "50 ± 2 °C")
    assert not [f for f in wide.findings if f.rule == "expectation-too-tight"]
    report = judge(other, np.full(10, 50.0), np.zeros(10, np.uint8), Context(uncertainty=known))
    assert report.verdict == "pass"
    near_the_end = judge(
        other, np.full(10, 51.8), np.zeros(10, np.uint8), Context(uncertainty=known)
    )
    assert near_the_end.verdict == "marginal"


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from(["none", "offset", "gain", "offset and gain", "table"]),
    st.lists(st.floats(-1.0, 1.0), min_size=3, max_size=5),
    st.floats(0.01, 1.0),
    st.floats(10.0, 90.0),
)
def test_no_setting_hides_what_is_known(kind, errors, u, value):
    """By Monte Carlo over the chain (JCGM 101): converter, calibration, and the errors that are left.

    Whatever the correction, the stated uncertainty covers what is really off, in 95 of 100 cases and more.
    """
    references = np.linspace(5.0, 95.0, len(errors))
    points = [(r + e, r) for r, e in zip(references.tolist(), errors, strict=True)]
    if np.any(np.diff([p[0] for p in points]) <= 0.5):
        return
    _, channel = air(calibrated(kind, points, u=round(u, 3)))
    m = channel.measurement
    whole = Chain.of(m.shown_at(None), m.host)
    signal = float(whole.signal(value)) if whole.has_inverse else value * 100.0
    stated = budget_at(channel, signal).expanded
    generator = np.random.default_rng(5)
    n = 20_000
    step = m.input.step(channel.range)
    true_reading = signal / 100.0  # 10 V are 10,000 mV, and 100 °C
    # The chain by itself: what the terminal gives, digitised, is corrected; the reference was known to ± u.
    errors_left = np.interp(true_reading, [p[0] for p in points], [p[0] - p[1] for p in points])
    reading = true_reading + step / 100.0 * generator.uniform(-0.5, 0.5, n)
    corrected = m.host.value(reading)
    truth = true_reading - errors_left + generator.normal(0.0, round(u, 3) / 2.0, n)
    off = np.abs(corrected - truth)
    assert np.quantile(off, 0.95) <= stated * 1.25 + 1e-9, (kind, points, stated)
    parts = [line["standard"] for line in budget_at(channel, signal).lines()]
    assert budget_at(channel, signal).standard == pytest.approx(math.hypot(*parts))


KILN_SENSOR = """leitwerk: 1
title: Kiln
device: {model: fichte-8, at: "modbus+tcp://127.0.0.1:1?unit=3", serial: K2-00417}
sample: every 10 s
channels:
  air: {label: Air, terminal: 1, sensor: kiln-pt100}
"""


@pytest.mark.parametrize(("kind", "stays"), [("none", True), ("offset", False)])
def test_the_sensor_stays_where_the_calibration_replaces_nothing(kind, stays):
    calibration = calibrated(kind, [(20.1, 20.0), (80.1, 80.0)]).strip()
    text = KILN_SENSOR.replace("sensor: kiln-pt100", f"sensor: kiln-pt100, {calibration}")
    channel = checked(text).channel("air")
    names = [line["name"] for line in explain_channel(channel, value=50.0).budget]
    assert ("sensor" in names) is stays
    assert "calibration" in names
    assert (uncertainty_at(channel, 50.0) > 0.3) is stays  # its file says 0.3 K
