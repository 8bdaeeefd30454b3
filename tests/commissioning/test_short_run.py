"""A short run at full rate in the device: fetched, drawn, and the device as before, whatever happens."""

from unittest.mock import Mock

import numpy as np
import pytest

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, kept, kiln
from leitwerk.commissioning.test_run import fastest, record_short_run
from leitwerk.devices.recordings import control_recording
from leitwerk.evaluation.course import parse_course
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile


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
def test_the_command(standin, leitwerk, kiln_file, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    path = kiln_file(standin().address)
    assert leitwerk("upload", path).exit_code == 0
    run = leitwerk("test-run", path, "--for", "3 s", "--to", "run.csv")
    assert run.exit_code == 0, run.output
    assert "run.csv: 4 rows, one every 1 s" in run.stdout
    assert (tmp_path / "run.png").stat().st_size > 10_000
    assert leitwerk("compare", path, "--help").exit_code == 0
