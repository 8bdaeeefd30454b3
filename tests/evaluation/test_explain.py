"""The explanation of a channel, against what the device and the live check say."""

import json
import math
import struct

import numpy as np
import pytest

import leitwerk as lw
from conftest import checked, kept, kiln, kiln_text
from leitwerk.evaluation.signal_chain import explain_channel
from leitwerk.monitoring.spot_readings import read_once
from leitwerk.parsing.quantities import parse_quantity


def explained(channel, text=None, **more):
    setup = checked(text) if text else kiln()
    if "signal" in more:
        more["signal"] = parse_quantity(more["signal"])
    return explain_channel(setup.channel(channel), **more)


def test_a_line_with_alarms_and_expectation_and_their_signals():
    found = explained("humidity", signal="550 mV")
    assert found.value == pytest.approx(55, abs=0.01)
    assert [(s.who, s.unit) for s in found.steps] == [
        ("terminal", "mV"), ("converter", "mV"), ("device", "%"), ("Leitwerk", "%"),
    ]  # fmt: skip
    marks = {(m.name, m.what): m.signal for m in found.marks}
    assert marks == pytest.approx(
        {("alarm too_dry", "trips below"): 250, ("alarm too_dry", "clears at"): 280,
         ("expectation", "from"): 520, ("expectation", "to"): 580}
    )  # fmt: skip
    assert [(r["range"], r["clips"], r["wasteful"]) for r in found.ranges] == [
        ("±100 mV", True, False), ("±1 V", False, False), ("±10 V", False, True),
    ]  # fmt: skip
    text = str(found)
    assert "trips below 25 %" in text
    assert "at 250 mV" in text
    ruler = text.split("\n\n")[1].splitlines()[0]
    assert ruler.index("!") < ruler.index("o") < ruler.index("*")


@pytest.mark.parametrize(
    ("signal", "value", "quality"),
    [
        # NAMUR NE 43: 3.8 to 20.5 mA are measurement, from 3.6 and 21 mA on a failure.
        ("20.4 mA", 100 * math.sqrt(16.4 / 16), "good"),
        ("3.9 mA", 0.0, "good"),
        ("20.8 mA", 100 * math.sqrt(16.8 / 16), "transmitter at its upper limit"),
        ("3.5 mA", None, "sensor failure, low"),
        ("21.5 mA", None, "sensor failure, high"),
    ],
)
def test_a_square_root_of_a_loop_has_its_bands(signal, value, quality):
    root = "scale: {root of: 4..20 mA, full flow: 100 %}"
    text = kiln_text().replace("scale: {4 mA: 0 %, 20 mA: 100 %}", root)
    found = explained("valve", text, signal=signal)
    assert found.quality == quality
    assert found.value == (None if value is None else pytest.approx(value, abs=0.01))


@pytest.mark.parametrize(("signal", "quality"), [("-0.5 V", 1), ("-0.002 V", 0), ("0.9 V", 0)])
def test_what_lies_outside_the_signal_of_a_sensor_is_marked(signal, quality):
    found = explained("humidity", signal=signal)
    assert (found.quality == "outside the signal of the sensor") == bool(quality)


def test_what_it_computes_is_what_the_device_shows(device, logger, tmp_path):
    lw.upload(kiln(), device, kept(tmp_path))
    logger.clock.wait(1)
    for name in ("air_top", "timber_core", "humidity", "valve", "stack"):
        channel = kiln().channel(name)
        shown, _, junction = read_once(kiln(), device, channel)
        found = explain_channel(channel, shown=shown, cold_junction=junction)
        assert found.value == pytest.approx(channel.expected[0], abs=channel.expected[1])
        assert found.steps[-1].value == found.value
        json.dumps(found.to_dict())


def test_all_links_show_with_their_numbers():
    text = kiln_text().replace(
        "    expect: 40 ± 1 %",
        "    shunt: 100 Ω\n    calibration:\n      date: 2026-03-02\n      due: 2027-03-02\n"
        "      reference: R-0031\n      found: {0.5 %: 0 %, 100.5 %: 100 %}\n"
        "      uncertainty: 0.2 %\n    tare: [{offset: 1 %, taken: today}]\n    expect: 40 ± 1 %",
    ).replace("range: 0..24 mA", "range: ±10 V")  # fmt: skip
    found = explained("valve", text, signal="10.4 mA")
    steps = {s.who: s.value for s in found.steps}
    assert list(steps) == [
        "terminal", "shunt", "converter", "device", "Leitwerk", "calibration", "tare",
    ]  # fmt: skip
    assert steps["terminal"] == pytest.approx(10.4)
    assert steps["shunt"] == pytest.approx(1040)
    assert steps["device"] == pytest.approx(40, abs=0.02)
    assert steps["calibration"] == pytest.approx(39.5, abs=0.02)
    assert found.value == pytest.approx(38.5, abs=0.02)
    shares = {row["name"]: row["share"] for row in found.budget}
    assert shares["calibration"] > 0.9
    assert found.expanded_uncertainty == pytest.approx(0.2, abs=0.01)
    assert explained("valve", text, signal="3.5 mA").quality == "sensor failure, low"
    assert explained("valve", text, signal="3.7 mA").quality == "transmitter at its lower limit"


def test_a_signal_outside_the_range_has_no_value():
    found = explained("humidity", signal="2 V")
    assert (found.value, found.quality) == (None, "above range")
    assert "no value, above range" in str(found)


def test_a_thermocouple_follows_its_cold_junction():
    one = explained("timber_core", signal="1 mV", cold_junction=20.0)
    other = explained("timber_core", signal="1 mV", cold_junction=30.0)
    assert other.value - one.value == pytest.approx(10, abs=0.2)


@pytest.mark.parametrize(
    ("words", "code", "says"),
    [
        (("stakc",), 2, "did you mean 'stack'"),
        (("door",), 2, "is a contact"),
        (("humidity", "--signal", "5 bar"), 2, "bar is a unit of pressure"),
        (("humidity", "--signal", "x"), 2, "is not a quantity"),
        (("humidity", "--figure", "/nowhere/x.png"), 2, "cannot write"),
    ],
)
def test_what_cannot_be_explained_is_told(leitwerk, kiln_file, words, code, says):
    result = leitwerk("explain", kiln_file("modbus+tcp://127.0.0.1"), *words)
    assert (result.exit_code, says in result.stderr) == (code, True)


@pytest.mark.process
def test_the_command_as_text_json_and_figure(standin, leitwerk, kiln_file, tmp_path):
    path = kiln_file(standin().address)
    assert leitwerk("upload", path).exit_code == 0
    figure = tmp_path / "scale.png"
    live = leitwerk("explain", path, "timber_core", "--live", "--figure", str(figure))
    assert live.exit_code == 0
    assert "cold junction at 22.9 °C" in live.stdout
    assert struct.unpack(">2I", figure.read_bytes()[16:24]) == (1280, 800)
    content = json.loads(leitwerk("explain", path, "stack", "--json").stdout)
    assert content["value"] == pytest.approx(2310, abs=1)
    assert np.isfinite([m["signal"] for m in content["marks"]]).all()
