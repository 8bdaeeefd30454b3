"""Live checks: the watch on a clock that is passed in, and the command on a real stand-in."""

import csv
import io
import json
import struct

import pytest

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, checked, kept, kiln, kiln_text
from leitwerk.evaluation.course import parse_course
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile


def watch(device, logger, setup=None, **more):
    more = {"duration_s": 2, "period_s": 0.2, "clock": logger.clock.clock, **more}
    return lw.verify(setup or kiln(), device, **more)


@pytest.fixture
def ready(device, tmp_path):
    lw.upload(kiln(), device, kept(tmp_path))
    return device


def verdicts(report):
    return {c.name: str(c.verdict) for c in report.channels}


def test_a_device_that_is_set_up_right_passes(ready, logger):
    seen = []
    report = watch(ready, logger, on_sample=seen.append)
    assert report.outcome == "passed"
    assert set(verdicts(report).values()) == {"pass"}
    assert report.values.shape == report.qualities.shape == (11, 7)
    assert report.times_s == pytest.approx([k / 5 for k in range(11)])
    assert [s.number for s in seen] == list(range(1, 12))
    assert "PASSED: 7 of 7 expectations met" in str(report)


def test_a_poll_is_one_request(ready, logger):
    ready.link.requests.clear()
    watch(ready, logger)
    *_, last = ready.link.requests[-12:]
    assert ready.link.requests[-12:-1] == ["read input 102..130"] * 11
    assert last == "read input 0..31"  # it is the same device still


def test_a_device_in_factory_condition_gives_no_reading_and_says_why(device, logger):
    report = watch(device, logger)
    assert set(verdicts(report).values()) == {"no reading"}
    assert "was the setup uploaded?" in report.channels[0].reason
    assert "48 settings in the device differ from this setup" in str(report)


@pytest.mark.parametrize(
    ("wrong", "channel", "verdict", "reason"),
    [
        ({"open": {"1"}}, "air_top", "no reading", "open sensor: a wire is off"),
        ({"open": {"5"}}, "valve", "no reading", "open sensor"),
        ({"shorted": {"1"}}, "air_top", "no reading", "the signal is below range (0..400 Ω)"),
        ({"shorted": {"3"}}, "timber_core", "fail", "exactly the cold junction"),
        ({"reversed": {"3"}}, "timber_core", "fail", "wired with reversed polarity"),
        ({"open": {"D1"}}, "door", "fail", "is ajar, expected shut"),
    ],
)
def test_what_is_wrong_at_a_terminal_is_told(ready, logger, wrong, channel, verdict, reason):
    logger.disturbances = Disturbances(**wrong)
    logger.clock.wait(1)
    report = watch(ready, logger)
    assert report.outcome == "not passed"
    others = verdicts(report)
    assert others.pop(channel) == verdict
    assert set(others.values()) == {"pass"}
    assert reason in str(report)


def test_alarms_are_followed_with_their_delays(ready, logger, tmp_path):
    hot = kiln_text().replace("{above: 78 °C, clear: 75 °C", "{above: 20 °C, clear: 19 °C")
    setup = checked(hot)
    lw.upload(setup, ready, kept(tmp_path))
    for seconds, phase in ((29, "pending"), (31, "unacknowledged")):
        report = watch(ready, logger, setup, duration_s=seconds, period_s=1)
        assert report.channels[0].alarms == {"too_hot": phase}
    assert report.channels[3].alarms == {"too_dry": "normal"}


def test_a_transmitter_at_its_upper_limit_trips_its_alarm(sheet, tmp_path):
    """Between 20.5 and 21 mA the value is off, but it is there: what it says is *very much*."""
    clock = SteppedTime()
    plant = Plant(courses={"steam_valve": parse_course("104; stay 100 s")})
    full = Logger(sheet, find_profile("fichte-8"), plant, clock, Disturbances())
    one = lw.Device(sheet, MemoryLink(full))
    scale = "    scale: {4 mA: 0 %, 20 mA: 100 %}\n"
    assert scale in kiln_text()
    setup = checked(kiln_text().replace(scale, f"{scale}    alarms: {{full: {{above: 95 %}}}}\n"))
    lw.upload(setup, one, kept(tmp_path))
    report = lw.verify(setup, one, duration_s=5, period_s=1, clock=clock.clock)
    valve = next(c for c in report.channels if c.alarms.keys() == {"full"})
    assert valve.quality == "transmitter at its upper limit"
    assert valve.alarms == {"full": "unacknowledged"}
    assert str(valve.verdict) == "no reading"  # it proves no expectation


def test_a_thermometer_is_read_in_another_unit_and_the_device_keeps_its_own(
    device, logger, tmp_path
):
    text = kiln_text()
    for old, new in (
        ("unit: °C\n    expect: 21.5 ± 0.5 °C", "unit: °F\n    expect: 70.7 ± 0.9 °F"),
        ("above: 78 °C, clear: 75 °C", "above: 172.4 °F, clear: 167"),
        ("unit: °C\n    expect: 19.0 ± 1.5 °C", "unit: K\n    expect: 292.15 ± 1.5 K"),
    ):
        assert old in text
        text = text.replace(old, new)
    setup = checked(text)
    assert setup.ok, setup.findings
    lw.upload(setup, device, kept(tmp_path))
    held = device.read_settings().values
    assert (held["channel.1.unit"], held["alarm.1.trip"], held["alarm.1.clear"]) == ("°C", 78, 75)
    report = watch(device, logger, setup)
    air = report.channels[0]
    assert (air.unit, air.verdict) == ("°F", "pass")
    assert (report.channels[2].unit, report.channels[2].verdict) == ("K", "pass")
    assert air.mean == pytest.approx(21.5 * 1.8 + 32, abs=0.3)
    account = {".".join(e.path): str(e.fate) for e in setup.account.entries}
    assert account["channels.air_top.unit"] == "worked by Leitwerk"


def test_what_was_seen_is_kept_when_the_device_falls_silent(ready, logger):
    ready.link.fails_at = len(ready.link.requests) + 9
    report = watch(ready, logger)
    assert 0 < report.times_s.size < 11
    assert report.outcome is lw.Outcome.UNKNOWN
    assert "no answer from" in report.reasons[0]
    assert not report.silences[-1].ended


def test_a_watch_goes_on_after_a_drop_out(ready, logger, monkeypatch):
    read, count = ready.link.read, iter(range(1000))

    def interrupted(requests):
        if 6 <= next(count) < 9:
            raise lw.LinkTimeout("no answer")
        return read(requests)

    monkeypatch.setattr(ready.link, "read", interrupted)
    report = watch(ready, logger)
    (silence,) = report.silences
    assert silence.ended
    assert report.outcome is lw.Outcome.PASSED
    assert "no answer from" in str(report)


def test_a_watch_that_is_stopped_is_judged_by_what_was_seen(ready, logger):
    def stop(sample):
        if sample.number == 3:
            raise KeyboardInterrupt

    report = watch(ready, logger, on_sample=stop)
    assert (report.times_s.size, report.stopped) == (3, True)
    assert "stopped from the keyboard" in str(report)


@pytest.mark.parametrize("more", [{"duration_s": 0}, {"period_s": -1}, {"duration_s": 1e9}])
def test_times_that_cannot_be_used_are_refused(ready, logger, more):
    with pytest.raises(lw.QuantityError):
        watch(ready, logger, **more)


@pytest.mark.process
def test_the_command_on_a_real_stand_in(standin, leitwerk, kiln_file, tmp_path):
    path = kiln_file(standin().address)
    assert leitwerk("upload", path).exit_code == 0
    figure, samples = tmp_path / "f.png", tmp_path / "s.csv"

    result = leitwerk(
        "live", path, "--for", "300 ms", "--every", "0.1 s", "--json",
        "--figure", str(figure), "--samples", str(samples),
    )  # fmt: skip

    assert result.exit_code == 0
    report = json.loads(result.stdout)
    assert (report["outcome"], report["samples"], report["counts"]["pass"]) == ("passed", 4, 7)
    assert report["device"]["serial"] == "K2-00417"
    top = report["channels"][0]
    assert top["mean"] == pytest.approx(21.5, abs=0.3)
    assert (top["unit"], top["quality"], top["alarms"]) == ("°C", "good", {"too_hot": "normal"})
    png = figure.read_bytes()
    assert png.startswith(b"\x89PNG")
    assert struct.unpack(">2I", png[16:24]) == (1280, 800)
    rows = list(csv.reader(io.StringIO(samples.read_text("utf-8"))))
    assert rows[0][:3] == ["time", "air_top [°C]", "air_top.quality"]
    assert len(rows) == 5


@pytest.mark.process
def test_a_fail_is_exit_code_1_in_every_form(standin, leitwerk, kiln_file):
    path = kiln_file(standin("--short", "3").address)
    assert leitwerk("upload", path).exit_code == 0
    plain = leitwerk("live", path, "--for", "0.2")
    assert plain.exit_code == 1
    assert "short-circuited thermocouple" in plain.stdout
    assert "NOT PASSED: 6 of 7 expectations met, 1 fail" in plain.stdout
    as_csv = leitwerk("live", path, "--for", "0.2", "--csv")
    assert as_csv.exit_code == 1
    rows = {row["name"]: row for row in csv.DictReader(io.StringIO(as_csv.stdout))}
    assert (rows["timber_core"]["verdict"], rows["door"]["verdict"]) == ("fail", "pass")
