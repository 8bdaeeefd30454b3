"""Uploads interrupted at every single request, by every kind of end, and what becomes of them."""

import contextlib
import hashlib
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
from datetime import UTC, datetime
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import PASSWORDS, MemoryLink, SteppedTime, checked, example, kept, kiln, kiln_text
from leitwerk.project.clock import Clock
from leitwerk.project.inventory import FILE, Inventory
from leitwerk.project.kept import device_folder
from leitwerk.standins.charger import Charger
from leitwerk.standins.firmware import Refusal, RefusedError
from leitwerk.standins.logger import Logger
from leitwerk.standins.profile import find_profile
from leitwerk.transfer.history import read_history
from leitwerk.transfer.recover import RecoveryState, inspect_interrupted, unfinished

STATION_PASSWORDS = {"operator": "2208"}


def logger_case(sheet):
    from leitwerk.standins.plant import Plant

    return Logger(sheet, find_profile("fichte-8"), Plant(), SteppedTime()), kiln(), PASSWORDS


def charger_case(sheet):
    setup = checked(example("station", "modbus+tcp://127.0.0.1:9?unit=5"))
    return Charger(sheet, find_profile("linde"), SteppedTime()), setup, STATION_PASSWORDS


CASES = {"fichte-8": logger_case, "linde": charger_case}


class Killed(BaseException):
    """The process ends here: nothing that would tidy up is run any more."""


class FatalLink(MemoryLink):
    """A link on which the process dies, or the power of the device fails, at one request."""

    def __init__(self, firmware, at, end):
        super().__init__(firmware)
        self.at, self.end = at, end

    def _do(self, request):
        if len(self.requests) == self.at:
            if self.end == "power" and hasattr(request, "words"):
                self.logger.lose_power(request.start, list(request.words))
            if self.end == "killed after":
                super()._do(request)
            if self.end == "power":
                self.requests.append(str(request))
                raise lw.LinkTimeout("no answer")
            raise Killed
        if self.end == "power" and len(self.requests) > self.at:
            self.requests.append(str(request))
            raise lw.LinkTimeout("no answer")
        return super()._do(request)


@pytest.mark.parametrize("undo", [False, True], ids=["finish", "undo"])
@pytest.mark.parametrize("end", ["killed before", "killed after", "power"])
@pytest.mark.parametrize("model", CASES)
def test_cut_at_every_request_then_recovered(tmp_path_factory, model, end, undo, record_property):
    sheet, cuts = lw.find_datasheet(model), 0
    firmware, setup, passwords = CASES[model](sheet)
    old = list(firmware.holding)
    options = lw.UploadOptions(tmp_path_factory.mktemp("k"), passwords)
    lw.upload(setup, lw.Device(sheet, MemoryLink(firmware)), options)
    new = list(firmware.holding)
    while True:
        keep = tmp_path_factory.mktemp("k")
        firmware, setup, passwords = CASES[model](sheet)
        try:
            options = lw.UploadOptions(keep, passwords)
            lw.upload(setup, lw.Device(sheet, FatalLink(firmware, cuts, end)), options)
        except (Killed, lw.LeitwerkError):
            pass
        else:
            break
        cuts += 1
        again = lw.Device(sheet, MemoryLink(firmware))
        try:
            journal = unfinished(keep, setup.setup.device.serial)
        except lw.FileProblem:
            # Nothing to recover: then nothing is half.
            assert firmware.holding in (old, new)
            continue
        found = inspect_interrupted(journal, again).found
        assert (found is RecoveryState.OLD) == (firmware.holding == old)
        assert (found is RecoveryState.NEW) == (firmware.holding == new)
        lw.recover(journal, again, lw.UploadOptions(keep, passwords), undo=undo)
        assert firmware.holding == (old if undo else new)
        with pytest.raises(lw.FileProblem, match="no upload to this device was interrupted"):
            unfinished(keep, setup.setup.device.serial)
    record_property("cut points", f"{model}, {end}: {cuts}")
    assert cuts >= 9


def first_write(sheet):
    """Which request of an upload to linde is the first that writes settings."""
    firmware, setup, passwords = charger_case(sheet)
    device = lw.Device(sheet, MemoryLink(firmware))
    with tempfile.TemporaryDirectory() as keep:
        lw.upload(setup, device, lw.UploadOptions(keep, passwords))
    writes = [k for k, text in enumerate(device.link.requests) if text.startswith("write")]
    return writes[1]  # the one before it is the login


def test_the_same_upload_again_goes_on_and_undo_still_knows_the_first_settings(tmp_path):
    sheet = lw.find_datasheet("linde")
    firmware, setup, passwords = charger_case(sheet)
    old = list(firmware.holding)
    at = first_write(sheet)
    for _ in range(2):
        with pytest.raises(Killed):
            lw.upload(setup, lw.Device(sheet, FatalLink(firmware, at, "killed after")),
                      lw.UploadOptions(tmp_path, passwords))  # fmt: skip
    assert firmware.holding != old
    device = lw.Device(sheet, MemoryLink(firmware))
    lw.recover(
        unfinished(tmp_path, "4711"), device, lw.UploadOptions(tmp_path, passwords), undo=True
    )
    assert firmware.holding == old


def test_another_upload_is_refused_until_the_broken_one_is_settled(tmp_path):
    sheet = lw.find_datasheet("linde")
    firmware, setup, passwords = charger_case(sheet)
    with pytest.raises(Killed):
        lw.upload(setup, lw.Device(sheet, FatalLink(firmware, first_write(sheet), "killed after")),
                  lw.UploadOptions(tmp_path, passwords))  # fmt: skip
    device = lw.Device(sheet, MemoryLink(firmware))
    other = checked(setup.setup.source.content.decode().replace("80 A·h", "90 A·h"))
    before = list(firmware.holding)
    with pytest.raises(lw.UploadError, match="an earlier upload to this device was interrupted"):
        lw.upload(other, device, lw.UploadOptions(tmp_path, passwords))
    assert firmware.holding == before


def kill_at(upload_of, path, writes):
    """An upload as a process of its own, killed after so many write requests have begun."""
    code = (
        "import os, signal, sys, leitwerk.links.modbus as m\n"
        "real, count = m.ModbusLink.write, 0\n"
        "def write(self, request):\n"
        "    global count\n"
        "    count += 1\n"
        "    if count > int(sys.argv[1]): os.kill(os.getpid(), signal.SIGKILL)\n"
        "    return real(self, request)\n"
        "m.ModbusLink.write = write\n"
        "from leitwerk.cli import main\n"
        "main(sys.argv[2:])\n"
    )
    words = [sys.executable, "-c", code, str(writes), "upload", str(path)]
    environment = {**os.environ, "LEITWERK_PASSWORD_OPERATOR": upload_of}
    return subprocess.run(words, env=environment, capture_output=True, check=False).returncode


@pytest.mark.process
@pytest.mark.parametrize("how", ["--finish", "--undo"])
def test_a_killed_process_leaves_what_the_command_recovers(leitwerk, tmp_path, monkeypatch, how):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "2208")
    path = tmp_path / "station.yaml"
    with lw.start_standin("linde") as one:
        path.write_text(example("station", one.address), encoding="utf-8")
        with lw.connect(lw.read_setup(path)) as device:
            old = device.read_settings()
            assert kill_at("2208", path, 2) == -signal.SIGKILL
            assert device.read_settings() != old
            told = leitwerk("recover", str(path))
            assert (told.exit_code, "some of the settings are the old ones" in told.stdout) == (
                1,
                True,
            )
            assert leitwerk("recover", str(path), how).exit_code == 0
            plan = leitwerk("upload", str(path), "--plan")
            assert (plan.exit_code == 0) == (how == "--finish")
            assert (device.read_settings() == old) == (how == "--undo")
    assert "no upload to this device was interrupted" in leitwerk("recover", str(path)).stderr


@pytest.mark.process
def test_two_uploads_at_once_do_not_mix(standin, tmp_path):
    address = standin("--slow", "0.01").address
    setups = [
        checked(kiln_text(address).replace("every 10 s", every))
        for every in ("every 20 s", "every 30 s")
    ]
    ends = []

    def carry(setup):
        with lw.connect(setup) as device:
            try:
                folder = tmp_path / str(setup.setup.sample).replace(" ", "")
                lw.upload(setup, device, kept(folder, wait_s=0.0))
                ends.append(None)
            except lw.DeviceInUse as error:
                ends.append(error)

    threads = [threading.Thread(target=carry, args=(setup,)) for setup in setups]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(end is None for end in ends) == [False, True]
    assert "another program is writing to fichte-8 K2-00417" in str(next(filter(None, ends)))


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"{", "is not a journal, or damaged"), (b"[]", "is not a journal"),
        (b"\xff\xfe", "is not a journal"),
        (b'{"journal": 2}', "is a journal of version 2"),
        (b'{"journal": 1, "what": {"kind": "raze"}}', "is not a journal"),
    ],
)  # fmt: skip
def test_a_journal_that_cannot_be_used_stops_everything_and_stays(device, tmp_path, content, says):
    folder = device_folder(tmp_path, "K2-00417")
    folder.mkdir()
    (folder / "journal.json").write_bytes(content)
    with pytest.raises(lw.UploadError, match=says):
        lw.upload(kiln(), device, kept(tmp_path))
    assert (folder / "journal.json").read_bytes() == content
    assert not any(text.startswith("write") for text in device.link.requests)


def test_no_room_for_a_journal_means_no_write(device, tmp_path, monkeypatch):
    from leitwerk.transfer import journal

    def full(path, _):
        raise lw.FileProblem(f"cannot write {path}: No space left on device")

    monkeypatch.setattr(journal, "write_atomic", full)
    with pytest.raises(lw.UploadError, match="No space left") as caught:
        lw.upload(kiln(), device, kept(tmp_path))
    assert caught.value.state.startswith("unchanged")
    assert [t for t in device.link.requests if t.startswith("write")] == [
        "write holding 900..901", "write holding 900..901",
    ]  # fmt: skip


def test_receipts_are_chained_and_a_changed_one_shows(device, tmp_path):
    for every in ("every 20 s", "every 30 s", "every 40 s"):
        text = kiln_text().replace("every 10 s", every)
        lw.upload(checked(text), device, kept(tmp_path))
    folder = device_folder(tmp_path, "k2 417")
    history = read_history(folder)
    assert history.whole
    assert [r["changes"][0]["new"] for r in history.receipts][-2:] == [30.0, 40.0]
    files = {json.loads(f.read_text("utf-8"))["previous"]: f for f in folder.glob("*-receipt.json")}
    middle = next(f for f in files.values() if hashlib.sha256(f.read_bytes()).hexdigest() in files
                  and json.loads(f.read_text("utf-8"))["previous"])  # fmt: skip
    content = json.loads(middle.read_text("utf-8"))
    middle.write_text(json.dumps(content | {"by": "somebody else"}), "utf-8")
    assert (
        "follows on a receipt that is not there, or was changed" in read_history(folder).breaks[0]
    )
    middle.unlink()
    assert not read_history(folder).whole


@pytest.mark.process
def test_the_newest_receipt_is_known_elsewhere(standin, leitwerk, kiln_file, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    address = standin().address
    # Another device had this address before.
    inventory = Inventory(FILE)
    inventory.remember(
        lw.Identity("Tannried Instrumente", "fichte-8", "7", "1.0"), address, name="a-former-one"
    )
    path = kiln_file(address)
    none = leitwerk("history", path)
    assert (none.exit_code, "no receipts of the device with serial" in none.stderr) == (1, True)
    assert leitwerk("upload", path).exit_code == 0
    for device in (path, "fichte-8", str(address), "K2-00417"):
        whole = leitwerk("history", device, "--folder", str(Path(path).parent / "kept"))
        assert (whole.exit_code, "1 receipt; the chain is complete" in whole.stderr) == (0, True)
    newest = next((Path(path).parent / "kept").glob("*/*-receipt.json"))
    newest.unlink()
    gone = leitwerk("history", path)
    assert (gone.exit_code, "the newest receipt that the inventory knows" in gone.stderr) == (
        1,
        True,
    )


def test_a_backup_is_restored(device, logger, tmp_path):
    old = list(logger.holding)
    lw.upload(kiln(), device, kept(tmp_path))
    (backup,) = device_folder(tmp_path, "K2-00417").glob("*-backup.json")
    receipt = lw.restore(backup, device, kept(tmp_path))
    assert logger.holding == old
    assert (receipt.source.kind, len(receipt.changes)) == ("restore", 48)
    for bad in ("{", '{"backup": 1}', '{"backup": 7}', "[]"):
        backup.write_text(bad, "utf-8")
        with pytest.raises(lw.FileProblem, match="is not a backup"):
            lw.restore(backup, device, kept(tmp_path))


def test_a_folder_that_goes_away_or_is_closed_loses_nothing(device, logger, tmp_path):
    old = list(logger.holding)
    keep = tmp_path / "kept"

    def gone(step, done, total):
        if step == "keep a backup" and done == total:
            shutil.rmtree(keep)
            keep.write_text("a file where the folder was")

    with pytest.raises(lw.UploadError, match="journal") as caught:
        lw.upload(kiln(), device, kept(keep, on_progress=gone))
    assert caught.value.state.startswith("unchanged")
    assert logger.holding == old
    with pytest.raises(lw.UploadError, match="cannot write"):
        lw.upload(kiln(), device, kept("/proc/nowhere"))
    assert logger.holding == old


def test_when_only_the_receipt_cannot_be_kept_the_state_says_so(device, tmp_path, monkeypatch):
    from leitwerk.transfer.receipt import KeptFiles

    def full(*_):
        raise lw.FileProblem("cannot write it: No space left on device")

    monkeypatch.setattr(KeptFiles, "write_receipt", full)
    with pytest.raises(lw.UploadError, match="No space left") as caught:
        lw.upload(kiln(), device, kept(tmp_path))
    assert caught.value.state.startswith(
        "it works with the new settings, and they have been verified"
    )


def test_a_clock_that_was_set_back_changes_no_order(device, tmp_path):
    times = iter(datetime(2026, 3, day, tzinfo=UTC) for day in (9, 9, 2, 2, 5, 5))
    for every in ("every 20 s", "every 30 s", "every 40 s"):
        text = kiln_text().replace("every 10 s", every)
        clock = Clock(now=lambda: next(times))
        lw.upload(checked(text), device, kept(tmp_path, clock=clock))
    history = read_history(device_folder(tmp_path, "K2-00417"))
    assert history.whole
    assert [r["started"][:10] for r in history.receipts] == [
        "2026-03-09",
        "2026-03-02",
        "2026-03-05",
    ]


POINTS = lw.find_datasheet("fichte-8").settings
WRITABLE = sorted(n for n, p in POINTS.items() if not p.read_only and p.role == "")


@given(names=st.sets(st.sampled_from(WRITABLE), min_size=1, max_size=60))
def test_an_upload_takes_the_fewest_requests_for_what_it_changes(names):
    """MODBUS Application Protocol V1.1b3, 6.12: at most 123 registers, one after the other."""
    registers = sorted(r for n in names for r in range(POINTS[n].start, POINTS[n].end))
    runs = [[registers[0]]]
    for before, after in pairwise(registers):
        if after == before + 1:
            runs[-1].append(after)
        else:
            runs.append([after])
    sheet = lw.find_datasheet("fichte-8")
    link = MemoryLink(logger_case(sheet)[0])
    device = lw.Device(sheet, link)
    values = {n: POINTS[n].decode((0,) * POINTS[n].words) for n in names}
    values = {
        n: v if not str(v).startswith("code") else POINTS[n].choices[0][0]
        for n, v in values.items()
    }
    device.log_in("operator", PASSWORDS["operator"])
    link.requests.clear()
    assert device.count_writes(values) == device.write_settings(values) == len(link.requests)
    # A value is not torn: a run of more than one request may then need one more.
    fewest = sum(-(-len(run) // 123) for run in runs)
    spare = sum(len(run) > 123 for run in runs)
    assert fewest <= len(link.requests) <= fewest + spare


@pytest.mark.process
@pytest.mark.parametrize(
    ("model", "name", "password", "least"),
    [("fichte-8", "kiln", "1834", 36), ("linde", "station", "2208", 10)],
)
def test_a_process_killed_at_every_request_is_recovered_from(
    tmp_path, record_property, model, name, password, least
):
    """SIGKILL: nothing tidies up. Over a real socket, to a device with and one without a commit."""
    path = tmp_path / f"{name}.yaml"
    with lw.start_standin(model) as one:
        path.write_text(example(name, one.address), encoding="utf-8")
        program = str(Path(__file__).with_name("killing.py"))
        done = subprocess.run(
            [sys.executable, program, str(path), password],
            capture_output=True,
            text=True,
            check=False,
        )
    assert done.returncode == 0, done.stderr
    record_property("cut points", f"{model}, SIGKILL: {done.stdout.strip()}")
    assert int(done.stdout) >= least


@pytest.mark.parametrize("undo", [False, True], ids=["finish", "undo"])
def test_an_undo_that_is_cut_off_itself_can_only_go_back(tmp_path_factory, undo):
    sheet = lw.find_datasheet("linde")
    for cut in range(40):
        keep = tmp_path_factory.mktemp("k")
        firmware, setup, passwords = charger_case(sheet)
        old = list(firmware.holding)
        options = lw.UploadOptions(keep, passwords)
        link = FatalLink(firmware, first_write(sheet) + 1, "killed after")
        with pytest.raises(Killed):
            lw.upload(setup, lw.Device(sheet, link), options)
        journal = unfinished(keep, "4711")
        try:
            dying = lw.Device(sheet, FatalLink(firmware, cut, "killed before"))
            lw.recover(journal, dying, options, undo=True)
        except Killed:
            again = unfinished(keep, "4711")
            begun = again.source.kind == "undo"
            device = lw.Device(sheet, MemoryLink(firmware))
            lw.recover(again, device, options, undo=undo or not begun)
            assert firmware.holding == old
        else:
            assert cut > 8
            break


def test_an_attempt_that_is_refused_leaves_the_journal_of_the_one_before(tmp_path):
    sheet = lw.find_datasheet("linde")
    firmware, setup, passwords = charger_case(sheet)
    old = list(firmware.holding)
    options = lw.UploadOptions(tmp_path, passwords)
    with pytest.raises(Killed):
        lw.upload(
            setup,
            lw.Device(sheet, FatalLink(firmware, first_write(sheet), "killed after")),
            options,
        )
    device = lw.Device(sheet, MemoryLink(firmware))
    real = firmware.write

    def refuse(start, words):
        if start < 80:
            raise RefusedError(Refusal.BAD_VALUE)
        real(start, words)

    firmware.write = refuse
    with pytest.raises(lw.UploadError):
        lw.upload(setup, device, options)
    firmware.write = real
    lw.recover(unfinished(tmp_path, "4711"), device, options, undo=True)
    assert firmware.holding == old


@pytest.mark.parametrize("undo", [False, True], ids=["finish", "undo"])
def test_a_recording_that_a_killed_upload_had_stopped_runs_again(tmp_path_factory, sheet, undo):
    """Killed at every request: what was recording before does so in the end."""
    for cut in range(60):
        firmware, setup, _ = logger_case(sheet)
        firmware.record()
        keep = tmp_path_factory.mktemp("k")
        options = kept(keep, stop_recording=True, discard_recordings=True)
        try:
            lw.upload(setup, lw.Device(sheet, FatalLink(firmware, cut, "killed after")), options)
        except Killed:
            with contextlib.suppress(lw.FileProblem):  # killed before it had begun
                journal = unfinished(keep, "K2-417")
                device = lw.Device(sheet, MemoryLink(firmware))
                lw.recover(journal, device, options, undo=undo)
            assert firmware.recording_since_s is not None, f"killed at {cut}"
        else:
            assert cut > 36
            break


@pytest.mark.parametrize("heard", [False, True], ids=["before", "after"])
def test_a_recording_runs_again_also_when_somebody_interrupts(tmp_path_factory, sheet, heard):
    """Interrupted at every request, before or after the device has heard it; the link works on."""

    class Interrupted(MemoryLink):
        cut = 0

        def _do(self, request):
            if len(self.requests) == self.cut:
                self.cut = -1
                if heard:
                    super()._do(request)
                else:
                    self.requests.append(str(request))
                raise KeyboardInterrupt
            return super()._do(request)

    for cut in range(60):
        firmware, setup, _ = logger_case(sheet)
        firmware.record()
        link = Interrupted(firmware)
        link.cut = cut
        options = kept(tmp_path_factory.mktemp("k"), stop_recording=True, discard_recordings=True)
        said = ""
        try:
            lw.upload(setup, lw.Device(sheet, link), options)
        except (KeyboardInterrupt, lw.UploadError) as error:
            said = f"at {cut}: {error}"
        if firmware.recording_since_s is None:  # by which settings it would run is not proven
            assert "has not been started again" in said
            assert "unknown" in said or "have not been verified" in said
        if not said:
            assert cut > 36
            break


def test_what_another_program_left_staged_is_dropped_and_named(device, logger, tmp_path):
    receipt = lw.upload(kiln(), device, kept(tmp_path))
    assert not receipt.remarks
    point = device.datasheet.settings["sample.interval"]
    logger.staged.update(zip(range(point.start, point.end), point.encode(99.0), strict=True))
    receipt = lw.upload(kiln(), device, kept(tmp_path))
    assert "2 registers that another program had written and not committed were dropped" in str(
        receipt
    )
    device.log_in("operator", PASSWORDS["operator"])
    device.command("commit")
    assert device.read_settings().values["sample.interval"] == 10.0


def test_a_foreign_change_after_an_interrupted_upload_is_told(tmp_path):
    sheet = lw.find_datasheet("linde")
    firmware, setup, passwords = charger_case(sheet)
    link = FatalLink(firmware, 0, "killed before")
    device, options = lw.Device(sheet, link), kept(tmp_path, passwords=passwords)
    for at in range(40):
        link.at = len(link.requests) + at
        with contextlib.suppress(Killed):
            lw.upload(setup, device, options)
        if list(tmp_path.glob("*/journal.json")):
            break
    link.at = -1
    journal = unfinished(tmp_path, "4711")
    other = next(n for n in ("load.reconnect", "load.disconnect") if n not in journal.new)
    device.log_in("operator", passwords["operator"])
    device.write_settings({other: 11.5})
    found = inspect_interrupted(journal, device)
    assert f"changed by somebody else: {other} is 11.5" in str(found)
    receipt = lw.recover(journal, device, options, undo=False)
    assert f"{other} was changed by somebody else" in str(receipt)
    assert "all as asked, but see the remarks" in str(receipt)
    assert device.read_settings().values[other] == 11.5
