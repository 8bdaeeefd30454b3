"""Evaluations of a setup on a meter: its settings, its channels, and what it cannot."""

import leitwerk as lw
from conftest import checked, example

HALL = example("saw-hall", "scpi+tcp://127.0.0.1:5025")


def test_evaluations_become_settings_and_channels():
    found = checked(HALL)
    wanted = found.settings.values
    assert [wanted[f"evaluation.{k}.weighting"] for k in (1, 2, 3)] == ["A", "C", "Z"]
    assert (wanted["evaluation.2.peak"], wanted["integration.time"], wanted["range.upper"]) == (
        "yes",
        10.0,
        125.0,
    )
    names = {channel.name for channel in found.channels}
    assert names == {
        "main_equivalent",
        "main_maximum",
        "peaks_equivalent",
        "peaks_peak",
        "spectrum_equivalent",
        *(
            f"spectrum_band_{hertz}_Hz"
            for hertz in ("31_5", 63, 125, 250, 500, 1000, 2000, 4000, 8000)
        ),
    }
    assert (wanted["bands.filter"], wanted["bands.evaluation"]) == ("octave", 3.0)
    assert (wanted["audio.length"], wanted["start.mode"]) == (20.0, "at once")


def test_what_is_not_used_is_off_and_too_many_is_an_error():
    lines = HALL.splitlines()
    fewer = checked("\n".join(line for line in lines if "spectrum:" not in line))
    assert fewer.settings.values["evaluation.3.weighting"] == "off"
    at = next(k for k, line in enumerate(lines) if "spectrum:" in line)
    more = checked("\n".join([*lines[: at + 1], "    fourth: {weighting: A}", *lines[at + 1 :]]))
    assert next(f.rule for f in more.findings if f.is_error) == "too-many-evaluations"


def test_a_range_that_the_meter_has_not_is_an_error():
    found = checked(HALL.replace("range: 30..125 dB", "range: 10..150 dB"))
    assert not found.ok
    assert isinstance(found, lw.CheckedSetup)


def test_a_band_that_the_meter_has_not_is_an_error_at_its_key():
    found = checked(HALL.replace("octave, lowest: 31.5 Hz", "third octave, lowest: 20 Hz"))
    finding = next(f for f in found.findings if f.is_error)
    assert (finding.rule, finding.path) == ("bad-value", "sound.evaluations.spectrum.lowest")
    assert "has no band of 20 Hz" in finding.message
    assert finding.valid == "25 Hz to 20000 Hz"
