"""A day of device time, accelerated: lost links, restarts, steps of the clock, a full disk for an hour."""

import errno
import os
import struct
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, kept, kiln
from leitwerk.analysis.series import read_series
from leitwerk.monitoring import keeping
from leitwerk.monitoring.keeping import SampleKeeper
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.signals.quality import Quality
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile

HOUR, DAY, EVERY_S = 3600.0, 86_400.0, 15.0
LOST = [(2 * HOUR, 2.5 * HOUR), (9 * HOUR, 9 * HOUR + 60), (23 * HOUR, 23.2 * HOUR)]
RESTARTS = [
    6 * HOUR,
    15 * HOUR,
]  # two minutes each, and then a logger that remembers only its settings
FULL = (11 * HOUR, 12 * HOUR)
STEPS = [(4 * HOUR, 3600.0), (18 * HOUR, -1800.0)]  # of the clock of the computer


def resident_mb():
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6


def is_silent(t):
    spans = [*LOST, *((at, at + 120) for at in RESTARTS)]
    return any(begin <= t < end for begin, end in spans)


class RampLink(MemoryLink):
    """The kiln's logger, whose first reading rises all day long: written here, register by register."""

    def __init__(self, logger, time):
        super().__init__(logger)
        self.time, self.words = time, {}

    def restart(self):
        """Another run of its firmware: sessions, scans, alarms and staged settings are gone."""
        old, self.words = self.logger, {}
        self.logger = Logger(old.datasheet, old.profile, Plant(), self.time, Disturbances())
        self.logger.holding[:] = old.holding

    def _do(self, request):
        if getattr(request, "table", "") != "input" or request.start < 100:
            return super()._do(request)
        if self.fails_at is not None:
            raise lw.LinkTimeout("no answer")
        key = request.start, request.count
        if key not in self.words:
            self.words[key] = super()._do(request)
        words = list(self.words[key])
        at = 104 - request.start  # the value of channel 1: two registers, high word first
        words[at : at + 2] = struct.unpack(">HH", struct.pack(">f", ramp(self.time.now_s)))
        return words


def ramp(t):
    return 20.0 + 60.0 * t / DAY


def test_a_day(sheet, tmp_path, monkeypatch):
    time, write = SteppedTime(), os.write
    logger = Logger(sheet, find_profile("fichte-8"), Plant(), time, Disturbances())
    link = RampLink(logger, time)
    device = lw.Device(sheet, link)
    lw.upload(kiln(), device, kept(tmp_path / "kept"))
    began = datetime(2026, 3, 1, 23, 0, tzinfo=UTC)

    def wall():
        set_by = sum(step for at, step in STEPS if time.now_s >= at)
        return began + timedelta(seconds=time.now_s + set_by)

    def limited(descriptor, data):
        if FULL[0] <= time.now_s < FULL[1]:
            raise OSError(errno.ENOSPC, "No space left on device")
        return write(descriptor, data)

    monkeypatch.setattr(keeping.os, "write", limited)
    time.now_s = 0.0
    watch = DeviceWatch(kiln(), device, clock=lw.Clock(wall, time, time.wait), capacity=2000)
    path, delivered, sizes = tmp_path / "day.csv", [], []
    with SampleKeeper(path, watch) as keeper:
        while time.now_s < DAY:
            if time.now_s in RESTARTS:
                link.restart()
            link.fails_at = 0 if is_silent(time.now_s) else None
            if not is_silent(time.now_s):
                delivered.append((time.now_s, wall().timestamp()))
            keeper.take(watch.take())
            if time.now_s % HOUR == 0:
                sizes.append(resident_mb())
            time.wait(EVERY_S)
    found = read_series(path.read_text("utf-8"))
    is_value = Quality.has_value(found.qualities[:, 0])
    # None is lost, none invented, none twice: those that the device delivered, in their order.
    np.testing.assert_allclose(
        found.values[is_value, 0], [ramp(t) for t, _ in delivered], atol=1e-5
    )
    np.testing.assert_allclose(found.times_s[is_value], [at for _, at in delivered], atol=0.01)
    # Each gap is one row, at the moment at which the first answer was missing.
    gaps = sorted([*(begin for begin, _ in LOST), *RESTARTS])
    assert (~is_value).sum() == len(gaps) == len(watch.silences.spans())
    stepped = [at + sum(step for when, step in STEPS if at >= when) for at in gaps]
    np.testing.assert_allclose(found.times_s[~is_value] - began.timestamp(), stepped, atol=EVERY_S)
    # Memory: what is kept is full after some hours, then it stays as it is.
    assert max(sizes[14:]) < max(sizes[:14]) + 1.0, sizes
