"""What helps people at the command: findings explained, the card, completion, the manual page."""

import os
import subprocess
import sys
from importlib import resources
from pathlib import Path

import pytest

from leitwerk.cli import _COMMANDS


def test_a_finding_is_explained_and_messages_cite_it(leitwerk, tmp_path):
    shown = leitwerk("finding", "range-clips", "left-template")
    assert "What to do" not in shown.output
    assert "Take the range that is proposed." in shown.output
    assert "reference/findings.html#left-template" in shown.output
    near = leitwerk("finding", "range-clip")
    assert (near.exit_code, "did you mean 'range-clips'?" in near.stderr) == (2, True)
    (tmp_path / "a.yaml").write_text("leitwerk: 1\ntitel: x\n", "utf-8")
    found = leitwerk("check", str(tmp_path / "a.yaml"))
    assert "more: leitwerk finding missing-key unknown-key" in found.output, found.output


def test_the_card_has_every_command_on_one_page(leitwerk, tmp_path):
    assert leitwerk("card", "--to", str(tmp_path / "card.html")).exit_code == 0
    page = (tmp_path / "card.html").read_text("utf-8")
    assert [name for name in _COMMANDS if f">{name}<" not in page] == []
    leitwerk("card", "--to", str(tmp_path / "card.pdf"))
    assert (tmp_path / "card.pdf").read_bytes().count(b"/Type /Page\n") == 1
    assert "replace-sensor" in leitwerk("card").output
    manual = (resources.files("leitwerk") / "help" / "leitwerk.1").read_text("utf-8")
    assert [
        name for name in _COMMANDS if f".B {name.replace('-', chr(92) + '-')} " not in manual
    ] == []


@pytest.mark.process
@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion_is_installed_by_one_command_and_knows_the_commands(
    shell, leitwerk, tmp_path, monkeypatch
):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    monkeypatch.setenv("SHELL", f"/usr/bin/{shell}")
    done = leitwerk("completion")
    assert done.exit_code == 0, done.stderr
    file = Path(done.stderr.split(": written")[0])
    assert file.is_relative_to(tmp_path)
    assert "_LEITWERK_COMPLETE" in file.read_text("utf-8")
    program = "from leitwerk.cli import main; main(prog_name='leitwerk')"
    asked = {"COMP_WORDS": "leitwerk wir", "COMP_CWORD": "1"}
    if shell == "fish":
        asked = {"COMP_WORDS": "leitwerk wir", "COMP_CWORD": "wir"}
    answer = subprocess.run(
        [sys.executable, "-c", program], capture_output=True, encoding="utf-8", check=False,
        env={**os.environ, **asked, "_LEITWERK_COMPLETE": f"{shell}_complete"},
    )  # fmt: skip
    assert "wiring-sheet" in answer.stdout, answer
    assert leitwerk("completion", "bash", "--show").output.count("complete") == 2
    monkeypatch.setenv("SHELL", "/bin/odd")
    assert leitwerk("completion").exit_code == 2
