"""A second model, with only files differing: no terminals, no commit, odd registers, RTU."""

from importlib import resources

import pytest

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, checked, kept
from leitwerk.evaluation.course import parse_course
from leitwerk.project.library import Library
from leitwerk.setup.model import draft_setup
from leitwerk.standins.charger import Charger
from leitwerk.standins.profile import find_profile

STATION = (resources.files("leitwerk") / "examples" / "station.yaml").read_text("utf-8")
AT = "modbus+rtu:///dev/ttyUSB0?unit=5&line=9600,8N1"
PASSWORDS = {"operator": "2208"}


@pytest.fixture
def linde():
    return lw.find_datasheet("linde")


@pytest.fixture
def charger(linde):
    return Charger(linde, find_profile("linde"), SteppedTime())


@pytest.fixture
def station(linde, charger):
    return lw.Device(linde, MemoryLink(charger))


def test_fields_and_bcd_arrive_in_their_registers(station, charger, tmp_path):
    setup = checked(STATION)
    receipt = lw.upload(setup, station, kept(tmp_path, passwords=PASSWORDS))
    assert charger.holding[8:15] == [2, 1420, 1350, 1120, 1260, 0x0080, 0x0900]
    assert not receipt.together
    station.link.requests.clear()
    assert lw.upload(setup, station, kept(tmp_path, passwords=PASSWORDS)).changes == ()


def test_a_field_leaves_the_rest_of_its_register_alone(station, charger, tmp_path):
    charger.holding[14] |= 0x8001
    setup = checked(STATION)
    lw.upload(setup, station, kept(tmp_path, passwords=PASSWORDS))
    assert charger.holding[14] == 0x8901


def test_a_default_for_a_missing_sensor_is_never_a_reading(station, charger):
    charger.sensor_missing = True
    setup = checked(STATION.replace("8.5 ± 2 °C", "25 ± 2 °C"))
    report = lw.verify(setup, station, duration_s=1, period_s=0.2, clock=charger.clock.clock)
    (temperature,) = (c for c in report.channels if c.name == "temperature")
    assert (temperature.verdict, temperature.quality) == ("no reading", "open sensor")
    assert "that this model shows without a sensor" in temperature.reason


def test_without_a_commit_a_broken_upload_says_that_settings_are_mixed(station, tmp_path):
    setup = checked(STATION)
    station.link.fails_at = 7  # the first write has arrived, the second has not
    with pytest.raises(lw.UploadError) as caught:
        lw.upload(setup, station, kept(tmp_path, passwords=PASSWORDS))
    assert caught.value.state.startswith("some of its settings are new and some are old")
    station.link.fails_at = None
    lw.upload(setup, station, kept(tmp_path, passwords=PASSWORDS))


@pytest.mark.parametrize(
    ("old", "new", "rule", "says"),
    [
        ("reading: battery.voltage", "reading: batery.voltage", "unknown-reading", "battery.volt"),
        ("reading: battery.voltage", "terminal: 1", "unknown-terminal", "no terminal 1"),
        ("reading: battery.voltage", "label: x", "duplicate-key", "label"),
        ("    reading: battery.voltage\n", "", "missing-key", "reading: battery.voltage"),
        ("reading: battery.voltage", "reading: battery.voltage\n    range: ±1 V", "useless-key",
         "measures this itself"),
        ("reading: battery.voltage", "reading: battery.voltage\n    unit: bar", "wrong-unit",
         "in V, not in bar"),
        ("name: V", "charge.flaot: 13.5 V\n  name: V", "unknown-setting", "did you mean 'charge.float'"),
        ("name: V", "charge.float: 15.2 V\n  name: V", "not-storable", "12..15"),
        ("name: V", "charge.float: 13.5 A\n  name: V", "bad-value", "A is a unit of current"),
        ("name: V", "charge.float: 13.504 V\n  name: V", "rounded", "charge.float as 13.5 V"),
        ("name: V", "battery.kind: litium\n  name: V", "not-storable", "sealed, flooded, lithium"),
        ("name: VALLEY-1", "factory.calibrated: 2026-01-01 00:00:00", "read-only", "not written"),
        ("device:", "sample: every 10 s\ndevice:", "useless-key", "no sampling interval"),
    ],
)  # fmt: skip
def test_mistakes_in_what_a_device_measures_itself(linde, old, new, rule, says):
    assert old in STATION
    setup, findings = draft_setup(STATION.replace(old, new, 1), file="s.yaml", library=Library())
    if setup is not None:
        findings.extend(lw.check_setup(setup, linde).findings)
    assert says in next(str(f) for f in findings if f.rule == rule)


def test_a_setting_is_not_set_twice(sheet):
    from conftest import KILN

    text = KILN + "settings:\n  channel.1.label: Air\n"
    (finding,) = lw.check_setup(lw.parse_setup(text), sheet).findings
    assert (finding.rule, "channels.air_top.label" in finding.message) == ("set-twice", True)


def test_identifying_numbers_compare_without_zeros_and_separators(station):
    assert station.require("linde", "0004711").serial == "4711"
    with pytest.raises(lw.WrongDevice):
        station.require("linde", "4712")


def test_a_datasheet_of_ones_own_is_found_in_the_project(tmp_path, monkeypatch, linde):
    folder = tmp_path / "datasheets"
    folder.mkdir()
    text = (resources.files("leitwerk") / "datasheets" / "linde.yaml").read_text("utf-8")
    (folder / "mine.yaml").write_text(text.replace("model: linde", "model: mine"), "utf-8")
    (tmp_path / "setups").mkdir()
    monkeypatch.chdir(tmp_path / "setups")
    assert lw.find_datasheet("mine").model == "mine"
    assert lw.find_datasheet("linde") == linde
    with pytest.raises(lw.FileProblem, match="no datasheet for the model 'other'") as caught:
        lw.find_datasheet("other")
    assert "mine" in caught.value.remedy


def test_what_a_device_adjusts_by_itself_is_told_and_no_failure(charger, tmp_path):
    text = (resources.files("leitwerk") / "datasheets" / "linde.yaml").read_text("utf-8")
    adjusting = text.replace(
        "step: 0.01 V, span: 12..15}", "step: 0.01 V, span: 12..15, self_adjusting: yes}"
    )
    real = charger.write

    def write(start, words):
        real(start, words)
        charger.holding[10] = 1340  # it keeps the float voltage 0.8 V below that of absorption

    charger.write = write
    device = lw.Device(lw.parse_datasheet(adjusting), MemoryLink(charger))
    receipt = lw.upload(checked(STATION), device, kept(tmp_path, passwords=PASSWORDS))
    assert receipt.adjusted == ("charge.float to 13.4 V, asked 13.5 V",)
    assert "the device does that by itself" in str(receipt)
    plain = lw.Device(lw.find_datasheet("linde"), MemoryLink(charger))
    with pytest.raises(lw.UploadError, match=r"charge\.float is 13\.4 instead of 13\.5"):
        lw.upload(checked(STATION), plain, kept(tmp_path, passwords=PASSWORDS))


def test_one_statement_about_the_battery_gives_all_of_its_settings(linde):
    """Per cell by the number of cells, in their order; what the setup says itself counts."""
    by_set = checked(STATION).settings.values
    assert by_set["charge.absorption"] == 4 * 3.55
    assert (by_set["charge.coldest"], by_set["battery.kind"]) == (0.0, "lithium")
    lead = checked(
        STATION.replace("chemistry: lifepo4, cells: 4, cap", "chemistry: lead, cells: 6, cap")
    )
    changes = lw.diff_settings(lead.settings, checked(STATION).settings, linde)
    assert {"charge.cutoff", "charge.coldest", "load.disconnect"} <= {c.setting for c in changes}
    own = checked(STATION.replace("  name: V", "  charge.float: 13.4 V\n  name: V"))
    assert own.settings.values["charge.float"] == 13.4
    one_more = checked(STATION.replace("cells: 4, cap", "cells: 5, cap"))
    found = [str(f) for f in one_more.findings if f.is_error]
    assert len(found) == 5
    assert "linde cannot store charge.float: 16.875 is outside" in "".join(found)
    assert all(f.path == "settings_from" for f in one_more.findings if f.is_error)


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("set: battery-charging", "set: battery", "has alarms only"),
        ("set: battery-charging", "set: batery-charging", "batery-charging"),
        (", capacity: 80 A·h", "", "needs the parameter 'capacity'"),
        ("lifepo4, cells: 4, cap", "lipo, cells: 4, cap", "not one of the choices"),
        ("cells: 4, cap", "cells: 400, cap", "400 is outside"),
    ],
)
def test_a_set_of_settings_that_cannot_be_used(old, new, says):
    setup, findings = draft_setup(STATION.replace(old, new), file="s.yaml", library=Library())
    assert setup is not None
    assert says in "\n".join(map(str, findings))


def test_charging_stops_in_the_cold_and_goes_on_when_it_is_warm_again(linde, tmp_path):
    """As one proof: the settings of the set act, and the reading that says so follows."""
    clock = SteppedTime()
    course = parse_course("8; to -6 in 20 s; stay 10 s; to 8 in 20 s; stay 10 s")
    charger = Charger(linde, find_profile("linde"), clock, course=course)
    station = lw.Device(linde, MemoryLink(charger))
    setup = checked(STATION)
    lw.upload(setup, station, kept(tmp_path, passwords=PASSWORDS))
    states = setup.channel("charging").states
    found = [
        (s["temperature"], states.name(s["charging"]))
        for s in lw.samples(setup, station, period_s=1.0, duration_s=60, clock=clock.clock)
    ]
    shown = [state for _, state in found]
    stops, goes_on = (
        shown.index("too cold or hot"),
        len(shown) - shown[::-1].index("too cold or hot"),
    )
    assert shown == ["on"] * stops + ["too cold or hot"] * (goes_on - stops) + ["on"] * (
        len(shown) - goes_on
    )
    assert found[stops][0] == pytest.approx(-0.4, abs=0.6)  # below 0 °C
    assert found[goes_on][0] == pytest.approx(2.2, abs=0.6)  # 2 K inside again
