"""Datasheets tried and proven: on simulated devices, and on strangers that are not as it says."""

import json
import shutil
import sys
from importlib import resources
from pathlib import Path

import pytest

import leitwerk as lw

STRANGERS = Path(__file__).parent.parent / "strangers"
sys.path.append(str(STRANGERS))

from hasel import Hasel  # noqa: E402 - a device of the tests beside these

SHEETS = resources.files("leitwerk") / "datasheets"


@pytest.mark.process
@pytest.mark.parametrize("name", ["erle", "esche", "ulme", "linde", "weide", "birke", "eibe"])
def test_each_datasheet_is_proven_on_its_simulated_device(leitwerk, tmp_path, monkeypatch, name):
    monkeypatch.chdir(tmp_path)
    folder = STRANGERS if (STRANGERS / f"{name}.yaml").exists() else SHEETS
    shutil.copy(str(folder / f"{name}.yaml"), tmp_path / "mine.yaml")
    proof = leitwerk("datasheet", "mine.yaml", "--prove", "simulated", "--json")
    found = json.loads(proof.stdout)
    assert (proof.exit_code, found["outcome"], found["reasons"]) == (0, "passed", [])
    steps = [step["step"] for step in found["steps"]]
    assert steps[:2] == ["identify", "read all settings twice"]
    assert steps[-1] == "give back all settings"
    assert len(steps) > 7
    assert not list(tmp_path.glob("kept/*/journal.json"))


class Slips(Hasel):
    """The same device with something that its datasheet does not say."""

    slip = ""

    def shown(self, function):
        found = super().shown(function)
        if self.slip == "another model" and function == 4:
            found = {**found, 1: 0x4142}
        if self.slip == "a setting that moves" and function == 3:
            self.holding[18] = (self.holding[18] + 1) % 100
            return super().shown(function)
        return found

    def written(self, start, words):
        if self.slip == "a setting that is not kept" and start <= 18 < start + len(words):
            return 0
        if self.slip == "a neighbour that changes" and start == 1:
            self.holding[18] = 7
        return super().written(start, words)


@pytest.mark.parametrize(
    ("slip", "step"),
    [
        ("", ""), ("another model", "identify"), ("a setting that moves", "read all settings twice"),
        ("a setting that is not kept", "write level.zero"),
        ("a neighbour that changes", "write network.name"),
    ],
)  # fmt: skip
def test_what_the_device_does_otherwise_is_found(leitwerk, tmp_path, monkeypatch, slip, step):
    monkeypatch.chdir(tmp_path)
    with Slips() as device:
        device.slip = slip
        # Once written, the name of the network needs characters: the proof gives back what it found.
        device.holding.update(dict.fromkeys(range(1, 9), 16705))
        before = dict(device.holding)
        where = f"modbus+tcp://127.0.0.1:{device.port}?unit=1"
        sheet = str(STRANGERS / "hasel.yaml")
        words = ("datasheet", sheet, "--prove", where, "--arm", "--folder", "kept", "--json")
        proof = leitwerk(*words)
        found = json.loads(proof.stdout)
        wrong = [s["step"] for s in found["steps"] if s["outcome"] != "passed"]
        assert (wrong[0] if wrong else "") == step, found
        assert proof.exit_code == (1 if step else 0)
        if not slip:
            assert device.holding == before
            assert leitwerk(*words[:4]).stdout.endswith("PASSED\n")  # read-only


@pytest.mark.parametrize(
    ("old", "new", "doubt"),
    [
        ("input 4, type: u32}", "input 4, type: u32, words: low first}", "'words: high first' it is 70008"),
        ("unit: mm}\nsettings", "unit: mm, span: 0..2000}\nsettings", "outside the span 0..2000"),
        ("{at: input 0, type: text 8}", "{at: input 11, type: text 2}", "empty: is the place right?"),
        ("level: {at: input 10, type: i16", "level: {at: input 10, type: f32", "an odd number"),
    ],
)  # fmt: skip
def test_what_does_not_look_like_the_point_is_doubted(leitwerk, tmp_path, old, new, doubt):
    text = (STRANGERS / "hasel.yaml").read_text("utf-8")
    assert old in text
    sheet = tmp_path / "mine.yaml"
    sheet.write_text(text.replace(old, new), "utf-8")
    with Slips() as device:
        device.shown = lambda function: {**Hasel.shown(device, function), 12: 0, 6: 0x1178}
        where = f"modbus+tcp://127.0.0.1:{device.port}?unit=1"
        tried = leitwerk("datasheet", str(sheet), "--try", where)
    assert doubt in tried.stdout, tried.stdout
    assert (tried.exit_code, "look wrong" in tried.stdout) == (1, True)


def test_a_float_register_knows_the_ends_of_its_span():
    """Half a step is the slack of a number with steps; a floating point number has none."""
    coefficient = lw.find_datasheet("weide").settings["flume.coefficient"]
    assert coefficient.storable(0.001) == pytest.approx(0.001)
    for wrong in (0.0, 0.0009, 50.4):
        with pytest.raises(lw.QuantityError):
            coefficient.storable(wrong)
