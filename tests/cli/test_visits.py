"""Visits: kept by every act at a device, compared, and packed without a secret."""

import json
import zipfile

import pytest

import leitwerk as lw
from conftest import kiln_text
from leitwerk.reports.visits import VisitChanges, keep_visit, load_visit, visit_files

pytestmark = pytest.mark.process


@pytest.fixture
def visited(standin, leitwerk, tmp_path, monkeypatch):
    """A kiln that was uploaded twice, with another limit."""
    monkeypatch.chdir(tmp_path)
    address = standin().address
    for limit in ("78 °C", "79 °C"):
        (tmp_path / "kiln.yaml").write_text(
            kiln_text(address).replace("above: 78 °C", f"above: {limit}"), "utf-8"
        )
        assert leitwerk("upload", "kiln.yaml").exit_code == 0
    return tmp_path


@pytest.mark.usefixtures("visited")
def test_what_has_changed_since_the_last_visit(leitwerk):
    shown = leitwerk("device", "kiln.yaml").stdout.splitlines()
    assert shown[0].startswith("since the visit of 2")
    assert shown[0].endswith("nothing has changed")
    listed = leitwerk("visits", "kiln.yaml").stdout.splitlines()
    assert [line.split()[2] for line in listed] == ["device", "upload", "upload"]
    compared = leitwerk("visits", "K2-00417", "--compare", "3", "1", "--folder", "kept")
    assert "alarm.1.trip  78 °C -> 79 °C" in compared.stdout
    assert "settings: 1 changed" in compared.stdout
    data = json.loads(leitwerk("visits", "kiln.yaml", "--compare", "3", "1", "--json").stdout)
    assert data["settings"]["alarm.1.trip"] == {"before": "78 °C", "after": "79 °C"}
    one = leitwerk("visits", "kiln.yaml", "--show", "1").stdout
    assert "channel.1.value: 21." in one
    assert " °C" in one
    watched = leitwerk("live", "kiln.yaml", "--for", "0.2 s", "--every", "0.1 s")
    assert watched.stdout.splitlines()[-1].endswith("nothing has changed")
    none = leitwerk("visits", "kiln.yaml", "--show", "9")
    assert (none.exit_code, "1 (the newest) to 4" in none.stderr) == (2, True)
    assert leitwerk("visits", "other").exit_code == 1


def test_changes_are_told_in_one_line(visited):
    first, second = (load_visit(path) for path in visit_files(visited / "kept", "K2-00417"))
    other = second.model_copy(
        update={
            "device": second.device.model_copy(update={"firmware": "1.5"}),
            "status": {**second.status, "recording": "recording", "battery.voltage": 3.1},
        }
    )
    text = VisitChanges(first, other).summary()
    assert "firmware 1.4 -> 1.5, 1 setting: alarm.1.trip 78 °C -> 79 °C" in text
    assert "1 status: recording stopped -> recording" in text
    assert "battery" not in text  # a number that is another one each time
    assert "battery.voltage" in str(VisitChanges(first, other))
    for number in range(3):
        keep_visit(other.model_copy(update={"by": str(number)}), visited / "kept")
    assert len(visit_files(visited / "kept", "K2-00417")) == 5


def test_a_damaged_visit_stops_nothing(visited, leitwerk):
    newest = visit_files(visited / "kept", "K2-00417")[-1]
    newest.write_text("{", "utf-8")
    assert leitwerk("device", "kiln.yaml").exit_code == 0
    assert "damaged" in leitwerk("visits", "kiln.yaml").stderr


def test_a_bundle_holds_no_secret(visited, leitwerk, monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "1834")
    receipt = next((visited / "kept" / "K2-00417").glob("*-receipt.txt"))
    receipt.write_text(receipt.read_text("utf-8") + "\nthe password is 1834\n", "utf-8")
    packed = leitwerk("bundle", "kiln.yaml", "--to", "help.zip")
    assert packed.exit_code == 0, packed.output
    with zipfile.ZipFile("help.zip") as archive:
        names = archive.namelist()
        content = {name: archive.read(name) for name in names}
    assert {"device.json", "manifest.json", "trace.txt", "versions.json", "setup/kiln.yaml"} <= {
        *names
    }
    assert not any(b"1834" in text for text in content.values())
    assert b"the password is ***" in content[f"receipts/{receipt.name}"]
    assert b"read input 0..31" in content["trace.txt"]
    manifest = json.loads(content["manifest.json"])
    assert {name: entry["bytes"] for name, entry in manifest.items()} == {
        name: len(text) for name, text in content.items() if name != "manifest.json"
    }
    assert json.loads(content["versions.json"])["leitwerk"] == lw.__version__
    assert leitwerk("bundle", "kiln.yaml", "--to", "/nowhere/a.zip").exit_code == 2


@pytest.mark.usefixtures("visited")
def test_the_page_shows_readings_in_groups_again_and_again(leitwerk):
    page = leitwerk("device", "kiln.yaml", "--readings").stdout
    assert "cold junction  22.9 °C" in page
    assert " °C, good; 2: " in page
    assert "7, 8, 10..12: 0, input not in use" in page
    shown = leitwerk(
        "device", "kiln.yaml", "--readings", "--every", "50 ms", "--for", "100 ms"
    ).stdout
    assert shown.count("read at") == 3
    again = ("device", "kiln.yaml", "--every", "50 ms", "--for", "50 ms", "--json")
    parts = leitwerk(*again).stdout.split("}\n{")
    assert len(parts) == 2
    assert '"battery.voltage": 3.5' in parts[1]


@pytest.mark.usefixtures("visited")
def test_everything_that_acts_on_a_device_keeps_a_visit(leitwerk):
    for act in (
        ("tare", "kiln.yaml", "stack", "--for", "0.5 s", "--most", "9999 kg", "--spread", "99 kg"),
        ("record", "kiln.yaml", "start"), ("record", "kiln.yaml", "stop"),
        ("readdress", "kiln.yaml", "--serial", "K2-00417", "--name", "kiln-2"),
    ):  # fmt: skip
        done = leitwerk(*act)
        assert done.exit_code == 0, done.output
    listed = leitwerk("visits", "kiln.yaml").stdout
    assert [" ".join(line.split()[2:-4]) for line in listed.splitlines()][:4] == [
        "readdress", "record stop", "record start", "tare stack",
    ]  # fmt: skip
