"""The commands live and prove on a terminal, with keys pressed by a person; and streams into pipes."""

import binascii
import contextlib
import csv
import fcntl
import json
import os
import pty
import select
import signal
import struct
import subprocess
import sys
import termios
import threading
import time
import tty

import pyte
import pytest

from conftest import PASSWORDS
from leitwerk.commissioning.proof_record import load_record

pytestmark = pytest.mark.process
LEITWERK = [sys.executable, "-m", "leitwerk"]
COMMAND = [*LEITWERK, "live"]
PATIENCE_S = 20.0


def _own_terminal():
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)
    # A shell that started the tests in the background has it ignored.
    signal.signal(signal.SIGINT, signal.default_int_handler)


class Person:
    """Somebody at a terminal: looks at the screen until something is there, and presses keys."""

    def __init__(self, words, cwd, columns=80, lines=24, command="live", **environment):
        self.screen = pyte.Screen(columns, lines)
        self._stream = pyte.ByteStream(self.screen)
        self._near, far = pty.openpty()
        self.resize(columns, lines)
        settings = {
            **os.environ,
            "TERM": "xterm-256color",
            "XDG_DATA_HOME": str(cwd),
            **environment,
        }
        self.process = subprocess.Popen(
            [*LEITWERK, command, *words], cwd=cwd, stdin=far, stdout=far, stderr=far, env=settings,
            # Its own terminal, so that Ctrl+C there is a signal to it.
            start_new_session=True, preexec_fn=_own_terminal,  # noqa: PLW1509
        )  # fmt: skip
        os.close(far)
        self.sent = b""

    def resize(self, columns, lines):
        self.screen.resize(lines, columns)
        fcntl.ioctl(self._near, termios.TIOCSWINSZ, struct.pack("HHHH", lines, columns, 0, 0))

    def press(self, keys):
        os.write(self._near, keys.encode())

    def sees(self, *texts):
        """Wait until all of these are on the screen."""
        end = time.monotonic() + PATIENCE_S
        while not all(any(text in line for line in self.screen.display) for text in texts):
            assert time.monotonic() < end, "\n".join(self.screen.display)
            assert self._look(), "\n".join(self.screen.display)

    def _look(self):
        if not select.select([self._near], [], [], 0.2)[0]:
            return True
        try:
            data = os.read(self._near, 65536)
        except OSError:
            return False
        if b"\x1b[6n" in data:  # where is the cursor?
            os.write(self._near, b"\x1b[1;1R")
        self.sent += data
        self._stream.feed(data)
        return bool(data)

    def ends(self):
        """The exit code, when it has ended by itself."""
        end = time.monotonic() + PATIENCE_S
        with contextlib.suppress(OSError):
            while self._look() and self.process.poll() is None:
                assert time.monotonic() < end, "\n".join(self.screen.display)
            while self._look():
                pass
        os.close(self._near)
        return self.process.wait(PATIENCE_S)


@pytest.fixture
def ready(standin, leitwerk, kiln_file):
    one = standin("--open", "2")
    path = kiln_file(one.address)
    assert leitwerk("upload", path).exit_code == 0
    return path, one


def test_a_person_watches_and_ends_it(ready, tmp_path):
    path, one = ready
    samples = tmp_path / "run.csv"
    person = Person([path, "--every", "0.2 s", "--samples", str(samples)], tmp_path)
    person.sees("Kiln 2", "air_top", "open sensor", "q end", "every 200 ms")
    person.press("\x1b[B")
    person.sees(">air_bottom", "a wire is off")
    person.press("\x1b[Auu\r")
    person.sees("Air above the stack", "min ")
    assert any("█" in line for line in person.screen.display)
    person.resize(30, 8)
    person.sees("too small")
    person.resize(120, 30)
    person.sees("Air above the stack")
    person.press("\x1b")
    person.sees(">air_top", " K ")
    person.press(" ")
    person.sees("PAUSED")
    person.press("f")
    person.sees("figure:")
    one.stop()
    person.press(" ")
    person.sees("no answer", "(")
    person.press("q")
    assert person.ends() == 1
    assert b"NOT PASSED" in person.sent
    assert (tmp_path / "air_top.png").stat().st_size > 10_000
    with samples.open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert rows[0]["air_top [°C]"]
    assert rows[-1]["air_top.quality"] == "no answer from the device"
    # What was chosen is there again.
    (kept,) = (tmp_path / "leitwerk" / "views").glob("*.json")
    assert json.loads(kept.read_text("utf-8"))["units"] == {"air_top": "K"}


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGHUP, "\x03"])
def test_it_ends_in_order_whatever_ends_it(ready, tmp_path, how):
    path, _ = ready
    samples = tmp_path / "run.csv"
    person = Person([path, "--every", "0.1 s", "--samples", str(samples)], tmp_path, NO_COLOR="1")
    person.sees("air_top", "good")
    if isinstance(how, str):
        person.press(how)
    else:
        person.process.send_signal(how)
    assert person.ends() in {1, 130}
    assert b"Traceback" not in person.sent
    assert b"\x1b[?1049l" in person.sent  # the screen as it was before
    assert b"\x1b[31m" not in person.sent  # NO_COLOR
    assert samples.read_bytes().endswith(b"\n")


def test_names_that_are_unknown_are_usage(ready, leitwerk, tmp_path):
    path, _ = ready
    for words, says in (
        (["--columns", "value,nothing"], "there is no column 'nothing'"),
        (["--channel", "air_topp"], "there is no channel 'air_topp'"),
        (["--unit", "nowhere=K"], "there is no channel 'nowhere'"),
        (["--unit", "air_top=bar"], "cannot be shown in bar"),
        (["--unit", "air_top"], "'air_top' is not NAME=UNIT"),
    ):
        person = Person([path, *words], tmp_path, columns=120)
        assert person.ends() == 2
        assert says.encode() in person.sent
    assert leitwerk("live", path, "--limit", "3").exit_code == 2
    assert leitwerk("live", path, path, "--stream", "csv").exit_code == 2


def test_streams_of_lines_json_and_csv(ready):
    path, _ = ready
    found = {}
    for form in ("lines", "json", "csv"):
        words = [path, "--stream", form, "--for", "0.9 s", "--every", "0.2 s"]
        found[form] = subprocess.run(
            [*COMMAND, *words], capture_output=True, text=True, check=True
        ).stdout
    lines = found["lines"].splitlines()
    assert 4 <= len(lines) <= 6
    assert "air_bottom – (open sensor)" in lines[0]
    assert "door shut" in lines[0]
    first = json.loads(found["json"].splitlines()[0])
    assert (first["serial"], first["channels"]["door"]["value"]) == ("K2-00417", "shut")
    assert first["channels"]["air_bottom"] == {
        "value": None,
        "unit": "°C",
        "quality": "open sensor",
    }
    rows = list(csv.DictReader(found["csv"].splitlines()))
    assert 20 < float(rows[1]["air_top [°C]"]) < 23


def test_another_device_ends_the_stream_and_is_no_success(ready, standin):
    """In place of the logger another one answers: its values are not given."""
    path, one = ready
    process = subprocess.Popen(
        [*COMMAND, path, "--stream", "lines", "--every", "0.1 s"],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert "air_top" in process.stdout.readline()
    one.stop()
    other = standin("--port", str(one.address.port), "--serial", "K2-99999")
    _, said = process.communicate(timeout=PATIENCE_S)
    assert process.returncode == 4, said
    assert "K2-99999" in said
    other.stop()


def test_a_pipe_that_is_closed_ends_the_stream(ready):
    path, _ = ready
    process = subprocess.Popen(
        [*COMMAND, path, "--stream", "lines", "--every", "0.1 s"],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    assert b"air_top" in process.stdout.readline()
    process.stdout.close()
    assert process.wait(PATIENCE_S) == 141
    assert process.stderr.read() == b""
    process.stderr.close()


def test_a_proof_is_broken_off_with_ctrl_c_and_resumed(ready, tmp_path):
    path, _ = ready
    words = [path, "--settle", "3 s", "--every", "0.1 s", "--record", "p.json"]
    person = Person(
        words, tmp_path, command="prove", LEITWERK_PASSWORD_OPERATOR=PASSWORDS["operator"]
    )
    person.sees("or apply 108.376", "q ends, to be resumed")
    person.press("3 V\n")
    person.sees("V is a unit of voltage")
    person.press("21.5 °C\n")
    person.sees("PASS        air_top at 21.5 °C", "Enter, and begin")
    person.press("\x03")
    assert person.ends() == 130
    assert b"resume it with --record p.json" in person.sent
    assert len(load_record(tmp_path / "p.json").steps) == 1
    person = Person(
        words, tmp_path, command="prove", LEITWERK_PASSWORD_OPERATOR=PASSWORDS["operator"]
    )
    # Whoever answers before the question stands there has the answer above it.
    person.sees("let too_hot trip", "q ends, to be resumed")
    person.press("skip\n")
    person.sees("SKIPPED     alarm air_top.too_hot", "bring air_bottom", "type the reference")
    person.press("\n")
    person.sees("NO READING  air_bottom", "open sensor")
    person.press("q\n")
    assert person.ends() == 130
    record = load_record(tmp_path / "p.json")
    assert [step.verdict for step in record.steps] == ["pass", "skipped", "no reading"]
    assert record.finished == ""


def telegram_by_hand(number, count, value=2485):
    """A telegram of a gauge by the table of the manual of hasel."""
    head = struct.pack(">2sIBiBbB", b"\x02\xa5", number, 2, value, 0, -70, count % 256)
    return head + struct.pack(">H", binascii.crc_hqx(head, 0xFFFF))


def test_a_flood_of_telegrams_is_counted_and_the_table_still_refreshes(tmp_path):
    server, client = pty.openpty()
    tty.setraw(server)
    tty.setraw(client)
    last = 40744252

    def receiver():
        for line in (b"AIR=0\n", b"AIR=1\n"):
            assert os.read(server, 100) == line
            os.write(server, b"OK\n")
        for burst in range(150):
            time.sleep(0.02)  # 1,000 in a second
            frames = [telegram_by_hand(1000 + k, burst) for k in range(20)]
            wrong = bytearray(frames[3])
            wrong[9] ^= 1
            os.write(server, b"".join([*frames[:9], frames[9][:7], *frames[10:], wrong]))
        os.write(server, telegram_by_hand(last, 1))

    sender = threading.Thread(target=receiver)
    sender.start()
    words = [f"text+serial://{os.ttyname(client)}", "--model", "hasel", "--timeout", "0.5"]
    person = Person(words, tmp_path, columns=80, lines=40, command="listen")
    person.sees(str(last), "24.85 mm")
    sender.join()
    refreshed = person.sent.count(b"Strength")
    person.press("\x03")
    assert person.ends() == 0
    assert b"20 transmitters, 2851 telegrams, 300 disturbed" in person.sent
    assert refreshed >= 4
    os.close(server)
    os.close(client)
