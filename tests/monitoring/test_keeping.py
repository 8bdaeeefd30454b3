"""Keeping what is watched: continued, whole lines only, full disks, parts, silences, Parquet."""

import errno
import json
import os

import numpy as np
import pytest

import leitwerk as lw
from conftest import MemoryLink, SteppedTime, kept, kiln
from leitwerk.analysis.series import read_series
from leitwerk.monitoring import keeping
from leitwerk.monitoring.keeping import SampleKeeper
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.recordings.parquet import read_parquet
from leitwerk.signals.quality import Quality
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile


class Bench:
    """The kiln's logger on a clock that is stepped."""

    def __init__(self, sheet, folder):
        self.time = SteppedTime()
        self.logger = Logger(sheet, find_profile("fichte-8"), Plant(), self.time, Disturbances())
        self.link = MemoryLink(self.logger)
        self.device = lw.Device(sheet, self.link)
        lw.upload(kiln(), self.device, kept(folder / "kept"))
        self.watch = DeviceWatch(kiln(), self.device, clock=self.time.clock, capacity=500)

    def take(self, keeper, count, step_s=1.0):
        for _ in range(count):
            self.time.wait(step_s)
            keeper.take(self.watch.take())


@pytest.fixture
def bench(sheet, tmp_path):
    return Bench(sheet, tmp_path)


def held(path):
    return read_series(path.read_text("utf-8"))


def test_it_is_continued_behind_the_last_whole_line(bench, tmp_path):
    path = tmp_path / "run.csv"
    with SampleKeeper(path, bench.watch) as keeper:
        bench.take(keeper, 3)
    about = json.loads((tmp_path / "run.about.json").read_text("utf-8"))
    assert (about["device"]["serial"], about["columns"]["humidity"]["unit"]) == ("K2-00417", "%")
    with path.open("ab") as file:
        file.write(b"2026-03-02T05:00:00Z,2")  # the power went
    with SampleKeeper(path, bench.watch) as keeper:
        bench.take(keeper, 2)
    found = held(path)
    assert found.times_s.size == 5
    assert np.all(np.diff(found.times_s) > 0.5)
    path.write_text("time,other\n1,2\n", "utf-8")
    with pytest.raises(lw.FileProblem, match="other columns"):
        bench.take(SampleKeeper(path, bench.watch), 1)
    assert path.read_text("utf-8") == "time,other\n1,2\n"


def test_a_silence_is_one_row_that_says_so(bench, tmp_path):
    path = tmp_path / "run.csv"
    with SampleKeeper(path, bench.watch) as keeper:
        bench.take(keeper, 2)
        bench.link.fails_at = len(bench.link.requests)
        bench.take(keeper, 5)
        bench.link.fails_at = None
        bench.take(keeper, 2)
    found = held(path)
    words = Quality.describe(found.qualities[:, 0]).tolist()
    assert words == ["good", "good", "no answer from the device", "good", "good"]
    assert np.diff(found.times_s).round().tolist() == [1, 1, 5, 1]


@pytest.mark.parametrize("half", [0, 5])
def test_what_a_full_disk_does_not_take_waits(bench, tmp_path, monkeypatch, half):
    path, write, full = tmp_path / "run.csv", os.write, [False]

    def limited(descriptor, data):
        if not full[0]:
            return write(descriptor, data)
        if half and len(data) > half:
            return write(descriptor, data[:half])  # so much, and then nothing more
        raise OSError(errno.ENOSPC, "No space left on device")

    with SampleKeeper(path, bench.watch) as keeper:
        bench.take(keeper, 2)
        with monkeypatch.context() as patch:
            patch.setattr(keeping.os, "write", limited)
            full[0] = True
            bench.take(keeper, 3)
            assert "3 rows wait in memory" in keeper.trouble
            assert held(path).times_s.size == 2
        bench.take(keeper, 1)
        assert keeper.trouble == ""
    assert held(path).times_s.size == 6


def test_rows_that_never_could_be_written_are_said(bench, tmp_path, monkeypatch):
    keeper = SampleKeeper(tmp_path / "no" / "run.csv", bench.watch)
    monkeypatch.setattr(keeping, "_WAITING", 3)
    (tmp_path / "no").write_text("a file where a folder should be")
    bench.take(keeper, 5)
    assert "wait in memory" in keeper.trouble
    with pytest.raises(lw.FileProblem, match="6 rows are lost"):  # with the first line
        keeper.close()


@pytest.mark.parametrize("suffix", [".csv", ".parquet"])
def test_a_limited_amount_is_kept_in_parts(bench, tmp_path, suffix):
    path = tmp_path / f"run{suffix}"
    with SampleKeeper(path, bench.watch, limit_bytes=20_000) as keeper:
        bench.take(keeper, 300)
    parts = sorted(tmp_path.glob(f"run*{suffix}"))
    assert len(parts) == 4
    assert not path.exists()
    assert sum(part.stat().st_size for part in parts) < 25_000 or suffix == ".parquet"
    assert keeper.events
    read = held if suffix == ".csv" else (lambda part: read_parquet(part)[0])
    times = np.sort(np.concatenate([read(part).times_s for part in parts]))
    assert np.allclose(np.diff(times), 1.0)
    assert times[-1] == pytest.approx(bench.watch.begins_s + 300, abs=1)


def test_parquet_holds_units_quality_and_whose_values_they_are(bench, tmp_path):
    path = tmp_path / "run.parquet"
    for _ in range(2):
        with SampleKeeper(path, bench.watch) as keeper:
            bench.take(keeper, 4)
            bench.link.fails_at = len(bench.link.requests)
            bench.take(keeper, 1)
            bench.link.fails_at = None
    assert sorted(p.name for p in tmp_path.glob("run*")) == [
        "run-2.parquet", "run.about.json", "run.parquet",
    ]  # fmt: skip
    series, about = read_parquet(path)
    assert json.loads(about)["setup_hash"]
    assert [str(c) for c in series.columns][:2] == ["air_top [°C]", "air_bottom [°C]"]
    assert Quality.describe(series.qualities[:, 1]).tolist()[3:] == [
        "good",
        "no answer from the device",
    ]
    assert np.isnan(series.values[4]).all()
    assert series.values[:4, 0] == pytest.approx(bench.watch.board.history.values[:4, 0], abs=1e-6)
    (tmp_path / "bad.parquet").write_bytes(b"PAR1 no")
    with pytest.raises(lw.FileProblem, match="cannot read"):
        read_parquet(tmp_path / "bad.parquet")
    with pytest.raises(lw.FileProblem, match="neither CSV nor Parquet"):
        SampleKeeper(tmp_path / "run.xlsx", bench.watch)
