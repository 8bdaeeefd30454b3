"""An energy logger that the code has never seen: its server is written from a manual page."""

import contextlib
import shutil
import struct
from pathlib import Path

import pytest
from esche import COUNTS, LARGEST, SERIAL, Esche, low_first
from scenes import EACH_CUT

import leitwerk as lw

HERE = Path(__file__).parent


@pytest.fixture
def device(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "datasheets").mkdir()
    shutil.copy(HERE / "esche.yaml", tmp_path / "datasheets" / "em3.yaml")
    with Esche() as found:
        text = (HERE / "esche-setup.yaml").read_text("utf-8").replace(":5020", f":{found.port}")
        (tmp_path / "water.yaml").write_text(text, "utf-8")
        yield found


def wanted(before):
    full = dict(enumerate(low_first(struct.pack(">f", 120.0)), 232))
    return {**before, 201: 250, **full, 302: 0xA1, 303: 3}


def test_the_whole_thread(device, leitwerk):
    before = dict(device.holding)
    assert leitwerk("check", "water.yaml").exit_code == 0
    receipt = leitwerk("upload", "water.yaml")
    assert receipt.exit_code == 0, receipt.output
    assert f"serial number {SERIAL}" in receipt.stdout
    assert device.holding == wanted(before)
    live = leitwerk("live", "water.yaml", "--for", "0.4 s", "--every", "0.2 s")
    assert (live.exit_code, "PASSED: 3 of 3" in live.stdout) == (0, True), live.output
    with lw.connect(lw.read_setup("water.yaml")) as found:
        readings = found.readings()
    assert {n: readings[f"count.{n}"] for n in COUNTS} == COUNTS
    assert readings["flow.3"] == "no pulses"
    assert (readings["flow.1"], readings["level.4"]) == (36.0, -0.5)
    # The same values, whatever unit and decimals the device is set to.
    device.holding[302], device.holding[303] = 0xA2, 1
    device.levels[1] = 1.2
    with lw.connect(lw.read_setup("water.yaml")) as found:
        assert (found.readings()["flow.1"], found.readings()["level.1"]) == (36.0, 1.2)
        point, decider = (
            found.datasheet.own_readings["flow.1"],
            found.datasheet.settings["flow.unit"],
        )
        assert found.read_points([point, decider])["flow.1"] == 36.0
        device.holding[302] = 0xA1
        assert found.read_points([point, decider])["flow.1"] == 36.0
    device.holding.update(wanted(before))

    where = f"modbus+tcp://127.0.0.1:{device.port}?unit=1"
    assert leitwerk("adopt", where, "--to", "as-it-is.yaml").exit_code == 0
    plan = leitwerk("upload", "as-it-is.yaml", "--plan")
    assert (plan.exit_code, "nothing to change" in plan.stdout) == (0, True), plan.output
    backup = str(next(Path("kept").glob("*/*-backup.json")))
    restored = leitwerk("restore", backup, where)
    assert restored.exit_code == 0, restored.output
    assert device.holding == before
    assert list(before.values()).count(low_first(struct.pack(">f", LARGEST))[1]) == 3


def test_a_cut_at_every_request_is_recovered(device):
    before = dict(device.holding)

    def upload():
        setup = lw.read_setup("water.yaml")
        with lw.connect(setup, link=lw.LinkOptions(1.0)) as found:
            return lw.upload(setup, found, lw.UploadOptions("kept", {}))

    upload()
    total = device.requests
    assert total > 8
    for cut in range(1, total + 1, EACH_CUT):
        shutil.rmtree("kept")
        device.holding = dict(before)
        device.requests, device.cut_at = 0, cut
        with contextlib.suppress(lw.LeitwerkError):
            upload()
        device.cut_at = 0
        if device.holding not in (before, wanted(before)):
            with lw.connect(lw.read_setup("water.yaml")) as found:
                journal = lw.unfinished("kept", str(SERIAL))
                lw.recover(journal, found, lw.UploadOptions("kept", {}), undo=True)
            assert device.holding == before, cut
        upload()
        assert device.holding == wanted(before), cut
