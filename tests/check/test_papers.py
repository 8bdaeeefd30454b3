"""What reports judge is checked with the setup: channels, units, intervals."""

import pytest

import leitwerk as lw
from conftest import example

HALL = example("saw-hall", "scpi+tcp://127.0.0.1:1")
SUPPLY = example("saw-supply", "modbus+tcp://127.0.0.1:1?unit=1")
MISTAKES = [
    (
        HALL,
        "level: equivalent",
        "level: equivalant",
        "unknown-channel",
        "there is no channel 'equivalant'",
    ),
    (HALL, "at_most: 85 dB", "at_most: 85 V", "wrong-unit", "85 V is no level"),
    (HALL, "at_most: 85 dB", "at_most: 85", "wrong-unit", "85 is no level"),
    (HALL, "peak: peak, ", "", "missing-key", "no channel with a peak level"),
    (HALL, "day: 8 h", "day: 30 s", "intervals-do-not-fit", "30 s is no shift"),
    (
        SUPPLY,
        "within: 207..253 V",
        "within: 207..253 A",
        "wrong-unit",
        "these limits are in A, u1 is in V",
    ),
    (SUPPLY, "[thd_u1, thd_u2, thd_u3]", "[distorsion]", "unknown-channel", "'distorsion'"),
    (SUPPLY, "each: 10 min", "each: 7 min", "intervals-do-not-fit", "7 min does not divide a day"),
    (SUPPLY, "at_least: 95 %", "at_least: 950 %", "bad-value", "is no share"),
    (SUPPLY, "at_least: 95 %", "at_least: 3 V", "bad-value", "is no share"),
    (SUPPLY, "each: day", "each: week", "bad-value", "'hour', 'day' or 'month'"),
    (SUPPLY, "[p, bought, cost]", "[p, costs]", "unknown-channel", "'costs'"),
]


@pytest.mark.parametrize(("text", "old", "new", "rule", "says"), MISTAKES)
def test_a_mistake_is_found_at_its_place(text, old, new, rule, says):
    assert old in text
    setup = text.replace(old, new)
    try:
        parsed = lw.parse_setup(setup)
        found = lw.check_setup(parsed, lw.find_datasheet(parsed.device.model)).findings
    except lw.SetupError as error:
        found = error.findings
    wrong = [finding for finding in found if finding.is_error]
    assert rule in {finding.rule for finding in wrong}, wrong
    assert any(says in str(finding) for finding in wrong), wrong
