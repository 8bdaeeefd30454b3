"""Recordings of sound: against weightings in the frequency domain; calibrators; files that cannot be used."""

import json
import math
import struct
import wave

import numpy as np
import pytest
from scipy.io import wavfile

import leitwerk as lw
from conftest import checked, example
from leitwerk.check.sound import judge_calibrator
from leitwerk.evaluation.sound import evaluate_sound
from leitwerk.recordings.sound_files import open_samples
from leitwerk.results import Outcome
from leitwerk.sound import band_at, weighting_db

RATE, FULL = 48_000, 63.0


def hall(seconds=6, seed=5):
    """Noise and a tone, in Pa."""
    t = np.arange(RATE * seconds) / RATE
    noise = np.random.default_rng(seed).normal(0.0, 0.3, t.size)
    return noise + 0.8 * np.sin(2 * np.pi * 500 * t)


def hall_text():
    """The example, with rows of a second."""
    return example("saw-hall", "scpi+tcp://127.0.0.1:5025").replace("n: 10 s", "n: 1 s")


def setup_with(lines):
    text = hall_text()
    head, _, rest = text.partition("sound:\n")
    channels = "channels: {level: {reading: evaluation.1.equivalent}}"
    return f"{head}sound:\n{lines}\n\n{channels}\n\nsettings:{rest.partition('settings:')[2]}".partition(
        "papers:"
    )[0]


def slow_level(x, weighting):
    """The level of a whole signal with the weighting worked in the frequency domain: no filter, no block."""
    spectrum = np.fft.rfft(x)
    f = np.fft.rfftfreq(x.size, 1 / RATE)
    gain = np.where(f > 0, 10 ** (weighting_db(weighting, np.maximum(f, 1e-3)) / 20), 0.0)
    mean = 2.0 * np.sum(np.abs(spectrum * gain) ** 2) / x.size**2
    return 10 * math.log10(mean / 20e-6**2)


@pytest.mark.parametrize("kind", ["16", "24", "32", "float"])
def test_levels_agree_with_the_frequency_domain_whatever_the_form(
    leitwerk, tmp_path, monkeypatch, kind
):
    monkeypatch.chdir(tmp_path)
    x = hall()
    if kind == "float":
        wavfile.write("hall.wav", RATE, (x / FULL).astype(np.float32))
    elif kind == "24":
        whole = np.round(x / FULL * (2**23 - 1)).astype("<i4")
        data = whole.view(np.uint8).reshape(-1, 4)[:, :3].tobytes()
        head = (
            b"RIFF"
            + (36 + len(data)).to_bytes(4, "little")
            + b"WAVEfmt "
            + (16).to_bytes(4, "little")
        )
        form = (
            b"\x01\x00\x01\x00"
            + RATE.to_bytes(4, "little")
            + (3 * RATE).to_bytes(4, "little")
            + b"\x03\x00\x18\x00"
        )
        (tmp_path / "hall.wav").write_bytes(
            head + form + b"data" + len(data).to_bytes(4, "little") + data
        )
    else:
        top = 2 ** (int(kind) - 1) - 1
        wavfile.write("hall.wav", RATE, np.round(x / FULL * top).astype(f"int{kind}"))
    (tmp_path / "it.yaml").write_text(hall_text(), "utf-8")
    found = leitwerk(
        "levels", "it.yaml", "hall.wav", "--full-scale", "63 Pa", "--to", "rows.csv", "--json"
    )
    assert found.exit_code == 0, found.output
    levels = json.loads(found.stdout)["levels"]
    for name, weighting in (("main", "A"), ("peaks", "C"), ("spectrum", "Z")):
        assert levels[f"{name}.equivalent"] == pytest.approx(slow_level(x, weighting), abs=0.1), (
            name
        )
    band = band_at("octave", -1)
    spectrum, f = np.fft.rfft(x), np.fft.rfftfreq(x.size, 1 / RATE)
    inside = (f >= band.low_hz) & (f < band.high_hz)
    mean = 2 * np.sum(np.abs(spectrum[inside]) ** 2) / x.size**2
    assert levels["spectrum.band_500_Hz"] == pytest.approx(10 * math.log10(mean / 4e-10), abs=0.2)
    assert levels["main.exceeded_90"] < levels["main.equivalent"] < levels["main.maximum"]
    assert (tmp_path / "rows.csv").read_text("utf-8").count("\n") == 7


def test_a_recording_of_the_calibrator_gives_full_scale(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "it.yaml").write_text(hall_text(), "utf-8")
    tone = (
        20e-6
        * 10 ** (93.8 / 20)
        * math.sqrt(2)
        * np.sin(2 * np.pi * 1000 * np.arange(5 * RATE) / RATE)
    )
    for name, samples in (("tone", tone), ("hall", hall()), ("silence", np.zeros(3 * RATE))):
        wavfile.write(f"{name}.wav", RATE, np.round(samples / FULL * 32767).astype(np.int16))
    words = ("levels", "it.yaml", "hall.wav", "--json", "--calibration")
    assert json.loads(leitwerk(*words, "tone.wav").stdout)["full_scale_pa"] == pytest.approx(
        FULL, rel=0.004
    )
    for wrong in ("hall.wav", "silence.wav"):
        assert (
            leitwerk(*words, wrong).exit_code,
            "Traceback" in leitwerk(*words, wrong).output,
        ) == (2, False)
    assert leitwerk("levels", "it.yaml", "hall.wav").exit_code == 2
    # Rows with a date go on as all rows do.
    dated = ("levels", "it.yaml", "hall.wav", "--began", "2026-03-02 06:00", "--to", "rows.csv")
    assert leitwerk(*dated, "--full-scale", "63 Pa").exit_code == 0
    for form in ("time", "bands"):
        drawn = leitwerk("draw", "rows.csv", "--form", form, "--to", f"{form}.png")
        assert drawn.exit_code == 0, drawn.output
    assert "main_equivalent" in leitwerk("summary", "rows.csv").stdout


@pytest.mark.parametrize(
    ("calibrator", "outcome", "word"),
    [
        ("{level: 94 dB, before: 94.1 dB, after: 93.9 dB}", Outcome.PASSED, ""),
        ("{level: 94 dB, before: 94.4 dB, after: 93.8 dB}", Outcome.FAILED, "moved by -0.60"),
        ("{level: 94 dB, before: 92 dB, after: 92 dB}", Outcome.FAILED, "before: 92 dB"),
        (
            "{level: 94 dB, correction: -0.4 dB, before: 93.6 dB}",
            Outcome.UNKNOWN,
            "after is missing",
        ),
        (None, Outcome.UNKNOWN, "no calibrator"),
    ],
)
def test_a_calibrator_before_and_after(calibrator, outcome, word):
    lines = "  evaluations: {main: {weighting: A}}" + (
        f"\n  calibrator: {calibrator}" if calibrator else ""
    )
    setup = checked(setup_with(lines))
    assert setup.ok, setup.findings
    found = judge_calibrator(setup.setup.sound)
    assert found.outcome is outcome
    assert word in str(found)


def test_overload_and_gaps_are_left_out_and_counted():
    sound = checked(
        setup_with("  range: 30..110 dB\n  evaluations: {main: {weighting: A}}")
    ).setup.sound
    x = hall(5)
    x[RATE * 2 + 100] = 60.0
    x[RATE * 3 + 5] = np.nan
    found = evaluate_sound(sound, [x], RATE)
    assert found.left_out == {"above range": 1, "no number": 1}
    assert found.whole["main.equivalent"] == pytest.approx(slow_level(hall(5), "A"), abs=0.2)
    with pytest.raises(lw.QuantityError):
        evaluate_sound(sound, [x[:100]], RATE)


@pytest.mark.parametrize(
    ("lines", "rule"),
    [
        ("  evaluations: {}", "no-evaluation"),
        ("  evaluations: {my level: {}}", "bad-name"),
        ("  evaluations: {main: {percentiles: [10 V]}}", "bad-value"),
        ("  evaluations: {main: {weighting: B}}", "bad-value"),
        ("  evaluations: {main: {percentiles: [100]}}", "bad-value"),
        ("  evaluations: {main: {time: none, percentiles: [10]}}", "bad-value"),
        ("  evaluations: {main: {bands: octave, lowest: 70 Hz, highest: 80 Hz}}", "bad-value"),
        ("  evaluations: {main: {bands: octave, lowest: 70 V}}", "wrong-unit"),
        ("  integration: 1 ms\n  evaluations: {main: {}}", "intervals-do-not-fit"),
        ("  range: 30..120 V\n  evaluations: {main: {}}", "wrong-unit"),
        ("  calibrator: {level: 94 Pa}\n  evaluations: {main: {}}", "wrong-unit"),
    ],
)
def test_what_is_wrong_in_the_section_is_a_finding(lines, rule):
    try:
        findings = checked(setup_with(lines)).findings
    except lw.SetupError as error:
        findings = error.findings
    assert rule in {finding.rule for finding in findings}


def test_a_file_that_is_cut_off_at_any_byte_is_told(tmp_path):
    path = tmp_path / "x.wav"
    wavfile.write(path, 8000, np.arange(40, dtype=np.int16))
    whole = path.read_bytes()
    for size in range(len(whole)):
        path.write_bytes(whole[:size])
        with pytest.raises(lw.FileProblem):
            open_samples(path)
    path.write_bytes(whole)
    assert open_samples(path).count == 40


def with_bext(path, **fields):
    """A WAV file of 2 s of a tone, with the chunk of EBU Tech 3285 put together by its table."""
    chunk = bytearray(602)
    at = {"description": 0, "date": 320, "time": 330, "since": 338}
    for name, content in fields.items():
        chunk[at[name] : at[name] + len(content)] = content
    tone = (
        (0.5 * np.sin(2 * np.pi * 1000 * np.arange(96_000) / 48_000) * 32767)
        .astype("<i2")
        .tobytes()
    )
    form = struct.pack("<HHIIHH", 1, 1, 48_000, 96_000, 2, 16)
    body = b"".join(
        name + struct.pack("<I", len(data)) + data
        for name, data in ((b"bext", bytes(chunk)), (b"fmt ", form), (b"data", tone))
    )
    path.write_bytes(b"RIFF" + struct.pack("<I", 4 + len(body)) + b"WAVE" + body)
    return path


@pytest.mark.parametrize(
    ("fields", "began", "scale"),
    [
        ({"description": b"full scale 63.2 Pa", "date": b"2026-03-02", "time": b"06:00:01",
          "since": struct.pack("<Q", 21_601 * 48_000 + 24_000)}, "2026-03-02 06:00:01.500000", ["63.2 Pa"]),
        ({"description": b"full scale 800 V, 1000 A", "date": b"2026-03-02", "time": b"06:00:01"},
         "2026-03-02 06:00:01", ["800 V", "1000 A"]),
        ({"description": b"Saw hall, take 3"}, "None", []),
        ({"description": b"full scale of the moon", "date": b"2026-99-02"}, "None", []),
    ],
)  # fmt: skip
def test_a_file_says_when_it_began_and_what_full_scale_is(tmp_path, fields, began, scale):
    file = open_samples(with_bext(tmp_path / "one.wav", **fields))
    assert (str(file.began), [str(amount) for amount in file.full_scale]) == (began, scale)
    with wave.open(str(tmp_path / "one.wav")) as plain:
        assert (plain.getframerate(), plain.getnframes()) == (file.rate_hz, file.count)
