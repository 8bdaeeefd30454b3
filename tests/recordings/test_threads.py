"""From the setup to the report by the ordinary commands: a shift, a week, and rows that are sent."""

import json
import re
import socket
import struct
import time
import zlib

import numpy as np
import pandas as pd
import pytest

import leitwerk as lw
from conftest import example
from leitwerk.devices.device import Device
from leitwerk.identity import Identity
from leitwerk.links.mqtt import StationLink
from leitwerk.parsing.address import parse_address
from leitwerk.protocols.station import StationRows, build_rows, parse_rows
from leitwerk.recordings import Store
from leitwerk.recordings.fetch import RecordedWith
from leitwerk.recordings.station_rows import keep_rows

PATIENCE_S = 60.0
BANDS = ("31_5", "63", "125", "250", "500", "1000", "2000", "4000", "8000")


def bring_in(leitwerk, standin, name, hours, tmp_path, monkeypatch):
    """Upload, record for so many hours of the device, stop, fetch; the setup's path."""
    monkeypatch.chdir(tmp_path)
    path = tmp_path / "it.yaml"
    path.write_text(example(name, standin.address), "utf-8")
    for words in (("upload", "it.yaml"), ("record", "it.yaml", "start")):
        assert leitwerk(*words).exit_code == 0
    setup = lw.read_setup(path)
    with lw.connect(setup) as device:
        end = time.monotonic() + PATIENCE_S
        while True:
            (info,) = lw.list_recordings(device)
            if info.rows * info.interval_s >= hours * 3600.0:
                break
            assert time.monotonic() < end
    assert leitwerk("record", "it.yaml", "stop").exit_code == 0
    listed = leitwerk("fetch", "it.yaml", "--list")
    assert "not fetched" in listed.stdout
    fetched = leitwerk("fetch", "it.yaml", "--store")
    assert (fetched.exit_code, "count and check sum" in fetched.stdout) == (0, True), fetched.output
    again = leitwerk("fetch", "it.yaml", "--store")
    assert "0 new rows" in again.stdout
    return setup


def frame_of(serial):
    """All rows of a device, read from the files by pandas alone."""
    parts = [pd.read_parquet(path) for path in Store("recordings").root.rglob("*.parquet")]
    assert serial in str(next(Store("recordings").root.rglob("*.parquet")))
    return pd.concat(parts).set_index("time").sort_index()


def rows_by_hand(address):
    """All rows of the first recording and its check sum, asked for line by line on a plain socket."""
    with (
        socket.create_connection((address.host, address.port)) as plain,
        plain.makefile("rw") as lines,
    ):

        def ask(*texts):
            lines.write("".join(f"{text}\n" for text in texts))
            lines.flush()
            return lines.readline().strip()

        count = int(float(ask("MEM:SEL 1", "MEM:ROWS?")))
        wide = int(float(ask("MEM:COL?")))
        found = []
        while len(found) < wide * count:
            found += map(float, ask(f"MEM:FIRS {len(found) // wide}", "MEM:DATA?").split(","))
        rows = np.array(found).reshape(-1, wide)
        rows[rows == 9.91e37] = np.nan  # what is not measured
        rows[rows == 9.9e37] = np.inf
        return rows, int(float(ask("MEM:CSUM?")))


@pytest.mark.process
def test_a_shift_of_eibe(leitwerk, tmp_path, monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "larch")
    with lw.start_standin("eibe", "--time-factor", "10000") as standin:
        bring_in(leitwerk, standin, "saw-hall", 8.0, tmp_path, monkeypatch)
        rows, check_sum = rows_by_hand(standin.address)
        assert (
            leitwerk("fetch", "it.yaml", "--store", "--for", "1 s").exit_code == 2
        )  # it does not sleep
        none = leitwerk("condense", "SH-0093", "--every", "1 h", "--from", "2040-01-01 00:00")
        assert (none.exit_code, "Traceback" in none.output) == (2, False)
    bands = [f"spectrum_band_{hertz}_Hz" for hertz in BANDS] + ["band.10 as stored"]
    own = ["main_equivalent", "main_maximum", "evaluation.1.peak as stored", "peaks_equivalent",
           "evaluation.2.maximum as stored", "peaks_peak", "spectrum_equivalent",
           "evaluation.3.maximum as stored", "evaluation.3.peak as stored", *bands]  # fmt: skip
    np.testing.assert_array_equal(frame_of("SH-0093")[own].to_numpy(), rows)
    assert zlib.crc32(rows.astype(">f4").tobytes()) == check_sum
    report = leitwerk(
        "report", "SH-0093", "--setup", "it.yaml", "--kind", "noise", "--to", "shift.csv"
    )
    frame = frame_of("SH-0093")
    # What the meter kept as sound: the library makes the levels of it that the meter stored.
    (sound,) = Store("recordings").files_folder("SH-0093").glob("*-sound.wav")
    evaluated = leitwerk("levels", "it.yaml", str(sound), "--to", "levels.csv")
    assert (evaluated.exit_code, "calibrator passed" in evaluated.stdout) == (0, True)
    levels = pd.read_csv("levels.csv").rename(columns=lambda name: name.removesuffix(" [dB]"))
    assert (len(levels), levels["time"][0]) == (2, f"{frame.index[0]:%Y-%m-%dT%H:%M:%SZ}")
    for name in ("main_equivalent", "main_maximum", "peaks_equivalent", "peaks_peak", *bands[:-1]):
        np.testing.assert_allclose(levels[name], frame[name][:2], atol=0.35, err_msg=name)
        np.testing.assert_allclose(levels[name].mean(), frame[name][:2].mean(), atol=0.25)
    equivalent = 10 * np.log10((10 ** (frame["main_equivalent"] / 10)).mean())
    text = (tmp_path / "shift.csv").read_text("utf-8")
    daily = float(re.search(r'"daily noise exposure LEX,8h",([\d.]+)', text)[1])
    assert daily == pytest.approx(equivalent, abs=1e-9)  # the shift lasts 8 h
    assert float(re.search(r"highest peak level,([\d.]+)", text)[1]) == frame["peaks_peak"].max()
    assert (report.exit_code, "not passed" in report.stdout, daily > 85.0) == (1, True, True)
    assert leitwerk("report", "SH-0093", "--kind", "noise", "--to", "x.pdf").exit_code == 2


def file_by_hand(address, number):
    """Name and bytes of a file, by frames that are put together here (MODBUS V1.1b3, 6.4, 6.12)."""
    with socket.create_connection((address.host, address.port)) as plain:

        def ask(pdu):
            plain.sendall(struct.pack(">HHHB", 7, 0, len(pdu) + 1, address.unit) + pdu)
            head = b""
            while len(head) < 7:
                head += plain.recv(7 - len(head))
            length = struct.unpack(">HHHB", head)[2] - 1
            answer = b""
            while len(answer) < length:
                answer += plain.recv(length - len(answer))
            assert answer[0] == pdu[0], answer
            return answer[2:]

        def read(start, count):
            return ask(struct.pack(">BHH", 4, start, count))

        ask(struct.pack(">BHHBH", 16, 913, 1, 2, number))
        name = read(840, 32).rstrip(b"\0").decode()
        (size,) = struct.unpack(">I", read(872, 2))
        content = b""
        for first in range(0, size, 240):
            ask(struct.pack(">BHHBI", 16, 914, 2, 4, first))
            assert struct.unpack(">I", read(876, 2)) == (first,)
            content += read(880, 120)
        return name, content[:size]


def check_events(leitwerk):
    """What the library finds in each waveform is what the analyzer has found by itself."""
    folder = Store("recordings").files_folder("PA-0117")
    listed = pd.read_csv(next(folder.glob("*-events.csv")), parse_dates=["begin"])
    listed["begin"] = listed["begin"].dt.tz_localize("Europe/Vienna")
    own = listed[listed["kind"] != "alarm"]
    assert sorted(own["kind"]) == ["dip", "dip", "inrush", "interruption", "swell", "transient"]
    found = []
    for path in sorted(folder.glob("*.wav")):
        evaluated = leitwerk("waveforms", "it.yaml", str(path), "--json")
        assert evaluated.exit_code == 1, evaluated.output
        found += [
            event
            for event in json.loads(evaluated.stdout)["events"]
            if event["kind"] != "transient" or "transient" in path.name
        ]
    for kind, own_of_kind in own.groupby("kind"):
        library = [event for event in found if event["kind"] == kind]
        if kind == "inrush":  # the analyzer has one for all phases
            library = [max(library, key=lambda event: event["extreme"])]
        assert len(library) == len(own_of_kind), kind
        for row, event in zip(own_of_kind.itertuples(), library, strict=True):
            assert abs(row.begin.timestamp() - event["begin_s"]) < 0.021
            assert abs(row.duration_s - event["duration_s"]) < 0.041
            assert event["extreme"] == pytest.approx(row.extreme, rel=0.05, abs=0.5)
    summary = leitwerk("summary", "PA-0117", "--setup", "it.yaml").stdout
    assert "dips, 70 > u >= 40 %, to 0.5 s: 1\n" in summary
    assert "interruptions: 1 short, 0 long\n" in summary
    assert "2 flagged and left out" in summary
    assert "bought, day: " in summary


@pytest.mark.process
def test_a_week_of_ulme(leitwerk, tmp_path, monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "5206")
    with lw.start_standin("ulme-3p", "--time-factor", "200000") as standin:
        bring_in(leitwerk, standin, "saw-supply", 7 * 24.0, tmp_path, monkeypatch)
        name, content = file_by_hand(standin.address, 1)
    assert (Store("recordings").files_folder("PA-0117") / name).read_bytes() == content
    report = leitwerk(
        "report", "PA-0117", "--setup", "it.yaml", "--kind", "supply", "--to", "week.csv"
    )
    assert (report.exit_code, "passed" in report.stdout) == (0, True), report.output
    check_events(leitwerk)
    frame, text = frame_of("PA-0117"), (tmp_path / "week.csv").read_text("utf-8")
    rows = [line.split(",") for line in text.splitlines() if line.startswith('"voltage, 95 %",u2')]
    counted, within = int(rows[0][8]), int(rows[0][10])
    # A sag of an hour and a half: below 207 V, and above 195.5 V. A row stands across two ticks.
    assert (frame["flagged as stored"] > 0).sum() == 2  # the half-hour of events
    low = int((frame["u2"] < 207).sum())
    assert (low, abs(counted - within - low) <= 1, (frame["u2"] > 195.5).all()) == (9, True, True)
    energy = leitwerk(
        "report", "PA-0117", "--setup", "it.yaml", "--kind", "energy", "--to", "e.csv"
    )
    assert energy.exit_code == 0, energy.output
    bought = frame["p"].clip(lower=0).sum() / 6.0
    totals = (tmp_path / "e.csv").read_text("utf-8").partition("\ntotals\n")[2].partition("\n\n")[0]
    assert sum(float(line.split(",")[3]) for line in totals.splitlines()[1:]) == pytest.approx(
        bought
    )


@pytest.mark.process
def test_a_station_sends_its_rows_and_gives_up_what_is_kept(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    with lw.start_standin("laerche", "--time-factor", "10000") as standin:
        path = tmp_path / "hw.yaml"
        path.write_text(example("head-water", standin.address), "utf-8")
        assert leitwerk("request", "hw.yaml").exit_code in {0, 1}
        for words in ((), ("--store", "--erase"), ("--store", "--only", "1")):
            assert (
                leitwerk("fetch", "hw.yaml", *words).exit_code == 2
            )  # a store is needed; not for a station
        kept, end = [], time.monotonic() + PATIENCE_S
        while sum(entry["new"] for entry in kept) < 150:
            assert time.monotonic() < end
            got = leitwerk("fetch", "hw.yaml", "--store", "--for", "4 s", "--json")
            kept += json.loads(got.stdout) if got.exit_code == 0 else []
        listed = leitwerk("fetch", "hw.yaml", "--list")
        assert "sent: rows" in listed.stdout or "no new rows" in listed.stderr, listed.output
        link = StationLink(
            standin.address, "laerche", serial="BS-0031", options=lw.LinkOptions(5.0)
        )
        number = link.rows().first
        link.close()
    assert number > 0  # it has given up what was kept
    assert all(entry["lost"] == 0 for entry in kept)
    times = Store("recordings").read("BS-0031").times_s
    assert times.size == sum(entry["new"] for entry in kept)
    np.testing.assert_allclose(np.diff(times), 300.0)
    report = leitwerk("report", "BS-0031", "--setup", "hw.yaml", "--to", "month.html")
    assert "Limits" in (tmp_path / "month.html").read_text("utf-8"), report.output


class Sends:
    """A link to a station that sends these rows; what it is told is kept."""

    def __init__(self, *messages):
        self.messages, self.told = list(messages), []

    def rows(self, after=-1, wait_s=0.0):
        del wait_s
        found = self.messages[0] if self.messages else None
        if found is not None and found.first + len(found.times_s) > after:
            return found
        return None

    def confirm(self, before):
        self.told.append(before)
        self.messages.pop(0)


def message(first, times, pressure=930.0):
    rows = StationRows(
        first, ("pressure",), ("hPa",), tuple(times), tuple((pressure,) for _ in times)
    )
    return parse_rows(build_rows("urn:dev:x", rows))


def test_rows_that_are_lost_are_told_and_a_station_that_counts_anew(tmp_path):
    begin = 1_772_438_400.0004  # the store has whole milliseconds
    link = Sends(
        message(10, [begin, begin + 300]),
        message(11, [begin + 300, begin + 600]),  # one of them again
        message(15, [begin + 1500]),  # two were overwritten
        message(0, [begin + 9000, begin + 9300]),  # it was reset
    )
    unused = StationLink(parse_address("mqtt+tcp://127.0.0.1:1"), "laerche")
    device = Device(lw.find_datasheet("laerche"), unused)
    device.link, device._identity = link, Identity("T", "laerche", "BS-1", "1")
    device.identify = lambda: device._identity
    found = list(keep_rows(device, RecordedWith({}, None), Store(tmp_path / "s")))
    assert [(k.rows, k.lost, k.anew) for k in found] == [
        (2, 0, False), (1, 0, False), (1, 2, False), (2, 0, True),
    ]  # fmt: skip
    assert link.told == [12, 13, 16, 2]
    assert "2 rows before them were overwritten" in str(found[2])
    assert Store(tmp_path / "s").read("BS-1").times_s.size == 6


@pytest.mark.parametrize("dies_in", ["append", "keep_note", "confirm"])
def test_ended_at_any_step_no_row_is_lost_or_twice(tmp_path, monkeypatch, dies_in):
    begin, store = 1_772_438_400.0, Store(tmp_path / "s")
    link = Sends(message(3, [begin, begin + 300]))
    unused = StationLink(parse_address("mqtt+tcp://127.0.0.1:1"), "laerche")
    device = Device(lw.find_datasheet("laerche"), unused)
    device.link, device.identify = link, lambda: Identity("T", "laerche", "BS-1", "1")

    def dies(*_):
        raise SystemExit

    place = {"append": Store, "confirm": Sends}.get(dies_in, "leitwerk.recordings.station_rows")
    with monkeypatch.context() as patch:
        patch.setattr(
            *((place, dies_in) if dies_in != "keep_note" else (f"{place}.{dies_in}",)), dies
        )
        with pytest.raises(SystemExit):
            list(keep_rows(device, RecordedWith({}, None), store))
    list(keep_rows(device, RecordedWith({}, None), store))
    assert store.read("BS-1").times_s.tolist() == [begin, begin + 300]


def test_rows_as_the_guide_describes_them():
    rows = parse_rows(
        b"""[{"bn": "urn:dev:x/", "bt": 1772438400, "n": "row", "v": 7},
             {"n": "temperature", "u": "Cel", "t": 0, "v": 5.25}, {"n": "level", "u": "m", "t": 0, "v": 1.4},
             {"n": "level", "u": "m", "t": 300, "v": 1.41}]"""
    )
    assert (rows.first, rows.names, rows.units) == (7, ("temperature", "level"), ("Cel", "m"))
    assert rows.times_s == (1772438400.0, 1772438700.0)
    assert rows.values == ((5.25, 1.4), (None, 1.41))


@pytest.mark.parametrize(
    ("payload", "says"),
    [
        (b"[]", "do not say which they are"),
        (b'[{"n":"row","v":1},{"n":"a","vs":"x","t":2e9}]', "is not a number"),
        (b'[{"n":"row","v":1},{"n":"a","v":1,"t":2e9},{"n":"a","v":1,"t":1e9}]', "order of time"),
        (b'[{"n":"row","v":1},{"n":"a","v":1,"t":2e9,"u":"m"},{"n":"a","v":1,"t":2.1e9}]', "two units"),
        (b'[{"n":"row","v":1},{"n":"a","v":1,"t":5}]', "order of time"),
    ],
)  # fmt: skip
def test_rows_of_a_station_that_cannot_be(payload, says):
    with pytest.raises(lw.LinkError, match=says):
        parse_rows(payload)
