"""The commands on a terminal: a pseudo-terminal of our own, and the screen that it shows."""

import os
import pty
import subprocess
import sys
from pathlib import Path

import pyte
import pytest

from leitwerk.cli.tables import console, live_table

PASSWORD_PROMPT = "Password of the operator: "


def on_terminal(words, cwd, *, columns=120, lines=40, answers=None, **environment):
    """Run a command on a terminal; gives its exit code, the screen, and every byte it sent."""
    screen = pyte.Screen(columns, lines)
    stream = pyte.ByteStream(screen)
    near, far = pty.openpty()
    settings = {**os.environ, "TERM": "xterm-256color", "COLUMNS": str(columns), **environment}
    settings.pop("LEITWERK_PASSWORD_OPERATOR", None)
    process = subprocess.Popen(
        [sys.executable, "-m", "leitwerk", *words],
        cwd=cwd, stdin=far, stdout=far, stderr=far, env=settings, start_new_session=True,
    )  # fmt: skip
    os.close(far)
    sent, waiting = b"", dict(answers or {})
    while True:
        try:
            data = os.read(near, 65536)
        except OSError:  # the other end is closed
            break
        if not data:
            break
        sent += data
        stream.feed(data)
        for prompt in [p for p in waiting if p.encode() in sent]:
            os.write(near, waiting.pop(prompt).encode() + b"\n")
    os.close(near)
    return process.wait(30), [line.rstrip() for line in screen.display], sent


@pytest.fixture
def ready(standin, leitwerk, kiln_file):
    """A setup that is uploaded; the thermocouple of its stand-in is short-circuited."""
    path = kiln_file(standin("--short", "3").address)
    assert leitwerk("upload", path).exit_code == 0
    return path


@pytest.mark.process
def test_the_live_table_refreshes_in_place_and_stays(ready, tmp_path):
    code, screen, sent = on_terminal(
        ["live", ready, "--for", "0.6 s", "--every", "0.2 s"], tmp_path
    )
    assert code == 1
    # Every sample was drawn, and only the last is left on the screen.
    assert all(f"sample {k} of 4".encode() in sent for k in (1, 2, 3, 4))
    assert [line for line in screen if line.startswith("sample")] == ["sample 4 of 4"]
    rows = {
        line.split()[0]: line.split() for line in screen if line.startswith(" ") and line.split()
    }
    assert rows["Channel"][-1] == "Verdict"
    assert rows["timber_core"][-1] == "fail"
    assert rows["air_top"][-1] == rows["door"][-1] == "pass"
    assert "a short-circuited thermocouple does this" in " ".join(" ".join(screen).split())
    assert "NOT PASSED: 6 of 7 expectations met, 1 fail" in screen
    assert b"\x1b[" in sent


@pytest.mark.process
def test_a_narrow_terminal_leaves_out_columns_and_none_wraps(ready, tmp_path):
    _, screen, _ = on_terminal(["live", ready, "--for", "0.2 s"], tmp_path, columns=80)
    head = next(line for line in screen if "Channel" in line)
    assert "Std dev" not in head
    assert head.split()[-1] == "Verdict"
    assert next(line for line in screen if "air_top" in line).split()[-1] == "pass"


@pytest.mark.process
def test_no_colour_is_sent_where_none_is_wanted(ready, tmp_path):
    _, _, sent = on_terminal(["check", ready], tmp_path, NO_COLOR="1")
    assert b"\x1b[3" not in sent


@pytest.mark.process
def test_the_password_is_asked_for_and_never_shown(standin, kiln_file, tmp_path):
    path = kiln_file(standin().address)
    code, screen, sent = on_terminal(
        ["upload", path], tmp_path, answers={PASSWORD_PROMPT: "1834"}, lines=60
    )
    assert code == 0
    assert b"1834" not in sent
    assert any(line.startswith("write what differs") and line.endswith("17/17") for line in screen)
    assert any("209 settings read back, all as asked" in line for line in screen)


@pytest.mark.process
def test_findings_wrap_between_words_with_later_lines_indented(kiln_file, tmp_path):
    path = kiln_file("modbus+tcp://127.0.0.1")
    file = Path(path)
    text = file.read_text("utf-8")
    file.write_text(text.replace("range: ±1 V", "range: ±10 V"), "utf-8")
    code, screen, _ = on_terminal(["check", file.name], tmp_path, columns=70)
    assert code == 0
    first, second, third = screen[0:3]
    assert first.startswith("kiln.yaml:43:12: warning: channel humidity: range ±10 V")
    assert second.startswith("    ")
    assert third.startswith("    ")
    assert not any(line.startswith(" ") and not line.startswith("    ") for line in screen)


def test_a_title_with_brackets_is_no_markup():
    """The console of every table prints a text as it is."""
    out = console()
    with out.capture() as shown:
        out.print(live_table([], "[/] [red]x[/red] :smile: [bold", "", 80))
    assert "[/] [red]x[/red] :smile: [bold" in shown.get()
