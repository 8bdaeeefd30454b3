"""What reports judge is checked with the setup: channels, units, intervals."""

import pytest

import leitwerk as lw
from conftest import example

HALL = example("saw-hall", "scpi+tcp://127.0.0.1:1")
OF_SET = example("saw-supply", "modbus+tcp://127.0.0.1:1?unit=1")
SUPPLY = OF_SET.replace(
    "  limits: {set: supply-voltage}\n",
    """  shares:
    voltage: {channels: [u1, u2, u3], within: 207..253 V, each: 10 min, at_least: 95 %}
    distortion: {channels: [thd_u1, thd_u2, thd_u3], within: 0..8 %, each: 10 min, at_least: 95 %}
""",
)
MISTAKES = [
    (
        HALL,
        "level: main_equivalent",
        "level: equivalant",
        "unknown-channel",
        "there is no channel 'equivalant'",
    ),
    (HALL, "at_most: 85 dB", "at_most: 85 V", "wrong-unit", "85 V is no level"),
    (HALL, "at_most: 85 dB", "at_most: 85", "wrong-unit", "85 is no level"),
    (HALL, "main: {weighting: A", "main: {weighting: Z", "wrong-weighting", "takes A"),
    (HALL, "level: main_equivalent", "level: main_maximum", "wrong-weighting", "the maximum level"),
    (HALL, "peaks: {weighting: C", "peaks: {weighting: A", "wrong-weighting", "takes C"),
    (HALL, "peak: peaks_peak, ", "", "missing-key", "no channel with a peak level"),
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
    (SUPPLY, "[p, bought, cost, carbon]", "[p, costs]", "unknown-channel", "'costs'"),
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


def checked_papers(text):
    parsed = lw.parse_setup(text)
    return lw.check_setup(parsed, lw.find_datasheet(parsed.device.model))


def test_a_set_gives_the_shares_of_a_week_and_the_file_counts():
    share = "{channels: [unbalance], within: 0..3 %, each: 2 h, at_least: 95 %}"
    own = f"  shares:\n    unbalance, 95 %: {share}\n"
    found = checked_papers(OF_SET + own)
    assert found.ok, found.findings
    shares = found.setup.papers.shares
    assert str(shares["voltage, 95 %"].within) == "207..253 V"  # nominal is that of the wiring
    assert shares["distortion, 95 %"].channels == ["thd_u1", "thd_u2", "thd_u3"]
    assert str(shares["unbalance, 95 %"].within) == "0..3 %"
    wires = OF_SET.replace("3-phase 4-wire", "3-phase 3-wire").replace(
        "nominal: 230 V", "nominal: 400 V"
    )
    of_three = checked_papers(
        wires.replace("  u1: {", "  u12: {")
        .replace("  u2: {", "  u23: {")
        .replace("  u3: {", "  u31: {")
    )
    assert of_three.setup.papers.shares["voltage, all"].channels == ["u12", "u23", "u31"]
    assert str(of_three.setup.papers.shares["voltage, all"].within) == "340..440 V"


@pytest.mark.parametrize(
    "used", ["{set: battery}", "{set: no-such}", "{set: supply-voltage, nominal: 5 A}"]
)
def test_a_set_that_gives_no_shares_is_a_finding(used):
    with pytest.raises(lw.SetupError) as error:
        checked_papers(OF_SET.replace("{set: supply-voltage}", used))
    assert {finding.rule for finding in error.value.findings} & {"bad-limits", "unknown-limits"}
