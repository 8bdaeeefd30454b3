"""Any datasheet as a simulated device: a setup is tried on it before it goes to the field."""

import shutil
from pathlib import Path

import pytest

import leitwerk as lw
from leitwerk.standins.from_datasheet import PASSWORD

HERE = Path(__file__).parent
VALUES = {
    "erle": ("channel.1.value=21.5", "channel.3.value=40"),
    "ulme": ("voltage=230 V",),
    "esche": ("flow.1=10", "flow.4=2", "level.1=1250"),  # l/s and mm, as the setup sets the device
}


@pytest.mark.process
@pytest.mark.parametrize("name", VALUES)
def test_a_setup_is_tried_on_a_device_made_from_its_datasheet(
    name, tmp_path, monkeypatch, leitwerk
):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", PASSWORD)
    (tmp_path / "datasheets").mkdir()
    file = shutil.copy(HERE / f"{name}.yaml", tmp_path / "datasheets" / "mine.yaml")
    shown = [word for value in VALUES[name] for word in ("--value", value)]
    text = (HERE / f"{name}-setup.yaml").read_text("utf-8")
    at = text[text.index("at: ") + 4 :].split()[0].rstrip(",")
    serial = text[text.index("serial: ") + 8 :].split()[0].rstrip("}")
    with lw.start_standin(str(file), *shown) as standin:
        text = text.replace(at, str(standin.address)).replace(serial, "1001")
        Path("mine.yaml").write_text(text, "utf-8")
        sheet = lw.read_setup("mine.yaml").datasheet
        with lw.open_device(sheet, standin.address) as device:
            factory = device.read_settings()
        done = leitwerk("upload", "mine.yaml")
        assert done.exit_code == 0, done.output
        live = leitwerk("live", "mine.yaml", "--for", "0.4 s", "--every", "0.2 s")
        assert live.exit_code == 0, live.output
        assert leitwerk("adopt", str(standin.address), "--to", "as-it-is.yaml").exit_code == 0
        plan = leitwerk("upload", "as-it-is.yaml", "--plan")
        assert (plan.exit_code, "nothing to change" in plan.stdout) == (0, True), plan.output
        backup = str(next(Path("kept").glob("*/*-backup.json")))
        assert leitwerk("restore", backup, str(standin.address)).exit_code == 0
        with lw.open_device(sheet, standin.address) as device:
            assert device.read_settings() == factory


@pytest.mark.process
def test_its_clock_is_set_in_two_parts_and_a_login_ends(tmp_path):
    file = shutil.copy(HERE / "ulme.yaml", tmp_path / "mine.yaml")
    sheet = lw.parse_datasheet(Path(file).read_text("utf-8"))
    with (
        lw.start_standin(str(file), "--clock-ahead", "-90000") as standin,
        lw.open_device(sheet, standin.address) as device,
    ):
        assert device.clock().deviation_s < -80_000
        device.log_in("operator", PASSWORD)
        device.set_clock()
        assert abs(device.clock().deviation_s) <= 1
        assert device.status_points()["logged_in"] == "operator"
        device.log_out()
        assert device.status_points()["logged_in"] == "none"
