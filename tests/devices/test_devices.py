"""Devices by name, the page of one, its clock and recordings, and changing its address."""

import json
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import PASSWORDS, MemoryLink, SteppedTime
from leitwerk.datasheet.vocabulary import FIRST_ROW
from leitwerk.devices.clock import ClockZone, read_clock
from leitwerk.devices.readdress import change_name, change_unit
from leitwerk.devices.recordings import fetch_recording, list_recordings
from leitwerk.devices.watchdog import try_watchdog
from leitwerk.identity import same_number
from leitwerk.parsing.address import DeviceName, parse_address
from leitwerk.project.inventory import FILE, resolve_address
from leitwerk.standins.clock import DeviceClock
from leitwerk.standins.flow import FlowTransmitter
from leitwerk.standins.profile import find_profile

AT = parse_address("modbus+rtu:///dev/ttyUSB0?unit=5")
ELSEWHERE = parse_address("modbus+tcp://127.0.0.1:5020?unit=3")
LINDE = lw.Identity("Tannried Instrumente", "linde", "0004711", "2.0")
OTHER = lw.Identity("Tannried Instrumente", "linde", "4712", "2.0")


@pytest.fixture
def here(tmp_path, monkeypatch):
    """An inventory of a project, where the test runs."""
    monkeypatch.chdir(tmp_path)
    inventory = lw.Inventory(FILE)
    inventory.start()
    return inventory


def test_a_device_keeps_its_name_when_its_address_changes(here):
    assert here.remember(LINDE, AT).name == "linde"
    here.rename("linde", "valley")
    spelled = lw.Identity("Tannried Instrumente", "linde", "4-711", "2.1")
    moved = here.remember(spelled, ELSEWHERE) if same_number("4-711", "4711") else None
    assert moved is None  # a separator parts groups of digits: this is another number
    again = here.remember(lw.Identity("T", "linde", "4711", "2.1"), ELSEWHERE)
    assert (again.name, again.address) == ("valley", ELSEWHERE)
    (known,) = here.devices()
    assert (known.identity.firmware, known.address) == ("2.1", ELSEWHERE)
    assert resolve_address(DeviceName("VALLEY")) == ELSEWHERE
    assert resolve_address(AT) == AT


def test_duplicates_and_odd_names_are_refused(here):
    here.remember(LINDE, AT, name="valley")
    assert here.remember(OTHER, ELSEWHERE).name == "linde"
    for act, says in (
        (lambda: here.rename("linde", "Valley"), "'Valley' is the name of linde with serial"),
        (lambda: here.remember(LINDE, AT, name="hill"), "is known as 'valley'"),
        (lambda: here.rename("linde", "no spaces"), "not a name for a device"),
        (lambda: here.rename("linde", "modbus+tcp://x"), "not a name for a device"),
        (lambda: here.find("valey"), "did you mean 'valley'"),
    ):
        with pytest.raises(lw.QuantityError) as caught:
            act()
        assert says in str(caught.value)
    here.forget("valley")
    assert [device.name for device in here.devices()] == ["linde"]


def test_what_is_no_inventory_is_named_and_left_alone(here, leitwerk):
    for content in (b"no database at all, but longer than its header would be" * 20, None):
        if content is None:
            here.path.unlink()
            with closing(sqlite3.connect(here.path)) as connection, connection:
                connection.execute("PRAGMA user_version = 99")
        else:
            here.path.write_bytes(content)
        before = here.path.read_bytes()
        result = leitwerk("devices")
        assert (result.exit_code, "inventory" in result.stderr) == (2, True)
        assert here.path.read_bytes() == before


@given(rows=st.lists(st.tuples(st.text(max_size=9), st.text(max_size=9)), max_size=3))
def test_whatever_stands_in_an_inventory_there_is_no_traceback(tmp_path_factory, rows):
    inventory = lw.Inventory(tmp_path_factory.mktemp("i") / FILE)
    inventory.start()
    with closing(sqlite3.connect(inventory.path)) as connection, connection:
        for k, (address, seen) in enumerate(rows):
            texts = ("m", "m", f"{k}", f"{k}", "f", address, seen)
            connection.execute("INSERT INTO device VALUES (?,?,?,?,?,?,?,?)", (f"d{k}", *texts))
    if rows:
        with pytest.raises(lw.FileProblem):
            inventory.devices()


@pytest.mark.process
def test_names_stand_for_addresses(here, leitwerk, standin, kiln_file):
    address = standin().address
    assert leitwerk("find", str(address), "--remember").exit_code == 0
    leitwerk("devices", "--rename", "fichte-8", "kiln")
    path = kiln_file("kiln")
    assert leitwerk("check", path).exit_code == 0
    assert leitwerk("upload", path).exit_code == 0
    assert leitwerk("live", path, "--for", "0.3 s").exit_code == 0
    seen = json.loads(leitwerk("devices", "--json").stdout)
    assert [(d["name"], d["address"]) for d in seen] == [("kiln", str(address))]
    page = leitwerk("device", "kiln")
    assert "receipt  " in page.stdout
    here.forget("kiln")
    unknown = leitwerk("upload", path)
    assert (unknown.exit_code, "no device named 'kiln' has been seen" in unknown.stderr) == (
        2,
        True,
    )


@pytest.mark.process
@pytest.mark.usefixtures("here")
def test_the_page_of_a_device(leitwerk, standin, kiln_file):
    address = standin("--recordings", "1", "--clock-ahead", "-90").address
    path = kiln_file(address)
    leitwerk("upload", path, "--discard-recordings")
    page = leitwerk("device", path, "--settings")
    text = page.stdout
    assert page.exit_code == 0
    for part in (
        "serial number K2-00417, firmware 1.4", "s slow", "voltage 3.58 V",
        "0 recordings, 0 not fetched", "48 settings changed, 209 verified",
        "channel.1           sensor Pt100, 4-wire; range 0..400 Ω",
        "off                 channel 7, 8, 10..12; alarm 3..12",
    ):  # fmt: skip
        assert part in text, part
    as_json = json.loads(leitwerk("device", str(address), "--set-clock", "--json").stdout)
    assert abs(as_json["clock"]["deviation_s"]) <= 1
    assert len(as_json["settings"]) == 209
    assert leitwerk("device", "modbus+tcp://127.0.0.1:9").exit_code == 3


@pytest.mark.parametrize(
    ("shown", "says"),
    [
        ("2026-03-02 08:40:00", "right"), ("2026-03-02 08:40:50", "50 s fast"),
        ("2026-03-02 06:40:00", "2 hours slow"), ("2026-03-09 08:40:01", "7 days fast"),
        ("code 2613 FFFF 0000", None), ("", None),
    ],
)  # fmt: skip
def test_clocks(shown, says):
    true = datetime(2026, 3, 2, 8, 40, 0, 700_000)  # noqa: DTZ001 - as devices keep it
    zone = ClockZone(lw.find_datasheet("linde"))
    if says is None:
        with pytest.raises(lw.LinkError, match="no time"):
            read_clock(shown, zone, true)
    else:
        assert str(read_clock(shown, zone, true)).endswith(says)


def test_a_clock_is_set_by_whoever_may(device, logger):
    logger.device_clock = DeviceClock(ahead_s=4000.0)
    assert device.clock().deviation_s == pytest.approx(4000, abs=2)
    with pytest.raises(lw.DeviceRefused, match="no user with the right"):
        device.set_clock()
    device.log_in("operator", PASSWORDS["operator"])
    device.set_clock()
    assert abs(device.clock().deviation_s) <= 1
    sheet = lw.find_datasheet("ahorn")
    assert lw.Device(sheet, MemoryLink(logger)).clock() is None


def test_a_recording_is_fetched_window_by_window(device, logger):
    logger.record(rows=25)
    rows = np.array(logger.recordings[0].rows, dtype=np.float32)
    rows[:] = np.arange(rows.size, dtype=np.float32).reshape(rows.shape)
    logger.recordings[0].rows = rows.tolist()
    logger.recording_since_s = None
    (info,) = list_recordings(device)
    assert (info.rows, info.columns, info.interval_s) == (25, 12, 60.0)
    steps = []
    recording = fetch_recording(device, 1, lambda done, total: steps.append((done, total)))
    assert np.array_equal(recording.values, rows)
    assert steps == [(8, 25), (16, 25), (24, 25), (25, 25)]
    assert device.status().unfetched == 0
    with pytest.raises(lw.QuantityError, match=r"valid: 1\.\.1"):
        fetch_recording(device, 2)
    logger._window[FIRST_ROW] = 3
    real = logger.write
    logger.write = lambda start, words: None if start == 911 else real(start, words)
    with pytest.raises(lw.LinkError, match="it shows row 3"):
        fetch_recording(device, 1)


class Bus:
    """Two units at which the same device may answer, and whoever is there already."""

    def __init__(self, device, passwords):
        self.device, self.passwords = device, passwords

    def change(self, unit, serial="K2-417", **more):
        return change_unit(
            self.device, unit, serial=serial, passwords=self.passwords, reach=self.reach, **more
        )

    def reach(self, address):
        link = MemoryLink(self.device.link.logger)
        link.address = address
        if address.unit != link.logger.unit:
            link.fails_at = 0
        return lw.Device(self.device.datasheet, link)


ADMIN = {"administrator": "7261"}


@pytest.fixture
def bus(device, monkeypatch):
    device.link.options = lw.LinkOptions(0.1)
    monkeypatch.setattr(
        "leitwerk.devices.readdress.probe",
        lambda address, *more: taken(address),
    )
    return Bus(device, ADMIN)


def taken(address):
    from leitwerk.devices.presence import Presence

    return Presence.PRESENT if address.unit == 8 else Presence.ABSENT


def test_an_address_is_changed_and_proven(bus):
    moved = bus.change(17)
    assert (moved.old.unit, moved.new.unit, moved.identity.serial) == (3, 17, "K2-00417")
    assert bus.device.link.logger.unit == 17


@pytest.mark.parametrize(
    ("unit", "serial", "passwords", "kind", "says"),
    [
        (17, "K2-418", ADMIN, lw.WrongDevice, "Nothing was written"),
        (8, "K2-417", ADMIN, lw.ReaddressError, "a device answers at"),
        (3, "K2-417", ADMIN, lw.ReaddressError, "its address already"),
        (17, "K2-417", {}, lw.ReaddressError, "wants the password of the administrator"),
        (17, "K2-417", {"administrator": "1"}, lw.ReaddressError, "refuses the password"),
        (17, "K2-417", {"administrator": "1834"}, lw.ReaddressError, "not the administrator's"),
    ],
)
def test_what_a_change_of_address_refuses(bus, unit, serial, passwords, kind, says):
    bus.passwords = passwords
    with pytest.raises(kind) as caught:
        bus.change(unit, serial)
    assert says in str(caught.value)
    assert bus.device.link.logger.unit == 3
    if kind is lw.ReaddressError:
        assert caught.value.address.unit == 3


@pytest.mark.parametrize("deaf", [False, True], ids=["request lost", "answer lost"])
def test_wherever_a_change_breaks_off_the_true_address_is_told(sheet, logger, bus, deaf):
    """Broken off at every request: it says where the device is, and that is where it is."""
    for broken_at in range(40):
        logger.holding[24] = 3
        logger.staged.clear()
        link = MemoryLink(logger)
        link.options, link.fails_at, link.deaf = lw.LinkOptions(0.1), broken_at, deaf
        bus.device = lw.Device(sheet, link)
        try:
            moved = bus.change(17)
        except lw.ReaddressError as error:
            told = error.address.unit
        except lw.LinkError:
            told = 3  # nothing was written yet
        else:
            told = moved.new.unit
            if len(link.requests) <= broken_at:
                break
        assert told == logger.unit
    else:
        pytest.fail("it was never whole")


@pytest.mark.process
def test_a_name_is_changed_in_the_device_and_in_the_inventory(here, leitwerk, standin, device):
    address = str(standin().address)
    here.remember(OTHER, ELSEWHERE, name="taken")
    done = leitwerk("readdress", address, "--serial", "K2-417", "--name", "kiln-2")
    assert done.exit_code == 0
    assert [d.name for d in here.devices()] == ["kiln-2", "taken"]
    assert "name                kiln-2" in leitwerk("device", "kiln-2", "--settings").stdout
    refused = leitwerk("readdress", "kiln-2", "--serial", "K2-417", "--name", "taken")
    assert "'taken' is the name of linde" in refused.stderr
    assert leitwerk("readdress", address, "--serial", "1").exit_code == 2
    long = lw.QuantityError
    with pytest.raises(long, match="characters"):
        change_name(device, "x" * 99, serial="K2-417", passwords=PASSWORDS)


@pytest.mark.process
def test_the_command_changes_an_address_on_a_shared_bus(here, leitwerk, monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "2208")
    with lw.start_standin("linde", "weide", "--bus") as every:
        linde, weide = (str(address) for address in every.addresses)
        moved = leitwerk("readdress", linde, "--to", "9", "--serial", "4711")
        assert "unit=9" in moved.stdout.splitlines()[-1], moved.output
        assert "unit=9" in str(here.find("linde").address)
        taken = leitwerk("readdress", "linde", "--to", "7", "--serial", "4711")
        assert (taken.exit_code, "already; two devices" in taken.stderr) == (4, True)
        assert leitwerk("device", weide).exit_code == 0
    with lw.start_standin("ahorn", "--copies", "2") as every:
        one = str(every.addresses[1])
        assert "unit=z" in leitwerk("readdress", one, "--to", "z", "--serial", "30072").stdout
        again = leitwerk("readdress", one.replace("=1&", "=z&"), "--to", "0", "--serial", "30072")
        assert (again.exit_code, "already" in again.stderr) == (4, True)


def test_times_are_kept_in_utc(here):
    here.remember(LINDE, AT)
    assert datetime.now(UTC) - here.devices()[0].last_seen < timedelta(minutes=1)
    with closing(sqlite3.connect(here.path)) as connection, connection:
        assert connection.execute("SELECT last_seen FROM device").fetchone()[0].endswith("+00:00")


@pytest.mark.parametrize(("after", "works", "passed"), [(30, True, True), (30, False, False)])
def test_a_watchdog_is_tried_by_staying_silent(after, works, passed):
    sheet = lw.find_datasheet("weide")
    firmware = FlowTransmitter(sheet, find_profile("weide"), SteppedTime())
    firmware._set(sheet.settings["watchdog.after"], float(after))
    firmware._set(sheet.settings["watchdog.then"], "outputs to 3.6 mA")
    if not works:
        firmware.tick = lambda: None
    device = lw.Device(sheet, MemoryLink(firmware))
    result = try_watchdog(device, clock=firmware.clock.clock)
    assert (result.outcome == "passed", result.silent_s) == (passed, 31.0)
    assert str(result).startswith("PASSED" if passed else "NOT PASSED")


@pytest.mark.process
def test_what_has_no_watchdog_or_has_it_off(leitwerk, device):
    with pytest.raises(lw.QuantityError, match="no watchdog that could be tried"):
        try_watchdog(device)
    with lw.start_standin("weide") as one:
        off = leitwerk("watchdog", str(one.address))
        assert (off.exit_code, "is switched off" in off.stderr) == (2, True)


@pytest.mark.process
@pytest.mark.usefixtures("here")
def test_looking_at_a_device_fetches_nothing_and_fetching_is_an_act(leitwerk, standin, kiln_file):
    path = kiln_file(standin("--recordings", "2").address)
    for words in (("device", path), ("device", path, "--recordings")):
        assert "2 recordings, 2 not fetched" in leitwerk(*words).stdout
    fetched = leitwerk("fetch", path)
    assert (fetched.exit_code, len(fetched.stdout.splitlines())) == (0, 2)
    assert all(Path(line).exists() for line in fetched.stdout.splitlines())
    assert "2 recordings, 0 not fetched" in leitwerk("device", path).stdout
    for what, says in (
        ("start", "start: done; recording"), ("start", "nothing to do; recording"),
        ("stop", "stop: done; stopped"), ("stop", "nothing to do; stopped"),
    ):  # fmt: skip
        done = leitwerk("record", path, what)
        assert (done.exit_code, done.stdout.strip()) == (0, says)
