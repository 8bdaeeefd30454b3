"""Plans of tests: what they say, and what is wrong with them."""

import math
import re
from importlib import resources
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest

import leitwerk as lw
from conftest import example
from leitwerk.check.test_plan import check_test_plan
from leitwerk.commissioning.reference_units import (
    ReferenceEntry,
    ReferenceFile,
    read_reference,
    without_value,
    write_reference,
)
from leitwerk.commissioning.unit_tests import require_reference
from leitwerk.datasheet.needs import parse_needs
from leitwerk.lots import Around, LimitRule, ReferenceValue
from leitwerk.project.files import content_hash
from leitwerk.project.kept_json import KeptIdentity
from leitwerk.setup.test_plan import parse_test_plan

PLAN = (resources.files("leitwerk") / "testplans" / "panel-board-tests.yaml").read_text("utf-8")
BOARD = lw.check_setup(
    lw.parse_setup(example("panel-board", "modbus+tcp://127.0.0.1:5020?unit=11")),
    lw.find_datasheet("buche-6"),
)


def test_a_plan_with_its_channels_and_limits():
    plan = check_test_plan(parse_test_plan(PLAN), BOARD)
    tests = {test.name: test for test in plan.tests}
    assert tests["pads"].channels == tuple(f"pad_{k}" for k in range(1, 7))
    assert (tests["pads"].rule, tests["pads"].unit) == (LimitRule(9.5, 12.5), "pF")
    assert tests["at rest"].rule == LimitRule(deviation=6.0, around=Around.SPREADS)
    assert tests["touch"].rule == LimitRule(deviation=15.0, around=Around.PERCENT)
    assert tests["drift"].rule == LimitRule(-6.0, 6.0)
    assert tests["separation"].unit == "dB"
    assert plan.needs_reference


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("test plan: 1", "test plan: 2", "this is not a plan of tests"),
        ("of: [supply]", "of: [suply]", "the setup has no channel 'suply'"),
        ("of: [supply], ", "", "supply has no channels"),
        ("within: 4.9..5.1 V", "within: 4.9..5.1 mA", "mA is a unit of current"),
        (", within: 4.9..5.1 V", "", "supply has no limit"),
        ("within: 4.9..5.1 V", "at_least: 6 V, at_most: 5 V", "leave nothing between them"),
        ("to: touch, within", "to: tuch, within", "needs a stimulus of this plan"),
        ('reads: "1.0"', "guard: no", "the version that the firmware must have is missing"),
        ("of: [pad_*]", "of: [pad_1, supply]", "several units"),
        ("within: ±6,", "within: ±6 %,", "and has no percentage"),
        ("measure: shorts", "measure: short", "short"),
        ("within: ±15 %", "within: ±15 % V", "is no deviation"),
        ("to: touch, within: ±15 %", "to: touch, measure: error, within: ±15", "measure"),
        ("measure: response", "measure: error", "does not say which value is applied"),
        (
            'touch {label}", settle',
            'touch {label}", applied: 5 bar, settle',
            "pressure",
        ),
        ("samples: 40", "samples: 2", "is not a number of samples"),
    ],
)
def test_what_cannot_be_tested_is_a_finding_at_its_place(old, new, words):
    assert old in PLAN
    text = PLAN.replace(old, new, 1)
    if "applied" in new:
        text = text.replace("measure: response", "measure: error").replace("±15 %", "±15")
    with pytest.raises(lw.SetupError) as error:
        check_test_plan(parse_test_plan(text, file="plan"), BOARD)
    assert words in str(error.value)
    assert re.search(r"plan:\d+", str(error.value))


def test_a_model_that_cannot_drive_its_lines(tmp_path, monkeypatch, leitwerk):
    monkeypatch.chdir(tmp_path)
    Path("kiln.yaml").write_text(example("kiln", "modbus+tcp://127.0.0.1:5020?unit=3"), "utf-8")
    Path("plan.yaml").write_text(
        "test plan: 1\ntitle: x\nsetup: kiln.yaml\ntests: {lines: {measure: shorts}}\n", "utf-8"
    )
    found = leitwerk("test-lot", "plan.yaml")
    assert (found.exit_code, "cannot drive its lines" in found.stderr) == (1, True)
    Path("plan.yaml").write_text(
        "test plan: 1\ntitle: x\nsetup: kiln.yaml\ntests: {settings: {measure: settings}}\n",
        "utf-8",
    )
    assert leitwerk("reference", "plan.yaml").exit_code == 2  # it names no file for one
    Path("lot.jsonl").write_text('{"unit": 1}\n', "utf-8")
    damaged = leitwerk("lot", "lot.jsonl")
    assert (damaged.exit_code, "lot.jsonl:1 is no record of a unit" in damaged.stderr) == (2, True)


@pytest.mark.parametrize(
    ("words", "fits"),
    [
        ("6 buttons, IP00", ["buche-6"]),
        ("40 places", ["hasel"]),
        ("4 Pt100, 2 relays, every 10 s, memory for 7 d, 4 alarms, -10..40 °C, IP54", ["fichte-8"]),
        ("1 4..20 mA, 1 4..20 mA output, IP65", []),
    ],
)
def test_models_by_needs_in_words(leitwerk, words, fits):
    found = leitwerk("models", "--words", words)
    rows = [line.split() for line in found.stdout.splitlines()[1:]]
    assert [row[0] for row in rows if row[1] == "yes"] == fits
    assert found.exit_code == (0 if fits else 1)


@pytest.mark.parametrize("words", ["four Pt100", "4 bananas", "IP99x", "every 3 kg", "4"])
def test_needs_that_are_not_understood(leitwerk, words):
    refused = leitwerk("models", "--words", words)
    assert (refused.exit_code, refused.stderr != "") == (2, True)
    assert parse_needs("").inputs == ()


def reference_of(values, test="supply", channel="supply"):
    entry = ReferenceEntry(test=test, channel=channel, unit="V", values=values)
    return ReferenceFile(
        title="x", plan_hash="", setup_hash=content_hash(BOARD.setup.source.content), measured="", by="",
        samples=40, entries=[entry],
        units=[KeptIdentity(maker="", model="buche-6", serial=s, firmware="") for s in values],
    )  # fmt: skip


def test_a_reference_that_is_itself_odd_is_noticed():
    plan = check_test_plan(parse_test_plan(PLAN), BOARD)
    values = {f"TB-{k}": [5.0 + 0.002 * (k % 4)] for k in range(1, 13)}
    assert reference_of(values).remarks(plan) == []
    (beside,) = reference_of({**values, "TB-3": [5.05]}).remarks(plan)
    assert beside.startswith("TB-3 is odd: supply of supply is 5.05 V; the others lead to 5.00")
    outside = reference_of({**values, "TB-3": [5.3]}).remarks(plan)
    assert any("the limits are 4.9 to 5.1" in text for text in outside)
    few = reference_of({"TB-1": [5.0], "TB-2": [5.01]}).remarks(plan)
    assert "2 units are too few for their spread" in few[0]


def test_the_spread_of_a_reference_is_that_of_one_measurement_of_one_unit():
    random = np.random.default_rng(3)
    found = []
    for _ in range(200):
        units = {
            str(k): list(random.normal(mean, 3.0, 2))
            for k, mean in enumerate(random.normal(0.0, 4.0, 40))
        }
        found.append(reference_of(units).entries[0].value().spread)
    assert np.sqrt(np.mean(np.square(found))) == pytest.approx(5.0, rel=0.03)  # of 3 and 4


def test_two_commands_do_not_write_one_ledger(tmp_path):
    """The second one is refused, and what the first has added meanwhile is neither lost nor cut off."""
    path = tmp_path / "lot.jsonl"
    one, two = (
        lw.UnitRecord(
            number=k, device=KeptIdentity(maker="", model="buche-6", serial=f"TB-{k}", firmware=""),
            started="", took_s=0.1, by="", plan_hash="", setup_hash="", verdict="passed",
        )
        for k in (1, 2)
    )  # fmt: skip
    with lw.Ledger(path) as first:
        first.add(one)
        with pytest.raises(lw.FileProblem, match="cannot write"), lw.Ledger(path):
            pass
        first.add(two)
    with lw.Ledger(path) as second:
        assert [record.serial for record in second.latest()] == ["TB-1", "TB-2"]
    assert len(path.read_text("utf-8").splitlines()) == 2
    with pytest.raises(lw.FileProblem), lw.Ledger(path / "lot.jsonl"):
        pass


def test_an_agreement_in_spreads_is_around_the_reference():
    text = PLAN.replace("supply:      {measure: rest, of: [supply], within: 4.9..5.1 V}",
                        "supply: {measure: agreement, of: [pad_1, pad_2], within: ±4 spreads}")  # fmt: skip
    plan = check_test_plan(parse_test_plan(text), BOARD)
    (test,) = (one for one in plan.tests if one.name == "supply")
    assert test.parts == ("",)
    known = {(t.name, part): ReferenceValue(1.0, 0.1, 12) for t in plan.tests for part in t.parts}
    require_reference(plan, known)
    del known["supply", ""]
    with pytest.raises(lw.DomainError, match="supply: this limit"):
        require_reference(plan, known)


def test_a_reference_that_was_written_can_be_read(tmp_path):
    """Also with a value that is none: what is kept is read again as it was."""
    entry = ReferenceEntry(
        test="t", channel="c", unit="V", values={"A": [1.0, math.nan], "B": [math.inf]}
    )
    written = ReferenceFile(
        title="", plan_hash="", setup_hash="", measured="", by="", samples=1, entries=[entry]
    )
    write_reference(tmp_path / "r.json", written)
    found = read_reference(tmp_path / "r.json").entries[0].values
    assert found["B"] == [math.inf]
    assert math.isnan(found["A"][1])


def test_a_unit_without_a_value_is_no_reference():
    plan = SimpleNamespace(tests=[SimpleNamespace(name="at rest", channels=("start",))])
    good = SimpleNamespace(test="at rest", channel="start", value=1.0)
    dead = SimpleNamespace(test="at rest", channel="start", value=math.nan)
    assert without_value(plan, [good]) == ""
    assert without_value(plan, [good, dead]) == "at rest of start has no value"
