"""Unit after unit through the commands: a robot changes the boards, and knows what is wrong with each."""

import json
import math
import re
import signal
import subprocess
import sys
import time
from importlib import resources
from pathlib import Path

import pytest
from robot import Fixture, run

import leitwerk as lw
from leitwerk.commissioning.reference_units import read_reference
from leitwerk.standins.boards import FAULTS, make_lot

FILES = resources.files("leitwerk")
FAST = {"samples: 40": "samples: 12", "settle: 50 ms": "settle: 1 ms, wait: 3 s"}


def write_files(folder, fixture, **changes):
    """The setup and the plan of the boards, for a fixture."""
    setup = (FILES / "examples" / "panel-board.yaml").read_text("utf-8")
    setup = re.sub(r"at: modbus\S*", f"at: {fixture.address}", setup)
    plan = (FILES / "testplans" / "panel-board-tests.yaml").read_text("utf-8")
    for old, new in {**FAST, **changes}.items():
        assert old in plan, old
        plan = plan.replace(old, new)
    (folder / "panel-board.yaml").write_text(setup, "utf-8")
    (folder / "panel-boards.yaml").write_text(plan, "utf-8")


def records(folder):
    return [json.loads(line) for line in (folder / "lot.jsonl").read_text("utf-8").splitlines()]


def faults_of(record):
    return {one["fault"] for one in record["results"] if one["fault"]}


@pytest.fixture
def fixture(request):
    one = Fixture(*request.param)
    yield one
    one.close()


@pytest.mark.process
def test_a_lot_from_its_reference_to_its_figures(tmp_path, leitwerk, monkeypatch):
    monkeypatch.chdir(tmp_path)
    good = Fixture("--lot", "12", "--faulty", "0", "--seed", "77")
    write_files(tmp_path, good)
    words = ["reference", "panel-boards.yaml", "--units", "12", "--repeats", "1"]
    code, shown, _ = run(good, words, tmp_path)
    good.close()
    assert code in {0, 1}, shown  # of so many values, one may be odd by chance
    reference = read_reference(Path("good-boards.json"))
    assert len(reference.units) == 12
    start = reference.values()["at rest", "start"]
    assert (start.mean, start.spread) == (
        pytest.approx(212.0, abs=4.0),
        pytest.approx(4.0, rel=0.6),
    )

    count, seed = 27, 3
    lot = Fixture("--lot", str(count), "--faulty", f"{900 / count}", "--seed", str(seed))
    write_files(tmp_path, lot)
    code, shown, asked = run(
        lot, ["test-lot", "panel-boards.yaml", "--units", str(count)], tmp_path
    )
    lot.close()
    planted = {board.serial: board.fault for board in make_lot(count, seed, faulty=9 / count)}
    assert sorted(filter(None, planted.values())) == sorted(FAULTS)
    found = {one["device"]["serial"]: faults_of(one) for one in records(tmp_path)}
    assert code == 1
    assert list(found) == list(planted)
    assert not [serial for serial, fault in planted.items() if fault and fault not in found[serial]]
    false = [serial for serial, fault in planted.items() if not fault and found[serial]]
    assert len(false) <= allowed_false_alarms(reference, count - 9), false
    assert len(shown.splitlines()) == count
    assert asked[-1] == "all units are tested"

    listed = leitwerk("lot", "lot.jsonl", "--json", "--figures", "figures", "--table", "units.csv")
    result = json.loads(listed.stdout)
    assert (listed.exit_code, result["units"], result["passed"]) == (1, 27, 18 - len(false))
    assert result["yield_interval"][0] < result["yield"] < result["yield_interval"][1]
    supply = next(m for m in result["measures"] if m["test"] == "supply")["capability"]
    assert (supply["mean"], supply["standard_deviation"]) == (
        pytest.approx(5.02, abs=0.01), pytest.approx(0.01, rel=0.6),
    )  # fmt: skip
    assert {path.name for path in Path("figures").iterdir()} >= {"faults.png", "trend-touch.png"}
    assert len(Path("units.csv").read_text("utf-8").splitlines()) == 28
    beside = leitwerk("lot", "lot.jsonl", "--beside", "lot.jsonl")
    assert re.search(r"supply of supply +\+0 .* no +1\.00 +V", beside.stdout), beside.stdout


def allowed_false_alarms(reference, boards):
    """How many good boards may fail: by the true distribution of boards and the limits of the reference."""
    chance = 0.0
    for (test, _), value in reference.values().items():
        if test == "at rest":
            spread = math.hypot(4.0, 3.0 / math.sqrt(12))
            ends = [(value.mean + k * 6.0 * value.spread - 212.0) / spread for k in (-1.0, 1.0)]
            chance += (
                1.0 - (math.erf(ends[1] / math.sqrt(2)) - math.erf(ends[0] / math.sqrt(2))) / 2.0
            )
    expected = boards * chance
    return math.ceil(expected + 4.0 * math.sqrt(expected))


@pytest.mark.process
@pytest.mark.parametrize("fixture", [("--lot", "12", "--faulty", "0")], indirect=True)
def test_killed_at_any_moment_nothing_is_lost_or_doubled(fixture, tmp_path):
    write_files(tmp_path, fixture, **{"±6 spreads": "150..280", "±15 %": "400..900"})
    words = ["test-lot", "panel-boards.yaml", "--units", "12"]
    for moment in (9, 23, 41):  # after so many lines that it has asked
        left = iter(range(moment - 1, -1, -1))

        def kill(process, line, left=left):
            if next(left, 1) == 0:
                process.send_signal(signal.SIGKILL)
            return line

        code, _, _ = run(fixture, words, tmp_path, kill)
        assert code == -signal.SIGKILL
        path = tmp_path / "lot.jsonl"
        with path.open("ab") as file:  # the computer stopped in the middle of a line
            file.write(path.read_bytes()[:50] or b'{"unit": 1, "num')
    code, _, asked = run(fixture, words, tmp_path)
    serials = [one["device"]["serial"] for one in records(tmp_path)]
    assert len(serials) == len(set(serials)) == 12
    assert [one["number"] for one in records(tmp_path)] == list(range(1, 13))
    assert not [one for one in records(tmp_path) if faults_of(one)]
    assert (code, asked[-1]) == (0, "all units are tested")


@pytest.mark.process
@pytest.mark.parametrize("fixture", [("--lot", "5", "--faulty", "0")], indirect=True)
def test_the_same_fault_three_times_stops_the_line(fixture, tmp_path):
    write_files(
        tmp_path, fixture, **{'"1.0"': '"2.0"', "±6 spreads": "150..280", "±15 %": "400..900"}
    )
    code, shown, asked = run(fixture, ["test-lot", "panel-boards.yaml", "--units", "5"], tmp_path)
    assert (code, shown.count("firmware 1.0, not 2.0")) == (1, 3)
    assert "3 units in a row have the same fault: wrong firmware. Look at the fixture" in asked[-1]


@pytest.mark.process
@pytest.mark.parametrize("fixture", [("--lot", "3", "--faulty", "0")], indirect=True)
def test_a_list_labels_and_units_that_come_again(fixture, tmp_path):
    write_files(tmp_path, fixture, **{"±6 spreads": "150..280", "±15 %": "400..900"})
    (tmp_path / "lot.csv").write_text("serial\nTB-0001\nTB-3\n", "utf-8")
    words = ["test-lot", "panel-boards.yaml", "--list", "lot.csv"]
    code, shown, asked = run(fixture, words, tmp_path)
    assert (code, shown.splitlines()) == (0, ["PASS  TB-0001", "PASS  TB-0003"])
    assert "TB-0002 is not tested: it is not on the list" in asked
    again = Fixture("--lot", "1", "--faulty", "0")
    write_files(tmp_path, again, **{"±6 spreads": "150..280", "±15 %": "400..900"})
    words = ["test-lot", "panel-boards.yaml", "--units", "3", "--again", "tb-1"]

    def end(process, line):
        if line.startswith("remove"):
            process.send_signal(signal.SIGTERM)

    code, shown, asked = run(again, words, tmp_path, end)
    again.close()
    assert (code, shown) == (1, "PASS  TB-0001\n")
    assert [one["again"] for one in records(tmp_path)] == [False, False, True]


@pytest.mark.process
@pytest.mark.parametrize("fixture", [("--lot", "1", "--faulty", "0")], indirect=True)
def test_what_a_finger_does_and_where_the_threshold_may_lie(fixture, tmp_path):
    write_files(tmp_path, fixture)
    fixture.operate("insert")
    words = [
        "bars",
        "panel-board.yaml",
        "--rest",
        "0.5 s",
        "--for",
        "2 s",
        "--every",
        "10 ms",
        "--json",
    ]

    def touch(process, line):
        if line.startswith("touch the buttons"):
            fixture.operate("touch 2")
            time.sleep(0.7)
            fixture.operate("release")
        return process

    code, shown, _ = run(fixture, words, tmp_path, touch)
    found = json.loads(shown)
    assert (code, list(found)) == (0, ["stop"])
    stop = found["stop"]
    assert (stop["rest"], stop["touched"], stop["held"]) == (
        pytest.approx(212.0, abs=15.0), pytest.approx(852.0, abs=45.0), 400.0,
    )  # fmt: skip
    assert (
        stop["rest"] < stop["threshold"] - stop["hysteresis"] < stop["threshold"] < stop["touched"]
    )
    assert min(*stop["margins"], *stop["held_margins"]) > 6.0


@pytest.mark.process
@pytest.mark.parametrize("fixture", [("--lot", "3", "--faulty", "0")], indirect=True)
def test_a_unit_that_stops_to_answer_is_unknown_and_tested_when_it_comes_again(fixture, tmp_path):
    write_files(tmp_path, fixture, **{"±6 spreads": "150..280", "±15 %": "400..900"})
    words = ["test-lot", "panel-boards.yaml", "--units", "3"]
    pulled = []

    def pull(process, line):
        if line == "touch Stop" and not pulled:
            pulled.append(fixture.operate("remove"))
            fixture.operate("back")
        return process

    code, shown, _ = run(fixture, words, tmp_path, pull)
    assert shown.splitlines()[0].startswith("UNKNOWN  TB-0001  ")
    assert [line.split()[0] for line in shown.splitlines()[1:]] == ["PASS"] * 3
    assert faults_of(records(tmp_path)[0]) == {"no answer while it was tested"}
    assert [one["device"]["serial"] for one in records(tmp_path)] == [
        "TB-0001",
        "TB-0001",
        "TB-0002",
        "TB-0003",
    ]
    assert code == 0  # the last record of each counts


CREW = """\
test plan: 1
title: Loggers of the crew
setup: crew.yaml
samples: 5
fixture: 0
stimuli:
  zero: {ask: "set the calibrator to 4 mA at {label}", applied: 0 %, settle: 1 ms}
tests:
  settings: {measure: settings}
  error:    {measure: error, of: [valve], to: zero, within: ±0.5 %, guard: yes}
  supply:   {measure: rest, of: [inside], within: 20..30 °C}
"""


@pytest.mark.process
def test_the_loggers_of_a_crew_with_the_values_of_a_calibrator(tmp_path, monkeypatch):
    """What a person reads off the calibrator is typed; an empty line is the value that was asked for."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "1834")
    options = ("--copies", "5", "--numbered", "--course", "steam_valve: 3; stay 1 h")
    with lw.start_standin("fichte-8", *options) as standin:
        setup = (FILES / "examples" / "kiln.yaml").read_text("utf-8")
        setup = setup.replace("modbus+tcp://127.0.0.1:5020?unit=3", str(standin.address))
        Path("crew.yaml").write_text(setup, "utf-8")
        names = [channel.name for channel in lw.read_setup("crew.yaml").channels]
        assert "valve" in names
        Path("plan.yaml").write_text(CREW.replace("[inside]", "[air_top]"), "utf-8")
        rows = [f'K2-{417 + k:05d},"{at}"' for k, at in enumerate(standin.addresses)]
        Path("crew.csv").write_text("\n".join(["serial,at", *rows, ""]), "utf-8")
        text = Path("plan.yaml").read_text("utf-8").replace("samples: 5", "samples: 5\nupload: yes")
        Path("plan.yaml").write_text(text, "utf-8")
        typed = "3 %\n2.9\nabc\n3.1 %\n\n3 %\n"
        words = [sys.executable, "-m", "leitwerk", "test-lot", "plan.yaml", "--list", "crew.csv"]
        done = subprocess.run(
            words, input=typed, capture_output=True, encoding="utf-8", check=False
        )
        lines = done.stdout.splitlines()
        assert done.returncode == 1, done.stderr
        assert [line.split()[0] for line in lines] == ["PASS", "PASS", "PASS", "FAIL", "PASS"], (
            done.output
        )
        # Planted is 3 %, read with the noise of the converter.
        assert re.search(r"error of valve: (2\.9|3\.0)", lines[3])
        assert "'abc'" in done.stderr
        words += ["--again", "K2-418"]  # all of them have a verdict
        again = subprocess.run(
            words, input="3 %\n", capture_output=True, encoding="utf-8", check=False
        )
        assert again.stdout == "PASS  K2-00418\n", again.stderr
        words[-1] = "K2-999"
        refused = subprocess.run(words, capture_output=True, encoding="utf-8", check=False)
        assert (refused.returncode, "K2-999 is not on the list" in refused.stderr) == (2, True)
    assert all(one["results"][0]["verdict"] == "pass" for one in records(tmp_path))
