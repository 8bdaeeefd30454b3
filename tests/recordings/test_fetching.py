"""Fetching into the store: cut at every request, killed, a memory that goes round meanwhile, wrong sums."""

import json
import struct
import zlib

import numpy as np
import pytest

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, kept, kiln
from leitwerk.recordings import store as store_module
from leitwerk.recordings.fetch import RecordedWith
from leitwerk.recordings.into_store import erase_fetched, fetch_new, held_runs
from leitwerk.recordings.store import Store
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile


class Bench:
    """A logger of the kiln that has recorded a row every 10 s."""

    def __init__(self, sheet, folder, rows=60, **settings):
        self.time, self.folder, self.setup = SteppedTime(), folder, kiln()
        self.logger = Logger(sheet, find_profile("fichte-8"), Plant(), self.time, Disturbances())
        self.link = MemoryLink(self.logger)
        self.device = lw.Device(sheet, self.link)
        lw.upload(self.setup, self.device, kept(folder / "kept", clock=self.time.clock))
        for name, value in settings.items():
            self.logger._set(self.logger._settings[name.replace("_", ".")], value)
        self.logger.record()
        self.time.wait(10.0 * (rows - 1))
        self.logger.tick()

    def stop(self):
        self.logger.recording_since_s = None

    def fetch(self, store, **more):
        with_setup = RecordedWith(self.device.read_settings(), self.setup)
        return list(fetch_new(self.device, with_setup, store, clock=self.time.clock, **more))


def raw(bench):
    """What the logger holds, as 32-bit numbers."""
    return np.array(bench.logger.recordings[0].rows, np.float32)


def test_rows_are_those_that_were_stored(sheet, tmp_path):
    bench, store = Bench(sheet, tmp_path), Store(tmp_path / "s")
    bench.stop()
    (held,) = held_runs(bench.device, store)
    assert (held.info.rows, held.is_fetched, held.size_bytes) == (60, False, 4 * 60 * 12)
    (run,) = bench.fetch(store)
    assert (run.rows, run.lost, run.verified) == (60, (), "count and check sum")
    series = store.read("K2-00417")
    names = [c.name for c in series.columns]
    assert names[:2] == ["air_top", "air_bottom"]
    np.testing.assert_array_equal(series.values[:, 0], raw(bench)[:, 0])
    # The trolley is taken off by Leitwerk; what the device stored stands beside it.
    stack, stored = (series.values[:, names.index(n)] for n in ("stack", "stack as stored"))
    np.testing.assert_allclose(stack, stored - 850.0)
    assert np.diff(series.times_s).tolist() == [10.0] * 59
    assert held_runs(bench.device, store)[0].is_fetched
    assert [r.rows for r in bench.fetch(store)] == [0]
    about = store.parts("K2-00417")[0].about
    assert (about.title, about.device.serial) == ("Kiln 2, spring drying run", "K2-00417")
    assert len(about.setup_hash) == 64
    assert about.clock_off_s is not None
    # The check sum, by a stranger's way of computing it.
    sum_by_hand = 0
    for row in raw(bench):
        for value in row:
            sum_by_hand = zlib.crc32(struct.pack(">f", value), sum_by_hand)
    assert held_runs(bench.device, store)[0].info.check_sum == sum_by_hand


def test_cut_at_every_request(sheet, tmp_path):
    """Whichever request is the last before the link is lost: after the next fetch all rows are there once."""
    bench = Bench(sheet, tmp_path)
    bench.stop()
    before = len(bench.link.requests)
    bench.fetch(Store(tmp_path / "whole"))
    count = len(bench.link.requests) - before
    assert count > 20
    for cut in range(count):
        store = Store(tmp_path / f"s{cut}")
        bench.link.fails_at = len(bench.link.requests) + cut
        with pytest.raises(lw.LinkError):
            bench.fetch(store)
        bench.link.fails_at = None
        (run,) = bench.fetch(store)
        assert run.verified == "count and check sum"
        series = store.read("K2-00417")
        np.testing.assert_array_equal(series.values[:, 0], raw(bench)[:, 0])
        assert np.diff(series.times_s).tolist() == [10.0] * 59


@pytest.mark.parametrize("dies_in", ["write_table", "write_atomic", "after"])
def test_killed_while_it_writes(sheet, tmp_path, monkeypatch, dies_in):
    bench, store = Bench(sheet, tmp_path), Store(tmp_path / "s")
    bench.stop()
    from leitwerk.recordings import fetch_notes, into_store

    module = store_module if dies_in == "write_table" else fetch_notes
    if dies_in == "after":  # the rows are written, and the note of it is not
        monkeypatch.setattr(into_store, "keep_note", lambda *_: (_ for _ in ()).throw(SystemExit))
    else:
        monkeypatch.setattr(module, dies_in, lambda *_: (_ for _ in ()).throw(SystemExit))
    with pytest.raises(SystemExit):
        bench.fetch(store)
    monkeypatch.undo()
    (run,) = bench.fetch(store)
    assert run.verified == "count and check sum"
    np.testing.assert_array_equal(store.read("K2-00417").values[:, 0], raw(bench)[:, 0])


def test_new_rows_of_a_run_that_goes_on(sheet, tmp_path):
    bench, store = Bench(sheet, tmp_path, rows=30), Store(tmp_path / "s")
    assert [run.rows for run in bench.fetch(store)] == [30]
    bench.time.wait(200.0)
    (run,) = bench.fetch(store)
    assert run.rows == 20
    bench.stop()
    bench.fetch(store)
    np.testing.assert_array_equal(store.read("K2-00417").values[:, 0], raw(bench)[:, 0])
    bench.device.log_in("operator", "1834")
    erase_fetched(bench.device, store)
    assert bench.device.status().recordings == 0


class Ring(Bench):
    """A memory of 40 rows that goes round; every request takes time, so that rows are lost meanwhile."""

    def __init__(self, sheet, folder, monkeypatch, slow_s):
        monkeypatch.setattr("leitwerk.standins.logger._MEMORY_ROWS", 40)
        super().__init__(sheet, folder, rows=100)
        self.logger._set(self.logger._settings["memory.when_full"], "overwrite")
        self.logger.tick()
        do = self.link._do

        def slow(request):
            self.time.wait(slow_s)
            return do(request)

        self.link._do = slow


@pytest.mark.parametrize("slow_s", [0.0, 1.5, 2.2, 4.0])
def test_rows_that_are_overwritten_meanwhile_are_told(sheet, tmp_path, monkeypatch, slow_s):
    bench, store = Ring(sheet, tmp_path, monkeypatch, slow_s), Store(tmp_path / "s")
    if slow_s == 4.0:
        with pytest.raises(lw.LinkError, match="goes round faster than it is read"):
            bench.fetch(store)
        return
    recording = bench.logger.recordings[0]
    began = recording.taken - len(recording.rows)
    every = {began + k: row[0] for k, row in enumerate(recording.rows)}
    add = recording.add

    def noted(row):
        every[recording.taken] = row[0]
        add(row)

    recording.add = noted
    (run,) = bench.fetch(store)
    series = store.read("K2-00417")
    lost = sum(count for _, count in run.lost)
    assert (lost > 0) is (slow_s > 0.0), run
    # Each row stands at the time of its number, as it was when it was stored.
    first = run.held.info.overwritten
    numbers = first + np.round((series.times_s - run.held.begin_s) / 10.0).astype(int)
    assert series.times_s.size == run.rows == 40 - lost
    np.testing.assert_allclose(series.values[:, 0], [np.float32(every[n]) for n in numbers])
    assert run.verified == ("their count" if lost else "count and check sum")
    assert ("were overwritten in the device" in str(run)) is (lost > 0)
    bench.link._do = MemoryLink._do.__get__(bench.link)
    bench.stop()
    (after,) = bench.fetch(store)
    numbers = first + np.round((store.read("K2-00417").times_s - run.held.begin_s) / 10.0).astype(
        int
    )
    assert numbers[-1] == recording.taken - 1
    assert after.rows > 0 or slow_s == 0.0


def test_slots_that_are_off_now_are_kept_if_they_hold_something(sheet, tmp_path):
    bench, store = Bench(sheet, tmp_path), Store(tmp_path / "s")
    bench.stop()
    bench.logger._set(bench.logger._settings["channel.4.sensor"], "off")
    bench.fetch(store)
    series = store.read("K2-00417")
    names = [column.name for column in series.columns]
    assert "humidity" not in names
    np.testing.assert_array_equal(
        series.values[:, names.index("slot 4 as stored")], raw(bench)[:, 3]
    )
    assert "slot 7 as stored" not in names  # it was never in use


def test_a_wrong_check_sum_keeps_nothing(sheet, tmp_path):
    bench, store = Bench(sheet, tmp_path), Store(tmp_path / "s")
    bench.stop()
    bench.logger.recordings[0]._checked = (60, 60, 12345)
    with pytest.raises(lw.LinkError, match="do not have its check sum, and are not kept"):
        bench.fetch(store)
    assert store.parts("K2-00417") == []
    bench.logger.recordings[0]._checked = (0, 0, 0)
    assert [run.rows for run in bench.fetch(store)] == [60]


def test_nothing_is_erased_that_was_not_fetched(sheet, tmp_path):
    bench, store = Bench(sheet, tmp_path), Store(tmp_path / "s")
    bench.stop()
    with pytest.raises(lw.DeviceRefused, match="60 rows of recording 1 were not fetched"):
        erase_fetched(bench.device, store)
    with pytest.raises(lw.QuantityError, match="there is no recording 7"):
        bench.fetch(store, only=[7])


@pytest.mark.process
def test_the_command(standin, leitwerk, kiln_file, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    path = kiln_file(standin("--recordings", "2").address)
    listed = leitwerk("fetch", path, "--list")
    assert "1: 2" in listed.stdout
    assert "25 rows, every 60 s, 1 kB, not fetched" in listed.stdout
    assert leitwerk("fetch", path, "--erase").exit_code == 2
    done = leitwerk("fetch", path, "--store", "--only", "2")
    assert "2: 25 new rows, verified by count and check sum" in done.stdout
    refused = leitwerk("fetch", path, "--store", "--only", "2", "--erase")
    assert (refused.exit_code, "were not fetched: nothing is erased" in refused.stderr) == (4, True)
    data = json.loads(
        leitwerk("fetch", path, "--store", "--json", "--erase").stdout.split("erased")[0]
    )
    assert [(r["number"], r["new"]) for r in data["recordings"]] == [(1, 25), (2, 0)]
    assert data["files"] == []
    assert leitwerk("fetch", path, "--list").exit_code == 1
    assert Store("recordings").read("K2-00417").times_s.size == 50
