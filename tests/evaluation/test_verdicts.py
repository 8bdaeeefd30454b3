"""Verdicts and their reasons, from made-up readings of the kiln."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import checked, example, kiln
from leitwerk.datasheet.own_quality import own_quality
from leitwerk.datasheet.settings import SettingChange
from leitwerk.evaluation.verdict import Context, Verdict, judge
from leitwerk.signals import thermocouple
from leitwerk.signals.quality import Quality

JUNCTION = 22.9
MIRRORED = float(
    thermocouple.temperature(2 * thermocouple.emf(JUNCTION, "K") - thermocouple.emf(19.0, "K"), "K")
)
G, O, H = Quality.GOOD, Quality.OPEN_SENSOR, Quality.ABOVE_RANGE  # noqa: E741


@pytest.fixture(scope="module")
def channels():
    setup = kiln("modbus+tcp://127.0.0.1")
    return {c.name: c for c in setup.channels}


def report(channel, values, qualities=G, **context):
    values = np.atleast_1d(np.asarray(values, dtype=float))
    qualities = np.broadcast_to(np.asarray(qualities, dtype=np.uint8), values.shape)
    return judge(channel, values, qualities, Context(**context))


@pytest.mark.parametrize(
    ("name", "values", "qualities", "verdict", "reason"),
    [
        ("air_top", [21.4, 21.6], G, "pass", ""),
        ("air_top", [22.0], G, "pass", ""),
        ("air_top", [22.1], G, "fail", "reads 22.1 °C, that is 0.6 K above the expected 21.5"),
        ("air_top", [20.5, 20.6], G, "fail", "0.95 K below the expected 21.5 ± 0.5 °C"),
        ("air_top", [0, 0], O, "no reading", "a wire is off, or what is wired there is not Pt100"),
        ("air_top", [21.5, 0], [G, O], "fail", "1 of 2 readings are bad: open sensor"),
        ("air_top", [21.5, math.nan], G, "fail", "1 of 2 readings are bad"),
        ("air_top", [0], Quality.NOT_IN_USE, "no reading", "was the setup uploaded?"),
        ("air_top", [0], Quality.UNKNOWN, "no reading", "nothing that is known"),
        ("valve", [100], H, "no reading", "the signal is above range (0..24 mA)"),
        ("timber_core", [JUNCTION], G, "fail",
         "reads 22.9 °C, that is 3.9 K above the expected 19 ± 1.5 °C: exactly the cold junction"),
        ("timber_core", [MIRRORED], G, "fail", "wired with reversed polarity"),
        ("timber_core", [30.0], G, "fail", "that is 11 K above the expected"),
        # expected: 55 ± 3 %; the mean is right in all of them
        ("humidity", [46, 64, 46, 64], G, "unsteady",
         "it swings from 46 % to 64 %: 0 of 4 readings are within 55 ± 3 %"),
        ("humidity", [55] * 18 + [70, 40], G, "unsteady", "18 of 20 readings are within"),
        ("humidity", [55] * 19 + [58.1], G, "pass", ""),
        ("humidity", np.linspace(53, 57.5, 30), G, "unsteady", "it drifts by 4.5 %"),
        ("humidity", np.linspace(54, 56, 30), G, "pass", ""),
        # Student's t of 2 degrees of freedom is 4.30: 57 ± 4.3 · 1 / √3
        ("humidity", [57, 56, 58], G, "unsteady", "its mean is known to ± 2.484 % from 3 readings"),
        ("door", [1, 1], G, "pass", ""),
        ("door", [1, 0], G, "fail", "is ajar, expected shut (1 of 2 readings)"),
    ],
)  # fmt: skip
def test_verdict_and_reason(channels, name, values, qualities, verdict, reason):
    result = report(channels[name], values, qualities, cold_junction=JUNCTION)
    assert result.verdict == verdict
    assert reason in result.reason
    assert bool(result.reason) == (verdict != "pass")


def test_settings_that_differ_are_named_as_the_first_thing_to_mend(channels):
    change = SettingChange("channel.5.scale.value_high", 80.0, 100.0, "%")
    reason = report(channels["valve"], [32.0], changes=[change]).reason
    assert "channel.5.scale.value_high is 80 %, not 100 %" in reason
    assert reason.endswith("upload it")


def test_statistics_are_those_of_the_good_readings(channels):
    result = report(channels["air_top"], [21.0, 22.0, 99.0], [G, G, O])
    assert (result.count, result.good, result.mean) == (3, 2, 21.5)
    assert (result.minimum, result.maximum, result.last) == (21.0, 22.0, None)
    assert result.standard_deviation == pytest.approx(math.sqrt(0.5))
    assert result.quality == "open sensor"


@given(st.lists(st.floats(allow_nan=True, allow_infinity=True, width=32), max_size=5))
def test_no_reading_ends_in_a_traceback(channels, values):
    for channel in channels.values():
        result = report(channel, values, cold_junction=JUNCTION)
        assert (result.verdict == Verdict.NO_READING) == (not np.isfinite(values).any())


def test_a_reading_with_choices_is_a_state_in_words():
    """``charging`` of the charge controller has words for the numbers 0 to 3."""
    text = example("station", "modbus+rtu:///dev/ttyUSB0?unit=5").replace(
        'expect: "on"', 'expect: absorbing\n    alarms: {stopped: {when: "off"}}'
    )
    setup = checked(text)
    charging = next(c for c in setup.channels if c.name == "charging")
    assert (charging.words(2.0), charging.symbol) == ("absorbing", "")
    assert charging.alarms[0].condition("", charging.states) == "off"
    assert report(charging, [2.0, 2.0]).verdict is Verdict.PASS
    found = report(charging, [2.0, 1.0])
    assert (found.verdict, found.shown(found.last)) == (Verdict.FAIL, "on")
    assert "is on, expected absorbing (1 of 2 readings)" in found.reason
    point = setup.datasheet.own_readings["charging"]
    assert own_quality(point, 4.0) is Quality.UNKNOWN
    for wrong, says in (("expect: bulk", "one of the states"), ("expect: 3 ± 1", "one of the states"),
                        ('{when: "off"}', "has states"), ("reading: name", "no reading")):  # fmt: skip
        old = wrong.split(":")[0]
        changed = text.replace("expect: absorbing", wrong) if old == "expect" else text
        changed = changed.replace('when: "off"', "above: 1") if old == "{when" else changed
        changed = changed.replace("reading: charging", wrong) if old == "reading" else changed
        assert any(says in str(f) for f in checked(changed).findings), wrong


@pytest.mark.parametrize(
    ("resolution", "tolerance", "value", "text"),
    [
        (0.01, None, 13.2, "13.20"), (0.5, 0.1, 13.26, "13.3"), (0.01, 5.0, 13.26, "13.3"),
        (0.1, None, 1234567.8, "1234567.8"), (0.0, None, 13.2, "13.20"), (0.01, 1.0, -0.0001, "0.0"),
    ],
)  # fmt: skip
def test_a_number_has_no_more_digits_than_the_device_gives(
    channels, resolution, tolerance, value, text
):
    found = replace(
        report(channels["humidity"], [55.0]), resolution=resolution, tolerance=tolerance
    )
    assert found.shown(value) == text
