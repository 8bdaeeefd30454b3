"""A setup written from a device: uploaded unchanged it changes nothing. And what differs between two."""

import json

import pytest

import leitwerk as lw
from conftest import example
from leitwerk.transfer.adopt import adopt

STANDINS = [
    ("kiln", ["fichte-8"], "1834"), ("station", ["linde", "--rtu"], "2208"),
    ("saw-hall", ["eibe"], "larch"), ("mill-race", ["weide", "--rtu"], "3317"),
    ("timber", ["ahorn"], ""), ("cabin", ["birke", "--rtu"], "bark"),
    ("panel", ["buche-6"], ""), ("saw-supply", ["ulme-3p"], "5206"),
]  # fmt: skip


@pytest.mark.process
@pytest.mark.parametrize(("name", "words", "password"), STANDINS, ids=[s[0] for s in STANDINS])
def test_adopted_and_uploaded_unchanged_nothing_changes(
    leitwerk, tmp_path, monkeypatch, name, words, password
):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", password)
    with lw.start_standin(*words) as one:
        for state in ("factory", "configured"):
            file = str(tmp_path / f"{state}.yaml")
            assert leitwerk("adopt", str(one.address), "--to", file).exit_code == 0
            text = (tmp_path / f"{state}.yaml").read_text("utf-8")
            assert "would change" not in text, text
            assert "cannot be uploaded" not in text, text
            assert leitwerk("check", file).exit_code == 0
            assert "nothing to change" in leitwerk("upload", file, "--plan").stdout
            again = leitwerk("adopt", str(one.address), "--to", file)
            assert (again.exit_code, "is there already" in again.stderr) == (2, True)
            setup = tmp_path / "setup.yaml"
            setup.write_text(example(name, one.address), encoding="utf-8")
            leitwerk("upload", str(setup))


def test_what_a_setup_cannot_say_stands_at_the_top(device):
    sheet = device.datasheet
    image = device.read_settings()
    settings = dict(image.values)
    settings |= {"channel.4.sensor": "voltage", "channel.4.range": "±1 V", "channel.4.unit": "%"}
    text = adopt(lw.DeviceSettings("fichte-8", settings), device.identify(), "kiln", sheet)
    assert text.splitlines()[1].startswith("# ")
    assert "at: kiln" in text


@pytest.mark.process
def test_two_of_anything_are_compared(leitwerk, tmp_path, standin):
    address = str(standin().address)
    setup = tmp_path / "kiln.yaml"
    setup.write_text(example("kiln", address), encoding="utf-8")
    differs = leitwerk("compare", str(setup), address)
    assert (differs.exit_code, "48 of " in differs.stderr) == (1, True)
    assert "sample.interval   10 s | 60 s" in differs.stdout
    leitwerk("upload", str(setup))
    assert leitwerk("compare", str(setup), address).exit_code == 0
    (backup,) = (tmp_path / "kept" / "K2-00417").glob("*-backup.json")
    as_json = json.loads(leitwerk("compare", str(backup), address, "--json").stdout)
    assert (as_json["compared"], len(as_json["differences"])) == (209, 48)
    other = tmp_path / "station.yaml"
    other.write_text(example("station", "modbus+tcp://127.0.0.1"), encoding="utf-8")
    assert "two of one model" in leitwerk("compare", str(setup), str(other)).stderr


@pytest.mark.parametrize(
    "other",
    [
        {"wiring.system": "3-phase 3-wire, 2 currents", "nominal.voltage": 20000.0,
         "voltage.primary": 20000.0, "voltage.secondary": 100.0, "nominal.frequency": "60 Hz"},
        {"current.sensor": "voltage", "current.sensitivity": 0.5}, {"current.sensor": "coil 3 kA"},
        {"voltage.primary": 230.0, "voltage.secondary": 230.0}, {"wiring.system": "split-phase"},
    ],
)  # fmt: skip
def test_a_wiring_is_adopted_as_one(other):
    sheet = lw.find_datasheet("ulme-3p")
    values = {
        "storage.interval": 600.0, "nominal.voltage": 230.0, "nominal.frequency": "50 Hz",
        "wiring.system": "3-phase 4-wire", "voltage.primary": 100.0, "voltage.secondary": 100.0,
        "current.sensor": "transformer", "current.primary": 200.0, "current.secondary": 5.0,
        "current.sensitivity": 1.0, **other,
    }  # fmt: skip
    identity = lw.Identity("Tannried Instrumente", "ulme-3p", "PA-1", "2.3")
    held = lw.DeviceSettings("ulme-3p", values)
    text = adopt(held, identity, "modbus+tcp://127.0.0.1:1?unit=1", sheet)
    assert ("would change" in text, "cannot be uploaded" in text) == (False, False), text
    assert "wiring:\n" in text
    assert "channels:" not in text
    checked = lw.check_setup(lw.parse_setup(text), sheet)
    assert checked.ok, checked.findings
    assert {name: checked.settings.values[name] for name in other} == other
