"""Waveforms from a file: values and events against what was put into it; the tick; what cannot be used."""

import json
import math

import numpy as np
import pytest
from scipy.io import wavfile

from conftest import example
from leitwerk.errors import QuantityError
from leitwerk.evaluation.waveforms import WaveformOptions, evaluate_waveforms
from leitwerk.power import SYSTEMS
from leitwerk.power.event_table import count_events
from leitwerk.power.voltage_events import VoltageEvent
from leitwerk.signals import Quality

RATE, HERTZ = 10_000, 49.97
FOUR = SYSTEMS["3-phase 4-wire"]


def board(seconds=14.0, spoil=lambda t, amount: None):
    """Three voltages of 230 V with 3 % of the fifth, three currents of 30 A that lag by 30°."""
    t = np.arange(round(RATE * seconds)) / RATE
    amount = np.ones((3, t.size))
    spoil(t, amount)
    angles = [2 * np.pi * HERTZ * t - 2 * np.pi * k / 3 for k in range(3)]
    u = [
        230 * math.sqrt(2) * amount[k] * (np.sin(a) + 0.03 * np.sin(5 * a))
        for k, a in enumerate(angles)
    ]
    i = [30 * math.sqrt(2) * np.sin(a - np.pi / 6) for a in angles]
    return np.stack([*u, *i], axis=1)


def dip(t, amount):
    amount[1][(t >= 8.0) & (t < 8.1)] = 0.6


@pytest.mark.parametrize("form", ["int16", "float32"])
def test_the_command_finds_what_was_put_into_the_file(leitwerk, tmp_path, monkeypatch, form):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "it.yaml").write_text(example("saw-supply", "modbus+tcp://127.0.0.1:1"), "utf-8")
    parts = board(spoil=dip) / np.array([1000.0] * 3 + [500.0] * 3)
    whole = np.round(parts * 32767) if form == "int16" else parts
    wavfile.write("waves.wav", RATE, whole.astype(form))
    words = ("waveforms", "it.yaml", "waves.wav", "--volts", "1000 V", "--amperes", "500 A",
             "--began", "2026-03-02T07:59:52")  # fmt: skip
    found = leitwerk(*words, "--to", "w.csv", "--intervals", "ten.csv", "--json")
    assert found.exit_code == 1, found.output
    said = json.loads(found.stdout)
    (event,) = said["events"]
    assert (event["kind"], event["channels"]) == ("dip", [1])
    assert event["extreme"] == pytest.approx(138.0, rel=0.004)
    assert event["duration_s"] == pytest.approx(0.11, abs=0.015)
    assert said["dips"]["70 > u >= 40"]["to 0.2 s"] == 1
    text = (tmp_path / "ten.csv").read_text("utf-8").splitlines()
    assert [line[:20] for line in text[1:]] == ["2026-03-02T06:50:00Z", "2026-03-02T07:00:00Z"]
    shown = leitwerk(*words).stdout
    assert "dip u2: 2026-03-02T07:00:00" in shown or "dip u2: 2026-03-02T06:59:59" in shown, shown
    summary = leitwerk("summary", "w.csv", "--json")  # rows are rows, wherever they come from
    assert summary.exit_code == 0, summary.output


def test_values_by_definition():
    waves = board(6.0)
    options = WaveformOptions(FOUR, 230.0, 50.0, ("u1", "u2", "u3", "i1", "i2", "i3"), RATE)
    pieces = (waves[k : k + 1700] for k in range(0, len(waves), 1700))
    found = evaluate_waveforms(options, pieces)
    means = dict(
        zip(
            (c.name for c in found.windows.columns),
            found.windows.values[3:].mean(axis=0),
            strict=True,
        )
    )
    apparent = 230 * math.hypot(1, 0.03) * 30 / 1000
    expected = {
        "frequency": HERTZ, "u2": 230 * math.hypot(1, 0.03), "thd_u3": 3.0, "i1": 30.0, "thd_i2": 0.0,
        "p1": 6.9 * math.cos(math.pi / 6), "q3": 3.45, "s2": apparent, "p": 20.7 * math.cos(math.pi / 6),
        "unbalance": 0.0,
    }  # fmt: skip
    assert {name: means[name] for name in expected} == pytest.approx(expected, rel=1e-3, abs=0.01)
    assert (found.events, found.open_events) == ((), False)
    whole = evaluate_waveforms(options, [waves])
    assert whole.windows.values == pytest.approx(found.windows.values, rel=1e-6, abs=1e-4)


def test_gaps_and_events_are_marked_in_rows_and_a_missing_sample_is_no_number():
    waves = board(10.0, dip)
    waves[30_000, 4] = np.nan
    options = WaveformOptions(FOUR, 230.0, 50.0, ("u1", "u2", "u3", "i1", "i2", "i3"), RATE)
    found = evaluate_waveforms(options, [waves])
    names = [c.name for c in found.windows.columns]
    codes = found.windows.qualities
    assert (codes[:, names.index("i2")] == Quality.NO_NUMBER).sum() == 1
    assert 1 <= (codes[:, names.index("u1")] == Quality.FLAGGED).sum() <= 2
    # Ten seconds are no ten minutes.
    assert (found.intervals.qualities[:, 0] == Quality.INCOMPLETE).all()


def test_events_by_class():
    made = [
        VoltageEvent("dip", 0.0, 0.15, 0.85 * 230, (0,)), VoltageEvent("dip", 0.0, 0.3, 0.45 * 230, (0,)),
        VoltageEvent("dip", 0.0, 90.0, 0.01 * 230, (0, 1, 2)),
        VoltageEvent("swell", 0.0, 0.4, 1.25 * 230, (0,)),
        VoltageEvent("interruption", 0.0, 90.0, 0.0, ()), VoltageEvent("interruption", 0.0, 200.0, 0.0, ()),
        VoltageEvent("rapid change", 0.0, 0.1, 12.0, ()),
    ]  # fmt: skip
    table = count_events(made, 230.0)
    assert table.dips["90 > u >= 80"]["to 0.2 s"] == 1
    assert table.dips["70 > u >= 40"]["to 0.5 s"] == 1
    assert table.dips["5 > u"]["longer"] == 1
    assert table.swells["u >= 120"]["to 0.5 s"] == 1
    assert (table.short_interruptions, table.long_interruptions, table.other) == (
        1,
        1,
        {"rapid change": 1},
    )


def test_what_cannot_be_used_is_refused(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "it.yaml").write_text(example("saw-supply", "modbus+tcp://127.0.0.1:1"), "utf-8")
    wavfile.write("slow.wav", 400, np.zeros((400, 6), np.int16))
    wavfile.write("zero.wav", RATE, np.zeros((RATE, 6), np.int16))
    wavfile.write("seven.wav", RATE, np.zeros((RATE, 7), np.int16))
    for words in (
        ("slow.wav", "--volts", "1 kV", "--amperes", "5 A"),
        ("zero.wav", "--volts", "1 kV", "--amperes", "5 A"),
        ("seven.wav", "--volts", "1 kV", "--amperes", "5 A"),
        ("zero.wav", "--volts", "1 kV"),
        ("zero.wav", "--volts", "0 V", "--amperes", "5 A"),
        ("zero.wav", "--volts", "5 A", "--amperes", "5 A"),
        ("zero.wav", "--volts", "1 kV", "--amperes", "5 A", "--channels", "u1 u1 u2 u3 i1 i2"),
    ):
        found = leitwerk("waveforms", "it.yaml", *words)
        assert (found.exit_code, "Traceback" in found.output) == (2, False), (words, found.output)
    options = WaveformOptions(FOUR, 230.0, 50.0, ("i1",), RATE)
    with pytest.raises(QuantityError):
        evaluate_waveforms(options, [np.zeros((RATE, 1))])


OPTIONS = WaveformOptions(FOUR, 230.0, 50.0, ("u1", "u2", "u3", "i1", "i2", "i3"), RATE)


def test_missing_samples_are_no_dip():
    waves = board(6.0)
    waves[20_000:22_000] = np.nan
    waves[40_000, 0] = np.inf
    found = evaluate_waveforms(OPTIONS, (waves[k : k + 999] for k in range(0, len(waves), 999)))
    assert found.events == ()
    assert any("no number" in note for note in found.notes)


def test_a_phase_that_is_never_there_and_a_wrong_nominal_frequency_are_told():
    waves = board(4.0)
    waves[:, 0] = 0.0
    found = evaluate_waveforms(OPTIONS, [waves])
    assert found.notes == ("u1 has no voltage in the whole recording",)
    sixty = np.sin(2 * np.pi * 60 * np.arange(4 * RATE) / RATE)[:, None] * 325.0 * np.ones(6)
    assert "60.00 Hz, 50 Hz is nominal" in evaluate_waveforms(OPTIONS, [sixty]).notes[0]


def test_a_voltage_that_flickers_keeps_its_frequency():
    waves = board(12.0)
    t = np.arange(len(waves)) / RATE
    waves[:, :3] *= (1 + 0.05 * np.sign(np.sin(2 * np.pi * 8.8 * t)))[:, None]
    found = evaluate_waveforms(OPTIONS, [waves])
    frequency = found.windows.values[:, 0]
    assert abs(frequency - HERTZ).max() < 0.05
    assert frequency.mean() == pytest.approx(HERTZ, abs=0.003)
