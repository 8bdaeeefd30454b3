"""Every shipped example on its simulated device: the way there, and the way back."""

from pathlib import Path

import pytest

import leitwerk as lw
from conftest import EXAMPLES, example
from leitwerk.standins.profile import find_profile

# A board is programmed by a file, and a station that sleeps takes requests: they have tests of their own.
ELSEWHERE = {"panel", "head-water"}
NAMES = sorted(path.stem for path in EXAMPLES.glob("*.yaml") if path.stem not in ELSEWHERE)


@pytest.mark.process
@pytest.mark.parametrize("name", NAMES)
def test_adopted_it_changes_nothing_and_restored_it_is_as_from_the_factory(
    name, leitwerk, tmp_path, monkeypatch
):
    monkeypatch.chdir(tmp_path)
    model = lw.parse_setup(example(name, "x")).device.model
    unit = {"carriage": "fichte-8-saw"}.get(name, model)
    passwords = find_profile(unit).passwords
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", passwords.get("operator", ""))
    with lw.start_standin(unit) as standin:
        Path("it.yaml").write_text(example(name, standin.address), "utf-8")
        sheet, where = lw.find_datasheet(model), str(standin.address)
        with lw.open_device(sheet, standin.address) as device:
            factory = device.read_settings()
        uploaded = leitwerk("upload", "it.yaml")
        assert uploaded.exit_code == 0, uploaded.output
        again = leitwerk("upload", "it.yaml", "--plan")
        assert (again.exit_code, "nothing to change" in again.stdout) == (0, True), again.output
        adopted = leitwerk("adopt", where, "--to", "adopted.yaml")
        assert adopted.exit_code == 0, adopted.output
        plan = leitwerk("upload", "adopted.yaml", "--plan")
        assert (plan.exit_code, "nothing to change" in plan.stdout) == (0, True), plan.output
        backup = str(next(Path("kept").glob("*/*-backup.json")))
        restored = leitwerk("restore", backup, where)
        assert restored.exit_code == 0, restored.output
        with lw.open_device(sheet, standin.address) as device:
            assert device.read_settings() == factory
