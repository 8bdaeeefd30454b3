"""Sensors of one's own: used by name, with the calibration of one of them; replaced; listed when due."""

import re
from pathlib import Path

import pytest

import leitwerk as lw
from conftest import EXAMPLES
from leitwerk.commissioning.sensor_change import replace_sensor
from leitwerk.errors import QuantityError, SetupError
from leitwerk.evaluation.signal_chain import explain_channel
from leitwerk.setup.own_sensors import parse_own_sensor

LEVEL = """\
sensor: 1
name: level-4m
summary: Level in the shaft
entries: {signal: 4..20 mA, scale: {4 mA: 0 m, 20 mA: 4 m}, unit: m, time_constant: 60 s}
uncertainty: 2 cm
cable: {brown: supply +, blue: signal}
pieces:
  L4-107: []
  L4-108:
    - {date: 2025-01-10, due: 2026-01-10, reference: Tape T-1, found: {0.01 m: 0 m, 4.02 m: 4 m}}
    - {date: 2026-01-12, due: 2027-01-12, reference: Tape T-1, correct: table,
       found: {0.02 m: 0 m, 4.04 m: 4 m}}
"""
SHAFT = """\
leitwerk: 1
title: Shaft
device: {model: fichte-8, at: modbus+tcp://127.0.0.1:5020?unit=3, serial: K2-00417}
sample: every 10 s
channels:
  level:
    terminal: 5
    sensor: level-4m      # in the shaft
    expect: 2 ± 0.1 m
    alarms: {high: {above: 3.5, clear: 3.4}}
    bands: {low: {to: 1}, right: {}}
  double: {computed: level * 2, unit: m}
"""


@pytest.fixture
def shaft(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    Path("sensors").mkdir()
    Path("sensors/any-name.yaml").write_text(LEVEL, "utf-8")
    Path("shaft.yaml").write_text(SHAFT, "utf-8")
    return tmp_path


@pytest.mark.usefixtures("shaft")
def test_a_channel_has_what_its_sensor_has_and_says_more_itself():
    checked = lw.read_setup("shaft.yaml")
    channel = checked.channel("level")
    assert (channel.unit.symbol, str(channel.range)) == ("m", "0..24 mA")
    assert channel.sensor_uncertainty == pytest.approx(0.02)
    shares = {row["name"]: row["share"] for row in explain_channel(channel).budget}
    assert shares["sensor"] > 0.9
    fates = {".".join(e.path): e.fate.value for e in checked.account.entries}
    assert fates["channels.level.sensor"] == "stored in the device"
    Path("b.yaml").write_text(
        SHAFT.replace("level-4m ", "level-4m\n    sensor_serial: L4-108\n    unit: cm "), "utf-8"
    )
    moved = lw.read_setup("b.yaml")
    corrected = moved.channel("level")
    assert corrected.unit.symbol == "cm"
    assert float(corrected.host.value(200.0)) == pytest.approx(200.0 - 3.0, abs=0.1)
    assert corrected.sensor_uncertainty == 0.0  # its calibration says more


@pytest.mark.parametrize(
    ("change", "rule", "says"),
    [
        (("level-4m", "levle-4m"), "bad-value", "'levle-4m' is not a sensor known here"),
        (("level-4m", "level-4m\n    sensor_serial: L9"), "unknown-sensor", "has no sensor 'L9'"),
        (
            ("sensor: level-4m", "sensor: type K\n    sensor_serial: X"),
            "unknown-sensor",
            "a sensor of your own",
        ),
    ],
)
@pytest.mark.usefixtures("shaft")
def test_a_sensor_that_is_not_there_is_named(change, rule, says):
    Path("shaft.yaml").write_text(SHAFT.replace(*change), "utf-8")
    found = [f for f in lw.check_file("shaft.yaml").findings if f.is_error]
    assert (found[0].rule, says in found[0].message, found[0].line in {8, 9}) == (
        rule,
        True,
        True,
    ), found


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (("name: level-4m", "name: Pt100, 4-wire"), "a sensor that Leitwerk knows by itself"),
        (("signal: 4..20 mA", "sinal: 4..20 mA"), "the key 'sinal' is not known"),
        (("date: 2026-01-12", "date: 2024-01-12"), "stands behind that of 2025-01-10"),
        (("L4-107: []", "L4-107: none"), "calibrations of a sensor are a list"),
        (("sensor: 1", "sensor: 3"), "version '3'"),
    ],
)
def test_mistakes_in_the_file_of_a_sensor(change, says):
    with pytest.raises(SetupError, match=re.escape(says)):
        parse_own_sensor(LEVEL.replace(*change))


@pytest.mark.usefixtures("shaft")
def test_a_sensor_is_replaced_and_what_hangs_on_it_is_followed_through(leitwerk):
    before = Path("shaft.yaml").read_text("utf-8")
    done = replace_sensor(
        "shaft.yaml", "level", {"signal": "0..1 V", "scale": {"0 V": "0 cm", "1 V": "400 cm"}}
    )
    assert done.ok, done.findings
    assert "alarm high trips above 3.5 m: stays, 18 mA → 875 mV" in done.lines
    assert Path("shaft.yaml").read_text("utf-8") == before
    # In another unit of the same kind, numbers without one get that of before.
    inches = {"signal": "0..1 V", "scale": {"0 V": "0 cm", "1 V": "400 cm"}, "unit": "cm"}
    text = replace_sensor("shaft.yaml", "level", inches).text
    assert "above: 3.5 m" in text
    assert "to: 1 m" in text
    assert "expect: 2 ± 0.1 m" in text
    pressure = ["replace-sensor", "shaft.yaml", "level", "--sensor", "pressure-16bar"]
    refused = leitwerk(*pressure)
    assert (refused.exit_code, "no longer length" in refused.stderr) == (2, True), refused.stderr
    shown = leitwerk(*pressure, "--drop")
    assert shown.exit_code == 1
    assert "double" in shown.output  # its unit no longer fits
    assert "would have errors" in shown.stderr
    with pytest.raises(QuantityError, match="has no sensor that could be replaced"):
        replace_sensor("shaft.yaml", "double", {"sensor": "type K"})
    assert leitwerk("replace-sensor", "shaft.yaml", "level").exit_code == 2


def test_calibration_and_tare_go_with_the_old_sensor(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    text = (EXAMPLES / "kiln.yaml").read_text("utf-8")
    Path("kiln.yaml").write_text(text, "utf-8")
    done = replace_sensor(
        "kiln.yaml", "stack", {"signal": "±10 mV", "scale": {"sensitivity": "2 mV/V"}}
    )
    assert "tare: goes, it was measured with the old sensor; take a new one" in done.lines
    assert not done.ok  # it is no bridge
    assert "850 kg" not in done.text
    alike = text.replace(
        "sensor: Pt100, 4-wire\n    range: 0..400 Ω\n    unit: °C\n    expect: 21.2",
        "like: air_top\n    expect: 21.2",
    )
    Path("kiln.yaml").write_text(alike, "utf-8")
    assert (
        "also air_bottom: they are like air_top"
        in replace_sensor("kiln.yaml", "air_top", {"sensor": "type K"}).lines
    )
    with pytest.raises(QuantityError, match="is like 'air_top'"):
        replace_sensor("kiln.yaml", "air_bottom", {"sensor": "type K"})


@pytest.mark.usefixtures("shaft")
def test_what_is_due_and_what_rests_on_it(leitwerk):
    late = SHAFT.replace("level-4m ", "level-4m\n    sensor_serial: L4-108 ")
    Path("shaft.yaml").write_text(late, "utf-8")
    held = "calibration: {date: 2025-01-01, due: 2025-06-01, reference: R, found: {0 °C: 0 °C, 9 °C: 9 °C}}"
    own = SHAFT.replace("sensor: level-4m", f"sensor: type K\n    {held}")
    Path("other").mkdir()
    Path("other/other.yaml").write_text(
        own.replace(" m\n", " °C\n").replace("* 2, unit: m", "* 2"), "utf-8"
    )
    Path("other/broken.yaml").write_text("leitwerk: 1\ntitle: [\n", "utf-8")
    dates, problems = lw.due_dates(["."])
    by_name = {one.what: one for one in dates}
    assert by_name["sensor level-4m L4-107"].due is None
    assert "shaft.yaml: level" in by_name["sensor level-4m L4-108"].touches
    assert "channel double" in by_name["channel level"].touches
    assert "alarm level.high" in by_name["channel level"].touches
    assert dates[0].what == "channel level"
    assert [problem.file for problem in problems] == ["other/broken.yaml"]
    shown = leitwerk("due")
    assert shown.exit_code == 1
    assert re.search(
        r"2025-06-01 +overdue by \d+ d +channel level of other/other.yaml", shown.output
    )
    assert re.search(r"touches: +alarm level.high\n +channel double", shown.output), shown.output
    assert "L4-107" in leitwerk("due", "--within", "0").output
    assert "P16-0031" not in leitwerk("due").output  # it ships with Leitwerk, and is not used here
    assert leitwerk("due", "nowhere").exit_code == 2
