"""Commands that are ended at a random moment: by the keyboard, by signals, by a pipe that closes.

``LEITWERK_MOMENTS`` is how many moments of each kind are tried with each command.
"""

import contextlib
import multiprocessing
import os
import random
import shutil
import signal
import sys
import time
from pathlib import Path

import pytest
from espe import Espe
from scenes import SCENES

MOMENTS = int(os.environ.get("LEITWERK_MOMENTS", "1"))
SCENE = SCENES["Modbus TCP, outputs"]
KINDS = {
    "interrupt": signal.SIGINT, "SIGTERM": signal.SIGTERM, "SIGHUP": signal.SIGHUP, "closed pipe": None
}  # fmt: skip
COMMANDS = {
    "upload": ("upload", "setup.yaml"),
    "attend": ("attend", "setup.yaml", "--for", "0.3 s", "--every", "0.02 s", "--arm"),
    "loop": SCENE.commands["loop"],
    "live": ("live", "setup.yaml", "--for", "0.2 s", "--every", "0.05 s"),
}
PRELOADED = [
    "leitwerk.cli.upload", "leitwerk.cli.attend", "leitwerk.cli.outputs", "leitwerk.cli.live",
    "leitwerk.transfer.upload", "leitwerk.commissioning.live_check", "leitwerk.commissioning.loop_check",
    "leitwerk.monitoring.attendant", "leitwerk.project.setups", "pymodbus.client",
]  # fmt: skip
pytestmark = pytest.mark.process


def command(words):
    """In a process of its own: a command as a shell starts it, with its output into a pipe."""
    from leitwerk.cli import run

    sys.stdout = Path("out").open("w", encoding="utf-8")  # noqa: SIM115
    sys.stderr = Path("said.txt").open("w", encoding="utf-8", buffering=1)  # noqa: SIM115
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    Path("begun").touch()
    sys.argv = ["leitwerk", *words]
    run()


class Shell:
    """Starts commands from a process that has loaded them already, and ends them."""

    def __init__(self):
        self.context = multiprocessing.get_context("forkserver")
        self.context.set_forkserver_preload(PRELOADED)

    def run(self, words, kind, wait_s):
        """Its exit code, what it said on standard error, and how long it took."""
        Path("begun").unlink(missing_ok=True)
        Path("said.txt").write_text("", "utf-8")
        read = os.open("out", os.O_RDONLY | os.O_NONBLOCK)
        process = self.context.Process(target=command, args=(words,))
        process.start()
        while not Path("begun").exists():
            time.sleep(0.001)
        began = time.monotonic()
        process.join(wait_s)
        if KINDS[kind] is None:
            os.close(read)
        else:
            with contextlib.suppress(ProcessLookupError):
                os.kill(process.pid, KINDS[kind])
        process.join(30)
        if KINDS[kind] is not None:
            os.close(read)
        assert process.exitcode is not None, "it did not end"
        return process.exitcode, Path("said.txt").read_text("utf-8"), time.monotonic() - began


@pytest.fixture(scope="module")
def shell():
    return Shell()


# SIGTERM and SIGHUP are taken as an interrupt is: a long run tries them, too.
@pytest.mark.parametrize("kind", KINDS if MOMENTS > 1 else ["interrupt", "closed pipe"])
@pytest.mark.parametrize("name", COMMANDS)
def test_a_command_that_is_ended_leaves_order(shell, leitwerk, tmp_path, monkeypatch, name, kind):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    os.mkfifo("out")
    Path("datasheets").mkdir()
    Path("datasheets/one.yaml").write_text(SCENE.datasheet, "utf-8")
    chance = random.Random(f"{name} {kind}")
    with Espe() as device:
        factory = dict(device.holding)
        text = SCENE.setup.format(at=SCENE.at.format(port=device.port))
        Path("setup.yaml").write_text(text, "utf-8")
        longest = 10.0
        for number in range(MOMENTS + 1):
            device.holding = dict(factory)
            device.course = [1200, 1350, 1350, 1200] if name == "attend" else []
            shutil.rmtree("kept", ignore_errors=True)
            wait_s = chance.random() * longest if number else longest
            code, said, took = shell.run(COMMANDS[name], kind, wait_s)
            if not number:
                assert code == 0, said
                longest = took * 1.05
                continue
            where = (name, kind, wait_s, code, said)
            if code < 0 and not said:  # before it could take signals: it has done nothing yet
                assert device.holding == factory, where
                continue
            # Behind its end, a signal ends the process as it ends any other.
            assert code < 0 or code in {0, 1, 3, 4, 130, 141}, where
            assert "Traceback" not in said, where
            assert device.driven == (0, 0), where
            if name == "upload":
                assert_old_or_new(leitwerk, device, factory, code, said, where)


def assert_old_or_new(leitwerk, device, factory, code, said, where):
    """What was said last is so, and the next upload ends with the new settings."""
    now, new = dict(SCENE.state(device)), dict(SCENE.new)
    if code == 0:
        assert now == new, where
    if "unchanged" in said or "has been undone" in said:
        assert now.items() <= factory.items(), where
    again = leitwerk("upload", "setup.yaml")
    assert (again.exit_code, SCENE.state(device)) == (0, new), (where, again.output)
