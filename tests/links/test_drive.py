"""A device that appears as a drive: the whole thread, what it refuses, and drives that are odd."""

import shutil
import threading

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import leitwerk as lw
from conftest import EXAMPLES, SteppedTime
from leitwerk.links.drive import DriveLink
from leitwerk.links.options import LinkOptions
from leitwerk.parsing.address import parse_address
from leitwerk.protocols.drive_files import format_values, parse_values
from leitwerk.standins.climate import ClimateLogger
from leitwerk.standins.profile import find_profile

SHEET = lw.find_datasheet("kiefer")
LOAD = (EXAMPLES / "load.yaml").read_text("utf-8")
DAY_S = 86_400.0


class Plugged:
    """A logger whose drive is a folder; a thread lets it look at its drive, as its firmware does."""

    def __init__(self, folder):
        self.time = SteppedTime()
        folder.mkdir()
        self.folder = folder
        self.logger = ClimateLogger(SHEET, find_profile("kiefer"), folder, self.time)
        self.address = parse_address(f"drive://{folder}")
        link = DriveLink(self.address, options=LinkOptions(timeout_s=2.0))
        self.device = lw.Device(SHEET, link)
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def _work(self):
        while not self._ended.wait(0.005):
            self.logger.step()

    def stop(self):
        self._ended.set()
        self._thread.join()

    def past(self, seconds):
        """Let time pass, and the logger see it."""
        with self.device.link.lock:
            self.time.wait(seconds)
        begun = self.logger.state
        self.logger_steps(begun)

    def logger_steps(self, before):
        for _ in range(400):
            if self.logger.state not in {before, "writing"} and self.logger.state != "WAITING":
                return
            self.time.wait(0.01)
            self._ended.wait(0.005)


@pytest.fixture
def plugged(tmp_path):
    one = Plugged(tmp_path / "KIEFER")
    yield one
    one.stop()


def test_settings_are_taken_together_or_not_at_all(plugged):
    held = dict(plugged.device.read_settings().values)
    plugged.device.write_settings({"run.length": 3.0, "header.1": "Tannried Mill"})
    values = plugged.device.read_settings().values
    assert (values["run.length"], values["header.1"]) == (3.0, "Tannried Mill")
    assert parse_values((plugged.folder / "SETTINGS.TXT").read_bytes(), "x")["DAYS"] == "3"
    odd = {"INTERVAL=99999": 2, "CLASS=A": 3, "ODD=1": 1}
    for wish, code in odd.items():
        key, _, text = wish.partition("=")
        wishes = {"DAYS": "2", key: text}
        with pytest.raises(lw.DeviceRefused) as refused:
            plugged.device.link.leave(wishes)
        assert refused.value.code == code
        assert plugged.device.read_settings().values["run.length"] == 3.0
    assert {name for name, value in held.items() if values[name] != value} == {
        "run.length",
        "header.1",
    }


def test_a_fixed_setting_is_shown_and_refused():
    text = LOAD.replace("  run.length: 2 d\n", "  run.length: 2 d\n  fixed.class: A\n")
    found = lw.check_setup(lw.parse_setup(text), SHEET)
    assert any("fixed.class" in f.path and f.is_error for f in found.findings), found.findings


def test_it_takes_nothing_while_it_records_and_is_used_once(plugged):
    device = plugged.device
    device.write_settings({"run.use": "single"})
    device.command("start")
    plugged.past(10.0)
    assert device.status().recording
    with pytest.raises(lw.DeviceRefused) as refused:
        device.link.leave({"DAYS": "9"})
    assert refused.value.code == 4
    plugged.past(DAY_S + 10.0)
    assert plugged.logger.state == "FINISHED"
    assert (plugged.folder / "REPORT-1.PDF").read_bytes().startswith(b"%PDF-1.4")
    with pytest.raises(lw.DeviceRefused) as refused:
        device.command("start")
    assert refused.value.code == 5


def test_while_it_writes_nothing_is_read_or_written(plugged):
    plugged.stop()
    status = plugged.folder / "STATUS.TXT"
    status.write_bytes(status.read_bytes().replace(b"STATE=IDLE", b"STATE=writing"))
    quick = DriveLink(plugged.address, options=LinkOptions(timeout_s=0.1))
    for act in (
        lambda: quick.values("SETTINGS.TXT"),
        quick.reports,
        lambda: quick.leave({"DAYS": "2"}),
    ):
        with pytest.raises(lw.LinkTimeout, match="still writing: do not unplug it"):
            act()
    assert not (plugged.folder / "NEW.TXT").exists()


def test_a_drive_without_a_device_or_that_is_gone(plugged, monkeypatch):
    plugged.stop()
    monkeypatch.setattr("leitwerk.links.drive._TAKES_S", 0.1)
    quick = DriveLink(plugged.address, options=LinkOptions(timeout_s=0.1))
    with pytest.raises(lw.LinkTimeout, match=r"has not taken NEW.TXT; it is removed again"):
        quick.leave({"DAYS": "2"})
    assert not (plugged.folder / "NEW.TXT").exists()
    shutil.rmtree(plugged.folder)
    with pytest.raises(lw.NotReached, match="is not there"):
        quick.values("STATUS.TXT")
    for text in ("drive://", "drive://host/x", "drive:///x?unit=1"):
        with pytest.raises(lw.QuantityError, match="drive"):
            parse_address(text)
    assert str(parse_address("drive:///media/A%20B")) == "drive:///media/A%20B"


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(content=st.binary(max_size=200) | st.text(max_size=200).map(str.encode))
def test_odd_files_are_errors_of_the_link(tmp_path, content):
    (tmp_path / "STATUS.TXT").write_bytes(content)
    link = DriveLink(parse_address(f"drive://{tmp_path}"), options=LinkOptions(timeout_s=0.0))
    try:
        found = link.values("STATUS.TXT")
    except lw.LinkError:
        return
    assert parse_values(format_values(found), "again") == found or any(
        "\r" in v for v in found.values()
    )


@pytest.mark.process
def test_from_the_setup_to_the_report_of_a_transport(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    with lw.start_standin(
        "kiefer", "--drive", str(tmp_path / "K"), "--time-factor", "100000"
    ) as one:
        (tmp_path / "load.yaml").write_text(
            LOAD.replace("drive:///media/KIEFER", str(one.address)), "utf-8"
        )
        done = leitwerk("upload", "load.yaml")
        assert (done.exit_code, "in 1 write request" in done.stdout) == (0, True), done.output
        assert leitwerk("record", "load.yaml", "start").exit_code == 0
        device = lw.connect(lw.read_setup("load.yaml"))
        while device.status().unfetched != 1:
            pass  # each look reads the drive
        # The old recording first, then a new setup.
        changed = (
            (tmp_path / "load.yaml")
            .read_text("utf-8")
            .replace("run.length: 2 d", "run.length: 3 d")
        )
        (tmp_path / "next.yaml").write_text(changed, "utf-8")
        refused = leitwerk("upload", "next.yaml")
        assert (refused.exit_code, "1 recording not fetched" in refused.stderr) == (4, True), (
            refused.output
        )
        fetched = leitwerk("fetch", "load.yaml", "--store")
        assert "289 new rows" in fetched.stdout
        assert "REPORT-1.PDF: written by the device" in fetched.stdout
        assert leitwerk("upload", "next.yaml").exit_code == 0
        report = leitwerk(
            "report", "CL-02291", "--setup", "load.yaml", "--kind", "transport", "--to", "t.html"
        )
        # An hour at the border was warmer than 8 °C; the first half of it is the delay of the alarm.
        assert (report.exit_code, "not passed" in report.stdout) == (1, True)
        assert "11.3 °C" in (tmp_path / "t.html").read_text("utf-8")
