"""Uploads, most of them to a logger without a socket, where every step can be made to fail."""

import json
from pathlib import Path

import pytest

import leitwerk as lw
from conftest import PASSWORDS, MemoryLink, checked, example, kept, kiln, kiln_text
from leitwerk.standins.firmware import Refusal, RefusedError
from leitwerk.standins.logger import Logger


def carry(device, tmp_path, **more):
    return lw.upload(kiln(), device, kept(tmp_path / "kept", **more))


def test_an_upload_writes_only_what_differs_and_keeps_backup_and_receipt(device, tmp_path):
    steps = []
    receipt = carry(device, tmp_path, by="Ida", on_progress=lambda *step: steps.append(step))

    assert (len(receipt.changes), receipt.requests) == (48, 17)
    assert steps[0] == ("identify the device", 0, 1)
    assert ("write what differs", 17, 17) in steps
    (folder,) = (tmp_path / "kept").iterdir()
    assert folder.name == "K2-00417"
    backup, as_json, as_text = sorted(folder.iterdir())
    before = json.loads(backup.read_text("utf-8"))["settings"]
    assert (before["title"], before["sample.interval"]) == ("fichte-8", 60)
    kept = json.loads(as_json.read_text("utf-8"))
    assert kept == receipt.to_dict()
    assert {"setting": "sample.interval", "old": 60, "new": 10, "unit": "s"} in kept["changes"]
    assert as_text.read_text("utf-8") == f"{receipt}\n"
    assert (
        "channel.4         sensor off -> voltage; label (empty) -> Humidity of the air; range none"
        in str(receipt)
    )
    assert "209 settings read back, all as asked" in str(receipt)
    assert PASSWORDS["operator"] not in backup.read_text("utf-8") + as_json.read_text("utf-8")


def test_a_second_upload_has_nothing_to_write(device, tmp_path):
    carry(device, tmp_path)
    device.link.requests.clear()
    receipt = carry(device, tmp_path, passwords={})
    assert (receipt.changes, receipt.requests) == ((), 0)
    assert not any(text.startswith("write") for text in device.link.requests)
    assert "nothing to change" in str(receipt)


def test_nothing_is_in_force_before_the_commit(device, logger, tmp_path):
    before = list(logger.holding)
    seen = []
    carry(
        device, tmp_path, on_progress=lambda step, *_: seen.append((step, logger.holding == before))
    )
    assert ("write what differs", True) in seen
    assert ("commit", False) in seen


@pytest.mark.parametrize("deaf", [False, True])
def test_wherever_an_upload_breaks_off_the_settings_are_all_old_or_all_new(
    sheet, logger, tmp_path, deaf
):
    def fresh():
        one = Logger(sheet, logger.profile, logger.plant, logger.clock)
        return lw.Device(sheet, MemoryLink(one))

    whole = fresh()
    old = list(whole.link.logger.holding)
    carry(whole, tmp_path)
    new, count = list(whole.link.logger.holding), len(whole.link.requests) - 1  # log out
    assert count > 20

    for k in range(count):
        broken = fresh()
        broken.link.fails_at, broken.link.deaf = k, deaf
        with pytest.raises(lw.UploadError, match="no answer") as caught:
            carry(broken, tmp_path)
        told, holding = caught.value.state, broken.link.logger.holding
        assert holding in (old, new)
        if told.startswith(("unchanged", "it works with its old settings")):
            assert holding == old
        elif told.startswith("it works with the new settings"):
            assert holding == new
        else:
            assert told.startswith("unknown: ")
        # The same upload again mends it, whatever happened.
        broken.link.fails_at = None
        carry(broken, tmp_path)
        assert broken.link.logger.holding == new


def record(logger, *, ends):
    logger.record()
    if ends:
        logger.recording_since_s = None


@pytest.mark.parametrize(
    ("condition", "options", "says"),
    [
        ("recorded", {}, "1 recording not fetched from the device"),
        ("recording", {}, "is recording, and takes settings only when stopped"),
        ("flat_battery", {}, "battery.voltage is 2.31 V, at least 2.8 V is needed"),
        ("refuses_passwords", {}, "refuses the password"),
        ("", {"passwords": {}}, "wants the password of the operator"),
        ("", {"passwords": {"operator": "9"}}, "refuses the password"),
        ("", {"passwords": {"operator": "no digits"}}, "refuses the password"),
    ],
)
def test_what_an_upload_refuses(device, logger, tmp_path, condition, options, says):
    if condition.startswith("record"):
        record(logger, ends=condition == "recorded")
    elif condition:
        setattr(logger.troubles, condition, True)
    before = list(logger.holding)
    with pytest.raises(lw.UploadError, match=says) as caught:
        carry(device, tmp_path, **options)
    assert caught.value.state.startswith("unchanged")
    assert caught.value.remedy
    assert logger.holding == before
    assert not logger.staged


def test_recordings_go_and_a_recording_stops_only_when_told(device, logger, tmp_path):
    record(logger, ends=True)
    record(logger, ends=False)
    receipt = carry(device, tmp_path, discard_recordings=True, stop_recording=True)
    assert (receipt.discarded, receipt.restarted) == (2, True)
    assert logger.recording_since_s is not None
    assert len(logger.recordings) == 1
    assert "discarded: 2 recordings, as allowed" in str(receipt)


def test_a_recording_that_was_stopped_runs_again_after_a_failure(device, logger, tmp_path):
    record(logger, ends=False)
    real_write = logger.write

    def refuse_settings(start, words):
        if start < 900:
            raise RefusedError(Refusal.BAD_VALUE)
        real_write(start, words)

    logger.write = refuse_settings
    with pytest.raises(lw.UploadError, match="it does not take this value") as caught:
        carry(device, tmp_path, stop_recording=True, discard_recordings=True)
    assert caught.value.state == (
        "unchanged: no setting was written; 1 recording erased, as allowed; its recording was "
        "stopped and is running again"
    )
    assert logger.recording_since_s is not None


def test_a_device_that_forgets_what_it_was_told_is_found_out(device, logger, tmp_path):
    commit = logger._put_into_force

    def commit_most(words):
        commit(words)
        logger.holding[16:18] = (0, 7)

    logger._put_into_force = commit_most
    with pytest.raises(lw.UploadError, match=r"sample\.interval is 0\.7 instead of 10") as caught:
        carry(device, tmp_path)
    assert caught.value.state == "it works with settings that are not those that were asked for"


def test_a_setup_with_errors_never_reaches_the_device(device, tmp_path):
    setup = checked(kiln_text().replace("clear: 75 °C", "clear: 80 °C"))
    with pytest.raises(lw.SetupError):
        lw.upload(setup, device, kept(tmp_path))
    assert device.link.requests == []


def test_a_folder_that_cannot_be_written_stops_an_upload_before_anything_happens(
    device, logger, tmp_path
):
    (tmp_path / "kept").write_text("in the way")
    before = list(logger.holding)
    with pytest.raises(lw.UploadError, match="cannot write") as caught:
        carry(device, tmp_path)
    assert caught.value.state.startswith("unchanged")
    assert logger.holding == before


def test_the_keyboard_stops_an_upload_in_good_order(device, logger, tmp_path):
    def stop(step, done, _):
        if step == "write what differs" and done == 3:
            raise KeyboardInterrupt

    with pytest.raises(lw.UploadError, match="stopped by the keyboard") as caught:
        carry(device, tmp_path, on_progress=stop)
    assert caught.value.state.startswith("unchanged")
    assert not logger.staged


def test_what_changes_nothing_or_disturbs_nothing_leaves_a_recording_alone(
    device, logger, tmp_path
):
    carry(device, tmp_path)
    record(logger, ends=False)
    logger.staged[0] = 7  # left by somebody else
    receipt = carry(device, tmp_path)
    assert (receipt.changes, receipt.restarted, logger.staged) == ((), False, {})
    assert logger.recording_since_s is not None


@pytest.mark.process
def test_what_counts_only_after_a_restart_is_told(leitwerk, tmp_path, monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "3317")
    with lw.start_standin("weide") as one:
        path = tmp_path / "race.yaml"
        path.write_text(example("mill-race", one.address), encoding="utf-8")
        assert "only after a restart" in leitwerk("check", str(path)).stdout
        uploaded = leitwerk("upload", str(path), "--timeout", "0.3")
    assert "restart it, and wait until it answers: done" in uploaded.stderr
    assert "39 settings read back, all as asked" in uploaded.stdout


def test_recordings_are_fetched_before_they_go(device, logger, tmp_path):
    carry(device, tmp_path)
    logger.record(rows=3)
    rows = [list(row) for row in logger.recordings[0].rows]
    settings = kiln_text().replace("every 10 s", "every 20 s")
    receipt = lw.upload(
        checked(settings),
        device,
        kept(tmp_path / "kept", fetch_recordings=True, stop_recording=True),
    )
    (path,) = receipt.fetched
    heading, *lines = Path(path).read_text("utf-8").splitlines()
    assert heading.startswith(
        "time,Air above the stack as stored [°C],Air above the stack as stored.quality"
    )
    assert [float(line.split(",")[1]) for line in lines] == pytest.approx([r[0] for r in rows])
    assert "fetched: " in str(receipt)
    assert receipt.discarded == 0


def test_a_text_is_emptied_and_a_key_without_a_value_is_not_that(device, tmp_path):
    text = kiln_text() + "\nsettings:\n  name: KILN-2\n"
    lw.upload(checked(text), device, kept(tmp_path))
    assert device.read_settings().values["name"] == "KILN-2"
    lw.upload(checked(text.replace("KILN-2", '""')), device, kept(tmp_path))
    assert device.read_settings().values["name"] == ""
    with pytest.raises(lw.SetupError):
        checked(text.replace(" KILN-2", ""))
