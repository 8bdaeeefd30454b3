"""A robot in place of a person: it changes boards in the fixture and touches buttons, as it is asked."""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from pathlib import Path

_LONGEST_S = 150.0  # a command that waits for something else is ended
BUTTONS = {"Start": 1, "Stop": 2, "Feed": 3, "Back": 4, "Lamp": 5, "Call": 6}


class Fixture:
    """The stand-in with a lot of boards, as a process of its own."""

    def __init__(self, *words: str) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "leitwerk", "standin", "buche-6", "--operate", *words],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, encoding="utf-8", bufsize=1,
        )  # fmt: skip
        self.address = self._line().split(" listens at ")[1].split(" (")[0].strip()

    def _line(self) -> str:
        assert self.process.stdout is not None
        return self.process.stdout.readline()

    def operate(self, line: str) -> str:
        """Do something; what the stand-in says to it."""
        assert self.process.stdin is not None
        self.process.stdin.write(f"{line}\n")
        self.process.stdin.flush()
        return self._line().strip()

    def close(self) -> None:
        """End it."""
        self.process.kill()
        self.process.wait()
        for pipe in (self.process.stdin, self.process.stdout):
            assert pipe is not None
            pipe.close()


def answer(fixture: Fixture, asked: str) -> None:
    """Do what a line asks for."""
    if asked == "insert the next unit":
        fixture.operate("insert")
    elif asked.startswith("remove "):
        fixture.operate("remove")
    elif asked.removeprefix("touch ") in BUTTONS:
        fixture.operate(f"touch {BUTTONS[asked.removeprefix('touch ')]}")
    elif asked == "let go":
        fixture.operate("release")


def run(
    fixture: Fixture,
    words: Sequence[str],
    folder: Path,
    on_line: Callable[[subprocess.Popen[str], str], None] = lambda process, line: None,
) -> tuple[int, str, list[str]]:
    """Run a command with the robot; its exit code, standard output, and what it asked."""
    asked = []
    fixture.operate("release")
    with (folder / "out.txt").open("w") as out, subprocess.Popen(
        [sys.executable, "-m", "leitwerk", *words], cwd=folder, encoding="utf-8", stdout=out,
        stderr=subprocess.PIPE,
    ) as process:  # fmt: skip
        assert process.stderr is not None
        too_long = threading.Timer(_LONGEST_S, process.kill)
        too_long.start()
        for line in process.stderr:
            asked.append(line.rstrip("\n"))
            on_line(process, asked[-1])
            answer(fixture, asked[-1])
        too_long.cancel()
    return process.returncode, (folder / "out.txt").read_text("utf-8"), asked
