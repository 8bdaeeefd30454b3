"""Finding devices and trying datasheets: read only, early, and with words for what is wrong."""

import json
from dataclasses import replace
from importlib import resources

import pytest

import leitwerk as lw
from conftest import NOWHERE, MemoryLink
from leitwerk.devices import scan as scanning
from leitwerk.devices.datasheet_trial import try_datasheet
from leitwerk.devices.scan import FoundDevice, Port, Scan, expand_addresses, scan
from leitwerk.parsing.address import parse_address


@pytest.fixture
def address(standin):
    return standin().address


@pytest.mark.process
def test_a_scan_finds_who_is_there_and_tells_it_early(address):
    seen, steps = [], []
    found = scan(
        expand_addresses(address, range(1, 6)), [lw.find_datasheet("linde"), lw.find_datasheet("fichte-8")],
        progress=lambda done, total: steps.append((done, total, len(seen))), on_found=seen.append,
    )  # fmt: skip
    assert [(d.address.unit, d.identity.serial) for d in found.found] == [(3, "K2-00417")]
    assert (found.silent, found.garbage) == (4, 0)
    assert steps == [(1, 5, 0), (2, 5, 0), (3, 5, 1), (4, 5, 1), (5, 5, 1)]
    unknown = scan([address], [lw.find_datasheet("linde")])
    assert str(unknown.found[0]).endswith("a device that no datasheet knows")


@pytest.mark.process
def test_garbage_on_the_line_is_told_from_silence(standin):
    address = standin("--rtu", "--corrupt-every", "1").address
    found = scan([address], [], timeout_s=0.3)
    assert (len(found.found), found.garbage) == (0, 1)
    assert "does not run at 19200,8N1" in found.summary()


@pytest.mark.process
def test_line_settings_are_tried_in_turn_and_those_a_port_cannot_do_are_passed_over(leitwerk):
    with lw.start_standin("linde", "--rtu", "--unit", "5") as one:
        bare = f"modbus+rtu://{one.address.serial_port}?unit=5"  # 19200,8E1: no parity there
        alone = leitwerk("find", bare, "--units", "5")
        found = leitwerk("find", bare, "--units", "4..5", "--lines")
    assert (alone.exit_code, "cannot be set to this line" in alone.stderr) == (3, True)
    assert (found.exit_code, found.stdout.count("linde, serial number 4711")) == (0, 1)
    assert "ask at 9600,8N1: 2/2" in found.stderr


@pytest.mark.process
def test_the_command_finds_and_says_when_nobody_is_there(leitwerk, address):
    result = leitwerk("find", str(address), "--units", "2..4", "--json")
    assert result.exit_code == 0
    assert [d["identity"]["model"] for d in json.loads(result.stdout)] == ["fichte-8"]
    nobody = leitwerk("find", str(address), "--units", "7")
    assert (nobody.exit_code, "0 found, 1 silent" in nobody.stderr) == (1, True)
    assert leitwerk("find", str(address), "--units", "0..300").exit_code == 2
    assert leitwerk("find", "modbus+rtu:///dev/ttyNOWHERE").exit_code == 3


def test_ports_are_listed_with_what_keeps_them_from_being_used(leitwerk, monkeypatch):
    ports = [Port("/dev/ttyA", "converter", "", ""), Port("/dev/ttyB", "", "busy", "end it")]
    monkeypatch.setattr(scanning, "list_serial_ports", lambda: ports)
    text = leitwerk("ports").stdout
    assert text.splitlines()[0].endswith("free")
    assert "busy: end it" in text
    assert json.loads(leitwerk("ports", "--json").stdout)[1]["trouble"] == "busy"
    monkeypatch.setattr(scanning, "list_serial_ports", list)
    assert "no serial ports" in leitwerk("ports").stdout


def test_a_datasheet_is_tried_point_by_point_and_nothing_is_written(device):
    results = list(try_datasheet(device))
    assert len(results) == len(device.link.requests) == 260
    assert not any(text.startswith("write") for text in device.link.requests)
    assert {r.name: r.value for r in results}["serial"] == "K2-00417"
    assert not any(r.trouble for r in results)


def test_a_datasheet_that_does_not_fit_says_where(logger):
    text = (resources.files("leitwerk") / "datasheets" / "fichte-8.yaml").read_text("utf-8")
    odd = text.replace("input 43, type: u16", "input 600, type: u16").replace(
        "choices: {stopped: 0, recording: 1}", "choices: {recording: 1}"
    )
    results = list(try_datasheet(lw.Device(lw.parse_datasheet(odd), MemoryLink(logger))))
    troubles = {r.name: r.trouble for r in results if r.trouble}
    assert troubles == {
        "recordings": "refused: there is no such setting, or it is read-only",
        "recording": "code 0 stands for nothing that the datasheet knows",
    }


def test_overlapping_points_are_found():
    text = (resources.files("leitwerk") / "datasheets" / "linde.yaml").read_text("utf-8")
    for old, new, says in (
        ("holding 10,", "holding 9,", "charge.float and charge.absorption (settings) both lie on"),
        ("bits: 1, ", "bits: 0..3, ", "option.buzzer and option.night_light"),
        ("input 22,", "input 25,", "energy.total and panel.voltage"),
    ):
        with pytest.raises(lw.SetupError) as caught:
            lw.parse_datasheet(text.replace(old, new), file="l.yaml")
        (finding,) = caught.value.findings
        assert (finding.rule, says in finding.message) == ("overlap", True)


def test_an_overlap_of_blocks_points_to_the_line_of_the_block():
    text = (resources.files("leitwerk") / "datasheets" / "fichte-8.yaml").read_text("utf-8")
    with pytest.raises(lw.SetupError) as caught:
        lw.parse_datasheet(text.replace("66 + 40 n", "65 + 40 n"), file="f.yaml")
    (finding,) = caught.value.findings
    assert "label" in text.splitlines()[finding.line - 1]


@pytest.mark.process
def test_the_datasheet_command(leitwerk, address, tmp_path):
    assert "no errors found, 0 warnings" in leitwerk("datasheet", "linde").stdout
    tried = leitwerk("datasheet", "fichte-8", "--try", str(address), "--json")
    assert tried.exit_code == 0
    assert len(json.loads(tried.stdout)) == 260
    other = leitwerk("datasheet", "linde", "--try", str(address))
    assert "the device says that it is" in other.stderr
    bad = tmp_path / "bad.yaml"
    bad.write_text("datasheet: 1\nmodel: x\n", encoding="utf-8")
    result = leitwerk("datasheet", str(bad))
    assert (result.exit_code, "the key 'maker' is missing" in result.stderr) == (1, True)
    assert leitwerk("datasheet", "linde", "--try", str(NOWHERE)).exit_code == 3


@pytest.mark.process
def test_whoever_no_datasheet_knows_may_introduce_itself():
    for model, says in (("eibe", "serial number SH-0093, firmware 3.1, no datasheet"),
                        ("ahorn", "ahorn, serial number 30071, firmware 2.3, no datasheet")):  # fmt: skip
        with lw.start_standin(model) as one:
            (found,) = scan([one.address], []).found
        assert str(found).endswith(says)


@pytest.mark.process
def test_framing_errors_speak_of_the_baud_rate(standin, monkeypatch):
    counts = iter([3, 40])
    monkeypatch.setattr(scanning, "framing_errors", lambda path: next(counts))
    address = standin("--rtu", "--corrupt-every", "1").address
    assert "(37 framing errors: the baud rate is another)" in scan([address], []).summary()


@pytest.mark.process
def test_two_that_say_they_are_the_same_are_told():
    with lw.start_standin("linde", "weide", "--bus") as bus:
        base = bus.address
        twin = FoundDevice(parse_address("modbus+tcp://127.0.0.2"), None)
        (linde,) = scan([base], [lw.find_datasheet("linde")]).found
    seen = Scan(found=[linde, replace(twin, identity=replace(linde.identity, serial="04711"))])
    assert len(seen.duplicates()) == 1
    assert "say that they are the same device" in seen.summary()
