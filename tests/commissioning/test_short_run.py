"""A short run at full rate in the device: fetched, drawn, and the device as before, whatever happens."""

import os
import subprocess
import sys
from pathlib import Path
from unittest.mock import Mock

import numpy as np
import pytest

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, kept, kiln
from leitwerk.commissioning.test_run import fastest, record_short_run
from leitwerk.devices.recordings import control_recording, list_recordings
from leitwerk.evaluation.course import parse_course
from leitwerk.project.claims import claiming, left_claims
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile
from leitwerk.transfer.for_a_while import give_claims_back


@pytest.fixture
def bench(sheet, tmp_path):
    clock = SteppedTime()
    plant = Plant(courses={"air_top": parse_course("20; to 40 in 20 s; stay 1 h")})
    device = lw.Device(
        sheet, MemoryLink(Logger(sheet, find_profile("fichte-8"), plant, clock, Disturbances()))
    )
    options = kept(tmp_path, clock=clock.clock)
    lw.upload(kiln(), device, options)
    return clock, device, options


def test_it_is_recorded_at_full_rate_and_the_interval_is_set_back(bench):
    clock, device, options = bench
    clock.now_s = 0.0
    run = record_short_run(kiln(), device, options, duration_s=10.0)
    assert run.interval_s == 1.0
    assert run.series.times_s.size == 11
    assert run.series.values[:, 0] == pytest.approx(20.0 + np.arange(11.0), abs=0.1)
    assert [c.name for c in run.series.columns][:2] == ["air_top", "air_bottom"]
    assert device.read_settings().values["sample.interval"] == 10.0
    assert not device.status().recording


def test_what_would_disturb_the_device_is_refused(bench):
    clock, device, options = bench
    with pytest.raises(lw.QuantityError, match="too short"):
        record_short_run(kiln(), device, options, duration_s=2.0)
    control_recording(device, "start", passwords=options.passwords)
    with pytest.raises(lw.DeviceRefused, match="would end that"):
        record_short_run(kiln(), device, options)
    clock.wait(1.0)
    control_recording(device, "stop", passwords=options.passwords)
    with device.logged_in("operator", options.passwords):
        device.write_settings({"alarm.1.trip": 70.0})
        device.command("commit")
    with pytest.raises(lw.DeviceRefused, match="1 settings in the device differ"):
        record_short_run(kiln(), device, options)


def test_broken_off_the_device_has_its_interval_again(bench):
    _, device, options = bench

    with pytest.raises(KeyboardInterrupt):
        record_short_run(kiln(), device, options, on_wait=Mock(side_effect=KeyboardInterrupt))
    assert device.read_settings().values["sample.interval"] == 10.0
    assert not device.status().recording


def test_cut_at_any_request_the_claim_gives_it_back(sheet, tmp_path, monkeypatch):
    """The link is lost at each request of a run, for good: what is left is noted, and given back later."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    cut, noted = 0, 0
    while True:
        cut += 3
        clock = SteppedTime()
        device = lw.Device(
            sheet,
            MemoryLink(Logger(sheet, find_profile("fichte-8"), Plant(), clock, Disturbances())),
        )
        options = kept(tmp_path / str(cut), clock=clock.clock)
        lw.upload(kiln(), device, options)
        device.link.requests.clear()
        device.link.fails_at = cut
        try:
            record_short_run(kiln(), device, options, duration_s=5.0)
        except lw.LeitwerkError:
            pass
        else:
            break
        device.link.fails_at = None
        left = [claim for claim in left_claims(device.identify()) if claim.changes_settings]
        noted += bool(left)
        assert len(left) <= 1
        if left:
            assert "the test run of 20" in str(left[0])
        list(give_claims_back(device, left, options))
        assert device.read_settings().values["sample.interval"] == 10.0, cut
        assert not device.status().recording, cut
        assert not left_claims(device.identify())
    assert noted > 5


def test_it_gives_back_only_what_it_changed(bench):
    """Somebody else changes the interval while it records: that stays, and is told."""
    _, device, options = bench

    def somebody(_):
        control_recording(device, "stop", passwords=options.passwords)
        with device.logged_in("operator", options.passwords):
            device.write_settings({"sample.interval": 5.0, "alarm.1.trip": 70.0})
            device.command("commit")
        control_recording(device, "start", passwords=options.passwords)

    run = record_short_run(kiln(), device, options, duration_s=10.0, on_wait=somebody)
    found = device.read_settings().values
    assert (found["sample.interval"], found["alarm.1.trip"]) == (5.0, 70.0)
    assert found["storage.interval"] == kiln().settings.values["storage.interval"]
    assert run.left == ("sample.interval was changed by somebody else, and stays 5 s",)


def test_recordings_that_were_there_stay(bench):
    clock, device, options = bench
    control_recording(device, "start", passwords=options.passwords)
    clock.wait(60.0)
    control_recording(device, "stop", passwords=options.passwords)
    before = list_recordings(device)
    with pytest.raises(lw.UploadError, match="not fetched"):
        record_short_run(kiln(), device, options, duration_s=5.0)
    assert list_recordings(device) == before
    assert device.read_settings().values["sample.interval"] == 10.0


def test_too_few_rows_are_not_done(bench):
    _, device, options = bench
    stops = Mock(
        side_effect=lambda _: control_recording(device, "stop", passwords=options.passwords)
    )
    run = record_short_run(kiln(), device, options, duration_s=10.0, on_wait=stops)
    assert not run.is_complete
    assert record_short_run(kiln(), device, options, duration_s=10.0).is_complete


def test_a_link_that_is_lost_is_told_with_what_the_device_still_has(bench):
    _, device, options = bench
    lost = Mock(side_effect=lambda _: setattr(device.link, "fails_at", 0))
    with pytest.raises(lw.LinkError, match="still has the interval of the test run"):
        record_short_run(kiln(), device, options, on_wait=lost)
    device.link.fails_at = None
    assert device.read_settings().values["sample.interval"] == 0.5


def test_as_fast_as_it_can_store():
    fast = fastest(kiln())
    assert (fast.setup.sample.seconds, fast.setup.store.seconds) == (0.5, 1.0)


@pytest.mark.process
def test_killed_it_is_named_and_given_back(standin, leitwerk, kiln_file, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    path = kiln_file(standin().address)
    assert leitwerk("upload", path).exit_code == 0
    words = [sys.executable, "-m", "leitwerk", "test-run", path, "--for", "60 s"]
    wanted = lw.read_setup(path)
    env = {**os.environ, "LEITWERK_PASSWORD_OPERATOR": "1834"}
    with (
        subprocess.Popen(words, env=env, stderr=subprocess.DEVNULL) as running,
        lw.connect(wanted) as device,
    ):
        while not device.status().recording:
            assert running.poll() is None
        # While it lives, nobody else writes to the device.
        (tmp_path / "other.yaml").write_text(
            Path(path).read_text("utf-8").replace("every 10 s", "every 20 s"), "utf-8"
        )
        refused = leitwerk("upload", "other.yaml", "--stop-recording", "--discard-recordings")
        assert refused.exit_code == 4
        assert "a test run on fichte-8 K2-00417 has been under way since 20" in refused.stderr
        running.kill()
        running.wait(20)
        assert "the test run of 20" in leitwerk("device", path).stderr
        seen = leitwerk("recover", path)
        assert (seen.exit_code, "was broken off: " in seen.stdout) == (1, True)
        assert "sample.interval is 0.5 instead of 10.0, " in seen.stdout
        undone = leitwerk("recover", path, "--undo")
        assert undone.exit_code == 0, undone.output
        assert device.read_settings().values["sample.interval"] == 10.0
        assert not device.status().recording
        assert "was broken off" not in leitwerk("device", path).stderr


def test_notes_are_of_the_device_that_stands_inside(tmp_path, monkeypatch):
    """K2-00417 is not K2-00417-5, though the one name begins with the other."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    one, other = (
        lw.Identity("T", "fichte-8", serial, "1.4") for serial in ("K2-00417", "K2-00417-5")
    )
    with claiming(other, "pulse") as claim:
        claim.driven("horn", "relay.{n}.drive", 2, "released")
    assert left_claims(one) == []
    (left,) = left_claims(other)
    assert left.outputs[0].name == "horn"
    left.path.write_text("{", "utf-8")
    (damaged,) = left_claims(one)
    assert "cannot be read" in str(damaged)


@pytest.mark.process
def test_the_command(standin, leitwerk, kiln_file, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    path = kiln_file(standin().address)
    assert leitwerk("upload", path).exit_code == 0
    run = leitwerk("test-run", path, "--for", "3 s", "--to", "run.csv")
    assert run.exit_code == 0, run.output
    assert "run.csv: 4 rows, one every 1 s" in run.stdout
    assert (tmp_path / "run.png").stat().st_size > 10_000
    assert leitwerk("compare", path, "--help").exit_code == 0
