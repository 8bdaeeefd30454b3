"""A transmitter that the code has never seen: its server is written from a manual page."""

import contextlib
import shutil
from pathlib import Path

import pytest
from erle import SERIAL, Erle
from scenes import EACH_CUT

import leitwerk as lw

HERE = Path(__file__).parent
PASSWORDS = {"operator": "4711"}
# By the manual page: type, values at 4 and 20 mA, alarms in tenths, delay, eight letters.
SHED = [1, 0, 1000, 600, 20, 20, 0x5368, 0x6564, 0x2020, 0x2020]
# A line through 6 mA: 10 % and 18 mA: 70 % has 0 % at 4 mA and 80 % at 20 mA.
STEAM = [0xA3, 0, 800, 650, 0x8000, 0, 0x5374, 0x6561, 0x6D20, 0x2020]


@pytest.fixture
def device(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "datasheets").mkdir()
    shutil.copy(HERE / "erle.yaml", tmp_path / "datasheets" / "the four-input one.yaml")
    with Erle() as found:
        text = (HERE / "erle-setup.yaml").read_text("utf-8").replace(":5020", f":{found.port}")
        (tmp_path / "shed.yaml").write_text(text, "utf-8")
        found.signals = {1: 215, 3: 401}
        yield found


def in_force(device):
    return {n: [device.holding[91 + 10 * n + k] for k in range(10)] for n in range(1, 5)}


def upload():
    setup = lw.read_setup("shed.yaml")
    with lw.connect(setup) as found:
        return lw.upload(setup, found, lw.UploadOptions("kept", PASSWORDS))


def test_the_whole_thread(device, leitwerk, monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", PASSWORDS["operator"])
    before = in_force(device)
    assert leitwerk("datasheet", "datasheets/the four-input one.yaml").exit_code == 0
    checked = leitwerk("check", "shed.yaml")
    # Its delay is another than that of the alarm above, and the input has one for both.
    assert (checked.exit_code, "does not watch steam.low itself" in checked.stdout) == (0, True)
    receipt = leitwerk("upload", "shed.yaml")
    assert receipt.exit_code == 0, receipt.output
    assert f"serial number {SERIAL}, firmware 2.13" in receipt.stdout
    assert in_force(device) == {**before, 1: SHED, 3: STEAM}
    assert (device.holding[201], device.wrong) == (8, 0)
    live = leitwerk("live", "shed.yaml", "--for", "0.4 s", "--every", "0.2 s")
    assert (live.exit_code, "PASSED: 2 of 2" in live.stdout) == (0, True)
    device.signals[1] = 0x8000
    live = leitwerk("live", "shed.yaml", "--for", "0.4 s", "--every", "0.2 s")
    assert (live.exit_code, "open sensor" in live.stdout) == (1, True)
    assert "2026-11-26 21:03:00" in leitwerk("device", "shed.yaml").stdout

    where = f"modbus+tcp://127.0.0.1:{device.port}?unit=1"
    assert leitwerk("adopt", where, "--to", "as-it-is.yaml").exit_code == 0
    plan = leitwerk("upload", "as-it-is.yaml", "--plan")
    assert (plan.exit_code, "nothing to change" in plan.stdout) == (0, True), plan.output

    backup = str(next(Path("kept").glob("*/*-backup.json")))
    restored = leitwerk("restore", backup, where)
    assert restored.exit_code == 0, restored.output
    # From the factory the delay has a code that cannot be written: the receipt says so.
    assert restored.stdout.count("which the device does not accept") == 2
    for block, known in in_force(device).items():
        assert known == [*before[block][:5], known[5], *before[block][6:]]
    assert device.wrong == 0


def test_a_wrong_password_is_sent_once(device, leitwerk, monkeypatch):
    """Three lock the device; a backup with values that it does not accept is no reason to try again."""
    upload()
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "1111")
    backup = str(next(Path("kept").glob("*/*-backup.json")))
    refused = leitwerk("restore", backup, f"modbus+tcp://127.0.0.1:{device.port}?unit=1")
    assert (refused.exit_code, device.wrong) == (4, 1)


@pytest.mark.parametrize("undo", [False, True])
def test_a_cut_at_every_request_leaves_all_old_or_all_new(device, undo):
    before = in_force(device)
    after = {**before, 1: SHED, 3: STEAM}
    total = 0
    with contextlib.suppress(lw.LeitwerkError):
        upload()
        total = device.requests
    assert total > 10
    for cut in range(1, total + 1, EACH_CUT):
        shutil.rmtree("kept")
        with Erle() as fresh:
            device.staged, device.holding = fresh.staged, dict(fresh.staged)
        device.requests, device.cut_at, device.unlocked = 0, cut, 0
        with contextlib.suppress(lw.LeitwerkError):
            upload()
        assert in_force(device) in (before, after), cut
        device.cut_at = 0
        if undo and (journal := Path("kept", str(SERIAL), "journal.json")).exists():
            with lw.connect(lw.read_setup("shed.yaml")) as found:
                state = lw.unfinished("kept", str(SERIAL))
                lw.recover(state, found, lw.UploadOptions("kept", PASSWORDS), undo=True)
            for block, known in in_force(device).items():  # the factory's delay cannot be written
                assert known == [*before[block][:5], known[5], *before[block][6:]], cut
            assert not journal.exists()
        else:
            upload()
            assert in_force(device) == after, cut
        assert device.wrong == 0


def test_what_another_master_left_staged_is_not_taken_for_what_counts(device):
    """It shows what was written as if it were in force, and does not say that a commit is missing."""
    upload()
    device.holding = dict.fromkeys(
        device.holding, 0
    )  # the same is staged, and something else in force
    receipt = upload()
    assert receipt.changes == ()
    assert device.holding == device.staged
