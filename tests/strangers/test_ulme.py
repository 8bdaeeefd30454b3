"""A power meter that the code has never seen: its server is written from a manual page."""

import contextlib
import shutil
from pathlib import Path

import pytest
from scenes import EACH_CUT
from ulme import ENERGY, PASSWORD, Ulme

import leitwerk as lw

HERE = Path(__file__).parent
WANTED = {"SENS:AVER": "16", "SENS:RANG": "H300", "DISP:TEXT": '"SAW, MAIN"', "CALC:LIM": "253"}


@pytest.fixture
def device(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "datasheets").mkdir()
    shutil.copy(HERE / "ulme.yaml", tmp_path / "datasheets" / "power meter.yaml")
    with Ulme() as found:
        text = (HERE / "ulme-setup.yaml").read_text("utf-8").replace(":5020", f":{found.port}")
        (tmp_path / "supply.yaml").write_text(text, "utf-8")
        yield found


def test_the_whole_thread(device, leitwerk, monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", PASSWORD)
    before = dict(device.settings)
    assert leitwerk("check", "supply.yaml").exit_code == 0
    receipt = leitwerk("upload", "supply.yaml", "--trace", "trace.txt")
    assert receipt.exit_code == 0, receipt.output
    assert (device.settings, device.locked, device.wrong) == (WANTED, True, 0)
    assert "2026-11-26 21:03:00" in receipt.stdout
    assert PASSWORD not in Path("trace.txt").read_text("utf-8")
    live = leitwerk("live", "supply.yaml", "--for", "0.4 s", "--every", "0.2 s")
    assert (live.exit_code, "PASSED: 1 of 1" in live.stdout) == (0, True), live.output
    device.voltage = "9.91E37"
    live = leitwerk("live", "supply.yaml", "--for", "0.4 s", "--every", "0.2 s")
    assert (live.exit_code, "0 of 1 expectations met, 1 no reading" in live.stdout) == (1, True)
    with lw.connect(lw.read_setup("supply.yaml")) as found:
        assert found.readings()["energy"] == ENERGY

    where = f"scpi+tcp://127.0.0.1:{device.port}"
    assert leitwerk("device", where, "--set-clock").exit_code == 0
    assert device.clock["SYST:TIME"] != "21,3,0"
    assert "slow" not in leitwerk("device", where).stdout
    adopted = leitwerk("adopt", where, "--to", "as-it-is.yaml")
    assert adopted.exit_code == 0, adopted.output
    plan = leitwerk("upload", "as-it-is.yaml", "--plan")
    assert (plan.exit_code, "nothing to change" in plan.stdout) == (0, True), plan.output
    backup = str(next(Path("kept").glob("*/*-backup.json")))
    restored = leitwerk("restore", backup, where)
    assert restored.exit_code == 0, restored.output
    # From the factory the average is 0, which cannot be written; the receipt says so.
    assert "averaging: it had 0, which the device does not accept" in restored.stdout
    assert device.settings == {**before, "SENS:AVER": "16"}
    assert device.locked


def test_a_cut_at_every_message_is_told_and_recovered(device):
    options = lw.UploadOptions("kept", {"operator": PASSWORD})

    def upload():
        setup = lw.read_setup("supply.yaml")
        with lw.connect(setup, link=lw.LinkOptions(1.0)) as found:
            return lw.upload(setup, found, options)

    factory = dict(device.settings)
    upload()
    total = device.messages
    for cut in range(1, total + 1, EACH_CUT):
        shutil.rmtree("kept")
        device.settings, device.errors = dict(factory), []
        device.messages, device.cut_at = 0, cut
        with contextlib.suppress(lw.LeitwerkError):
            upload()
        device.cut_at = 0
        if device.settings not in (factory, WANTED):
            assert Path("kept", "PM-0042", "journal.json").exists(), cut
        upload()
        assert device.settings == WANTED, cut
