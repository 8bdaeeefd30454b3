"""The wiring of the analyzer at the main board: planted mistakes, a day of changing load, the command."""

import json

import numpy as np
import pytest

import leitwerk as lw
from conftest import checked, example
from leitwerk.check.wiring import judged_by
from leitwerk.power import SYSTEMS, Wiring, judge_wiring
from leitwerk.standins.mains import TRANSFORMER, Board, Wires, parse_act

FOUR = SYSTEMS["3-phase 4-wire"]
RATIO = TRANSFORMER[0] / TRANSFORMER[1]


def verdict(hour, *acts, seed=3):
    """Judge the board at an hour of a Monday, with these mistakes, told what the meter beside it shows."""
    net = Board(seed).at(3600.0 * hour)
    at = Wires([parse_act(text) for text in acts]).connect(net)
    watts = sum((u * i.conjugate()).real for u, i in zip(net.voltages, net.currents, strict=True))
    wiring = Wiring(
        FOUR, 230.0, flow="import" if watts > 0 else "export", least_a=2.0, expected_w=watts, within_w=900.0
    )  # fmt: skip
    return judge_wiring(wiring, np.array(at.u), RATIO * np.array(at.i))


@pytest.mark.parametrize(
    ("acts", "words"),
    [
        (["exchange U2 U3"], "the voltages L2 and L3 are exchanged"),
        (["exchange U1 U2", "exchange I1 I2"], "the net turns the other way"),
        (["reverse I1"], "sensor L1 is reversed"),
        (["reverse I2", "reverse I3"], "sensors L2 and L3 are reversed"),
        (["reverse I1", "reverse I2", "reverse I3"], "all current sensors are reversed"),
        (["exchange I1 I2"], "sensors L1 and L2 are exchanged"),
        (["round I"], "moved round"),
        (["exchange I1 I3", "reverse I2"], "L1 and L3 are exchanged; current sensor L2 is reversed"),
        (["open U3"], "voltage L3-N is missing"),
        (["reverse U2"], "the voltage L2 is reversed"),
        (["open N"], "the neutral is open"),
        (["same I2 I1"], "L1 and L2 are on one conductor"),
        (["transformer I2 50"], "current L2 has another ratio"),
        (["transformer I 50"], "the ratio of the currents is wrong"),
        (["open I2"], "no current in L2"),
    ],
    ids=lambda value: value if isinstance(value, str) else " ",
)  # fmt: skip
@pytest.mark.parametrize("hour", [2.0, 9.0])
def test_planted_mistakes_are_named_by_night_and_by_day(acts, words, hour):
    found = verdict(hour, *acts)
    told = " | ".join((*found.reasons, *found.alternatives, *found.not_shown))
    assert found.outcome is not lw.Outcome.PASSED
    assert words in told, told


def test_nothing_is_named_over_a_day_of_changing_load():
    found = [verdict(minute / 60.0, seed=minute) for minute in range(0, 24 * 60, 5)]
    assert [v.mistakes for v in found if v.mistakes] == []
    assert sum(v.outcome is lw.Outcome.PASSED for v in found) > 250


def with_wiring(lines):
    text = example("saw-supply", "modbus+tcp://127.0.0.1:1")
    head, _, rest = text.partition("wiring:\n")
    return f"{head}wiring:\n{lines}\n\nchannels:{rest.partition('channels:')[2]}"


@pytest.mark.parametrize(
    ("lines", "rule"),
    [
        ("  {system: 3-phase 5-wire, nominal: 230 V, currents: 200/5 A}", "bad-value"),
        ("  {system: 3-phase 4-wire, nominal: 0 V, currents: 200/5 A}", "bad-value"),
        ("  {system: 3-phase 4-wire, nominal: 230 A, currents: 200/5 A}", "bad-value"),
        ("  {system: 3-phase 4-wire, nominal: 230 V, currents: 0/5 A}", "bad-value"),
        ("  {system: 3-phase 4-wire, nominal: 230 V, currents: 0 mV/A}", "bad-value"),
        ("  {system: 3-phase 4-wire, nominal: 230 V, currents: coil 9}", "unknown-sensor"),
        ("  {system: 3-phase 4-wire, nominal: 230 V}", "missing-key"),
        ("  {system: 3-phase 4-wire, nominal: 400 V, currents: 200/5 A}", "nominal-between-phases"),
        ("  {system: 3-phase 3-wire, nominal: 230 V, currents: 200/5 A}", "nominal-to-neutral"),
        ("  {system: split-phase, nominal: 120 V, currents: 200/5 A, least_current: 1 V}", "bad-value"),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_wiring_is_a_finding(lines, rule):
    try:
        findings = checked(with_wiring(lines)).findings
    except lw.SetupError as error:
        findings = error.findings
    assert rule in {finding.rule for finding in findings}


def test_channels_and_settings_follow_from_the_wiring():
    one = (
        "  {system: '3-phase 3-wire, 2 currents', nominal: 20 kV, voltages: 20000/100 V,"
        " currents: coil 3 kA}"
    )
    setup = checked(with_wiring(one).partition("channels:")[0])
    names = [channel.name for channel in setup.channels]
    assert {"u12", "u23_angle", "i3", "p", "energy_import"} <= {*names}
    assert not {"u1", "p1", "i_n"} & {*names}
    wanted = {
        w.known.name: w.value for w in setup.wanted if w.known.name.startswith(("voltage", "cur"))
    }
    assert wanted == {
        "voltage.primary": 20000.0,
        "voltage.secondary": 100.0,
        "current.sensor": "coil 3 kA",
    }
    assert setup.ok, setup.findings
    assert judged_by(setup).nominal_v == 20000.0


def test_the_terminals_are_printed_without_a_device(leitwerk, tmp_path):
    path = tmp_path / "it.yaml"
    path.write_text(example("saw-supply", "modbus+tcp://127.0.0.1:1"), "utf-8")
    shown = leitwerk("wiring", str(path), "--terminals")
    assert (shown.exit_code, "I3        sensor around L3" in shown.stdout) == (0, True), (
        shown.output
    )


@pytest.mark.process
def test_the_command_names_a_reversed_sensor_and_passes_without(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "5206")
    path = tmp_path / "it.yaml"
    for acts, code in ((["--miswired", "reverse I2"], 1), ([], 0)):
        with lw.start_standin("ulme-3p", *acts) as standin:
            path.write_text(example("saw-supply", standin.address), "utf-8")
            early = leitwerk("wiring", "it.yaml", "--for", "0.1 s")
            assert (early.exit_code, "upload the setup first" in early.stderr) == (4, True)
            assert leitwerk("upload", "it.yaml").exit_code == 0
            words = ("--for", "0.3 s", "--power", "14 ± 4 kW")
            found = leitwerk("wiring", "it.yaml", *words, "--json")
            assert found.exit_code == code, found.output
            shown = leitwerk("wiring", "it.yaml", *words, "--figure", "f.png").stdout
            started = leitwerk("record", "it.yaml", "start")
            assert started.exit_code == code, started.output
            if acts:
                assert (
                    "current sensor L2 is reversed" in started.stderr
                    or "not started" in started.stderr
                )
                assert leitwerk("record", "it.yaml", "start", "--wired-wrongly").exit_code == 0
            else:
                assert "not shown: the direction" in started.stderr
            kinds = [mistake["kind"] for mistake in json.loads(found.stdout)["mistakes"]]
        assert kinds == (["current reversed"] if acts else [])
        assert ("wiring not passed" if acts else "wiring passed") in shown
        assert (tmp_path / "f.png").stat().st_size > 10_000
