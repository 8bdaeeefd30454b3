"""Exchanges at work: commands, a stand-in at its talking port, attend at another; strangers at the wire."""

import os
import pty
import re
import select
import shutil
import socket
import subprocess
import sys
import threading
import time
import tty
from contextlib import contextmanager

import pytest
import serial
from test_exchange_setups import CABIN, KILN_EXCHANGE

import leitwerk as lw
from conftest import KILN, checked, example
from leitwerk.monitoring.attendant import Attendant, AttendOptions
from leitwerk.monitoring.exchange_runner import ExchangeRunner

pytestmark = pytest.mark.process


@contextmanager
def panel(tmp_path, monkeypatch, leitwerk, manner="machines", change=("", "")):
    """The simulated panel with its exchange uploaded: the folder, its talking port, and its front."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "bark")
    with lw.start_standin("birke", "--rtu") as one:
        talks = re.search(r"//(/[^?]+)", one.process.stdout.readline())[1]
        text = example("cabin", one.address).replace("manner: machines", f"manner: {manner}")
        (tmp_path / "cabin.yaml").write_text(text.replace(*change, 1), "utf-8")
        assert leitwerk("upload", "cabin.yaml").exit_code == 0

        def front(line):
            one.process.stdin.write(f"{line}\n")
            one.process.stdin.flush()
            return one.process.stdout.readline().strip()

        yield talks, front


def line_of(port):
    return port.readline().decode("ascii")


def test_a_plain_script_talks_with_the_panel(tmp_path, monkeypatch, leitwerk):
    with panel(tmp_path, monkeypatch, leitwerk, change=("every 10 s", "every 2 s")) as (
        talks,
        front,
    ):
        with serial.Serial(talks, 9600, timeout=5) as port:
            port.write(b"ASK\r\n")
            assert re.fullmatch(r"KILN;21\.\d;5[45]\.\d\r\n", line_of(port))
            for byte in b'TEXT;"a;b"\r\n':  # one at a time
                port.write(bytes([byte]))
            assert line_of(port) == "OK\r\n"
            port.write(b"SET;77.5\r\nSET;120\r\nSET;x\r\nFOO\r\nASK;1\r\n")
            answers = [line_of(port).strip() for _ in range(5)]
            assert answers == ["OK", "ERR 4", "ERR 3", "ERR 1", "ERR 2"]
            assert front("input 2 57.3") == "input 2 is 57.3"
            assert front("key 1") == "key 1 pressed"
            assert line_of(port).startswith("KILN;57.")
            assert line_of(port).startswith("KILN;57.")  # by its timer
        assert "bar.high  77.5 -> 90" in leitwerk("upload", "cabin.yaml").stdout


@pytest.mark.skipif(shutil.which("socat") is None, reason="socat is not there")
def test_another_program_talks_with_the_panel(tmp_path, monkeypatch, leitwerk):
    with panel(tmp_path, monkeypatch, leitwerk) as (talks, _):
        done = subprocess.run(
            ["socat", "-t", "2", "-", f"{talks},raw,echo=0,b9600"],
            input=b"ASK\r\n", capture_output=True, timeout=20, check=True,
        )  # fmt: skip
        assert re.fullmatch(rb"KILN;21\.\d;5[45]\.\d\r\n", done.stdout)


def test_a_person_talks_with_the_panel(tmp_path, monkeypatch, leitwerk):
    with (
        panel(tmp_path, monkeypatch, leitwerk, manner="people") as (talks, front),
        serial.Serial(talks, 9600, timeout=5) as port,
    ):
        port.write(b"sett\x7f;50\r")
        assert port.read_until(b"OK\r\n> ").endswith(b"sett\b \b;50\r\nOK\r\n> ")
        port.write(b"se")
        assert port.read(2) == b"se"
        front("key 1")
        assert port.read_until(b"> se").startswith(b"\r    \rKILN;")


@pytest.mark.parametrize("manner", ["machines", "guarded"])
def test_leitwerk_is_the_other_end(tmp_path, monkeypatch, leitwerk, manner):
    with panel(tmp_path, monkeypatch, leitwerk, manner=manner) as (talks, _):
        at = f"talk+serial://{talks}?line=9600,8N1"
        assert (
            leitwerk(
                "exchange", "mirror", "cabin.yaml", "office", "--at", at, "--out", "o.yaml"
            ).exit_code
            == 0
        )
        assert (
            leitwerk("exchange", "match", "cabin.yaml", "office", "o.yaml", "office").exit_code == 0
        )
        assert (
            "identity" in leitwerk("check", "o.yaml").output
            or "which device" in leitwerk("check", "o.yaml").output
        )
        live = leitwerk("live", "o.yaml", "--for", "0.5 s")
        assert "PASSED: 2 of 2 expectations met" in live.output
        assert leitwerk("exchange", "say", "o.yaml", "text", "a;b").output == "confirmed\n"
        refused = leitwerk("exchange", "say", "o.yaml", "set_point", "120")
        assert (refused.exit_code, "outside the span (4)" in refused.output) == (4, True)
        assert leitwerk("exchange", "say", "o.yaml", "set_point", "x").exit_code == 2
        assert leitwerk("exchange", "say", "o.yaml", "nothing").exit_code == 2
        assert leitwerk("exchange", "say", "o.yaml", "text", "a" * 17).exit_code == 2


def test_a_device_that_says_who_it_is_must_be_the_right_one(tmp_path, monkeypatch, leitwerk):
    field = (
        "- {channel: humidity, decimals: 1}",
        "- {channel: humidity}\n            - {device: serial}",
    )
    with panel(tmp_path, monkeypatch, leitwerk, change=field) as (talks, _):
        at = f"talk+serial://{talks}?line=9600,8N1"
        leitwerk("exchange", "mirror", "cabin.yaml", "office", "--at", at, "--out", "o.yaml")
        assert "PASSED" in leitwerk("live", "o.yaml", "--for", "0.3 s").output
        text = (tmp_path / "o.yaml").read_text("utf-8")
        (tmp_path / "o.yaml").write_text(text.replace("PI-1180", "PI-1181"), "utf-8")
        other = leitwerk("live", "o.yaml", "--for", "0.3 s")
        assert (other.exit_code, "serial number 'PI-1180'" in other.output) == (4, True)


@pytest.mark.parametrize(
    ("line", "change", "says"),
    [
        ("9600,8N1", ("", ""), "1 line understood"),
        ("1200,8N1", ("every 10 s", "every 0.1 s"), "with 9600,8N1 it makes sense"),
        (
            "9600,8N1",
            ("end: CR LF\n      messages", "end: CR\n      messages"),
            "lines end with CR,",
        ),
        (
            "9600,8N1",
            ("keyword: ASK, answer: message readings", "keyword: ASQ, answer: message readings"),
            "it refuses",
        ),
        ("9600,8N1", ("manner: machines", "manner: people"), "what was sent comes back: ASK"),
    ],
)
def test_what_is_wrong_on_a_line_is_said(tmp_path, monkeypatch, leitwerk, line, change, says):
    with panel(tmp_path, monkeypatch, leitwerk, change=change) as (talks, _):
        (tmp_path / "cabin.yaml").write_text(CABIN, "utf-8")
        at = f"text+serial://{talks}?line={line}"
        found = leitwerk("exchange", "diagnose", at, "cabin.yaml", "office", "--for", "0.3 s")
        assert says in found.output
        assert found.exit_code == (says != "1 line understood")


def test_the_programming_port_is_told_from_the_talking_port(tmp_path, monkeypatch, leitwerk):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "cabin.yaml").write_text(CABIN, "utf-8")
    with lw.start_standin("birke", "--rtu") as one:
        found = leitwerk(
            "exchange", "diagnose", str(one.address), "cabin.yaml", "office", "--for", "0.3 s"
        )
    assert "this port programs the device: asked who it is, it says birke,PI-1180" in found.output


@contextmanager
def far_end():
    """A pseudo-terminal: the path of one end, and the other to read and write."""
    near, far = pty.openpty()
    tty.setraw(far)
    try:
        yield os.ttyname(far), near
    finally:
        os.close(near)
        os.close(far)


class Reader(threading.Thread):
    """Reads what comes at one end of a pseudo-terminal, line by line."""

    def __init__(self, near):
        super().__init__(daemon=True)
        self.near, self.data, self.came = near, b"", threading.Condition()
        self.start()

    def run(self):
        try:
            while data := os.read(self.near, 4096):
                with self.came:
                    self.data += data
                    self.came.notify_all()
        except OSError:
            pass

    def wait_for(self, what, timeout=15):
        with self.came:
            assert self.came.wait_for(lambda: re.search(what, self.data), timeout), self.data
            return self.data


def test_attend_is_an_end_itself(tmp_path, monkeypatch, standin):
    """The kiln's logger runs no exchange: Leitwerk says what it measures, and takes a name for it."""
    monkeypatch.chdir(tmp_path)
    with far_end() as (path, near):
        exchange = KILN_EXCHANGE.replace("/dev/ttyUSB1", path)
        text = example("kiln", standin().address) + exchange
        (tmp_path / "kiln.yaml").write_text(text, "utf-8")
        environment = {**os.environ, "LEITWERK_PASSWORD_OPERATOR": "1834"}
        run = [sys.executable, "-m", "leitwerk"]
        subprocess.run(
            [*run, "upload", "kiln.yaml"], env=environment, check=True, capture_output=True
        )
        reader = Reader(near)
        attend = subprocess.Popen(
            [*run, "attend", "kiln.yaml", "--for", "60 s", "--every", "0.1 s"],
            env=environment, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        reader.wait_for(rb"TOP;21\.\d\d;OK\r\n")  # its value has become known
        os.write(near, b"NAME;")
        time.sleep(0.05)
        os.write(near, b'"KILN 7"\r\n?\r\nFOO\r\n')
        reader.wait_for(rb"(?s)TOP;.*ERR 1\r\n.*OK\r\n|OK\r\n.*ERR 1")
        attend.terminate()
        said = attend.communicate(timeout=20)[1]
    assert 'heard: NAME;"KILN 7"' in said
    assert "the keyword 'FOO' is not known" in said


def test_what_is_heard_is_a_channel(tmp_path, monkeypatch, standin, leitwerk):
    """Beside the logger's own channels: expected by live, watched by attend; a bad value is no reading."""
    monkeypatch.chdir(tmp_path)
    with far_end() as (path, near):
        exchange = KILN_EXCHANGE.replace("/dev/ttyUSB1", path).replace(
            "text: {keyword: NAME, values: [{text: 12, to: setting name}]}",
            "out: {keyword: OUT, answer: nothing, values: [{number: °C, decimals: 1, name: t}]}",
        )
        alarm = "alarms: {warm: {above: 20 °C, clear: 19 °C}}"
        outside = f"outside: {{reading: yard.out.t, unit: °C, expect: 12.5 ± 1 °C, {alarm}}}"
        text = example("kiln", standin().address).replace(
            "channels:\n", f"channels:\n  {outside}\n", 1
        )
        (tmp_path / "kiln.yaml").write_text(text + exchange, "utf-8")
        setup = checked(text + exchange)
        stop, said = threading.Event(), [b"OUT;12.5\r\n"]

        def say():
            while not stop.wait(0.05):
                os.write(near, said[0])

        thread = threading.Thread(target=say, daemon=True)
        thread.start()
        try:
            live = leitwerk("live", "kiln.yaml", "--for", "0.5 s").output
            assert re.search(r"outside +12\.5 °C", live)
            with lw.connect(setup) as device:
                attendant = Attendant(setup, device, AttendOptions(tmp_path))
                attendant.exchanges.start(device.identify())
                for line, want in (
                    (b"OUT;12.5\r\n", 12.5),
                    (b"OUT;25\r\n", 25.0),
                    (b"OUT;---\r\n", None),
                ):
                    said[0], end = line, time.monotonic() + 20
                    while (
                        attendant.situation.value("outside") != want
                        or not attendant.exchanges.runners["yard"].kept
                    ):
                        assert time.monotonic() < end
                        attendant.step()
                assert attendant.active() == ["outside.warm"]
                attendant.exchanges.close()
        finally:
            stop.set()
            thread.join()


def test_rules_switch_lines_and_act_on_them(tmp_path, monkeypatch, standin):
    monkeypatch.chdir(tmp_path)
    with far_end() as (path, near):
        exchange = KILN_EXCHANGE.replace("/dev/ttyUSB1", path).replace(
            "text: {keyword: NAME, values: [{text: 12, to: setting name}]}",
            "hush: {keyword: HUSH, do: [{exchange: yard.ask, to: off}, {log: hushed}, {say: yard.top}]}",
        )
        setup = checked(example("kiln", standin().address) + exchange)
        reader, seen = Reader(near), []
        with lw.connect(setup) as device:
            attendant = Attendant(setup, device, AttendOptions(tmp_path, on_event=seen.append))

            def step_until(what):
                end = time.monotonic() + 20
                while not re.search(what, reader.data):
                    assert time.monotonic() < end, reader.data
                    attendant.step()
                    time.sleep(0.01)

            attendant.exchanges.start(device.identify())
            attendant.exchanges.say("yard.top")
            step_until(rb"TOP;---")  # its port is open
            os.write(near, b"?\r\n")
            step_until(rb"(?s)TOP;.*TOP;")
            os.write(near, b"HUSH\r\n")
            step_until(rb"(?s)\nOK\r\n.*TOP;")
            os.write(near, b"?\r\n")
            step_until(rb"ERR 5")
            attendant.exchanges.close()
    assert "hushed" in [event.text for event in seen]
    assert seen[-1].text == "lines: said: 3, understood: 2, switched off: 1"


def test_a_conversation_is_kept_and_said_again(tmp_path, monkeypatch, leitwerk):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "cabin.yaml").write_text(CABIN, "utf-8")
    answers = {b"ASK\r\n": b"KILN;21.5;55.0\r\n", b"\x02X\r\n": b"ERR 1\r\n"}

    def answer(near, stop):
        data = b""
        while not stop.is_set():
            if not select.select([near], [], [], 0.05)[0]:
                continue
            data += os.read(near, 100)
            for line, said in answers.items():
                if line in data:
                    data = data.replace(line, b"", 1)
                    os.write(near, said)

    with far_end() as (path, near):
        stop = threading.Event()
        thread = threading.Thread(target=answer, args=(near, stop), daemon=True)
        thread.start()
        at = f"text+serial://{path}?line=9600,8N1"
        kept = leitwerk(
            "talk",
            at,
            "--setup",
            "cabin.yaml",
            "--keep",
            "k.jsonl",
            "--for",
            "0.3 s",
            typed="ASK\n<STX>X\n",
        )
        assert "→ ASK⟨CR⟩⟨LF⟩" in kept.output
        assert "← KILN;21.5;55.0⟨CR⟩⟨LF⟩" in kept.output
        assert "→ ⟨STX⟩X⟨CR⟩⟨LF⟩" in kept.output
        again = leitwerk("talk", at, "--again", "k.jsonl")
        assert (again.exit_code, "the device answered as before" in again.output) == (0, True)
        answers[b"ASK\r\n"] = b"KILN;21.6;55.0\r\n"
        other = leitwerk("talk", at, "--again", "k.jsonl")
        assert (other.exit_code, "otherwise from byte 9 on" in other.output) == (1, True)
        stop.set()
        thread.join()
    (tmp_path / "k.jsonl").write_text('{"talk": 1}\n[[[[', "utf-8")
    assert leitwerk("talk", at, "--again", "k.jsonl").exit_code == 2


def test_the_sheet_has_every_line_in_bytes(tmp_path, monkeypatch, leitwerk):
    monkeypatch.chdir(tmp_path)
    text = CABIN.replace("partner: the office computer", "partner: '<b>|x'")
    (tmp_path / "cabin.yaml").write_text(text, "utf-8")
    sheet = leitwerk("exchange", "sheet", "cabin.yaml", "office").output
    for piece in (
        "`KILN;21.5;21.5⟨CR⟩⟨LF⟩`",
        "4B 49 4C 4E",
        "| 4 | outside the span |",
        "accepted: 20..95",
    ):
        assert piece in sheet
    assert leitwerk("exchange", "sheet", "cabin.yaml", "office", "--out", "s.html").exit_code == 0
    page = (tmp_path / "s.html").read_text("utf-8")
    assert "<b>" not in page
    assert "<table>" in page
    assert leitwerk("exchange", "sheet", "cabin.yaml", "office", "--out", "s.pdf").exit_code == 2
    assert leitwerk("exchange", "sheet", "cabin.yaml", "nowhere").exit_code == 2


def test_a_line_is_taken_apart(tmp_path, monkeypatch, leitwerk):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "cabin.yaml").write_text(CABIN, "utf-8")
    for words, code, piece in (
        (("SET;77.5",), 0, "'77.5' is number 77.5, to setting bar.high"),
        (("SET;120",), 1, "at byte 5, 120 is outside the span"),
        (("5345543B37372E350D0A", "--hex"), 0, "set_point"),
        (("5345543B", "--hex"), 1, "it waits for more"),
        (("zz", "--hex"), 2, "no pairs"),
    ):
        found = leitwerk("exchange", "hear", "cabin.yaml", "office", *words)
        assert (found.exit_code, piece in found.output) == (code, True), found.output
    assert (
        '"visible": "KILN;---;55.0'
        in leitwerk(
            "exchange",
            "preview",
            "cabin.yaml",
            "office",
            "--value",
            "air=",
            "--value",
            "humidity=55",
            "--json",
        ).output
    )


def test_a_preview_has_the_values_of_the_device(tmp_path, monkeypatch, leitwerk):
    with panel(tmp_path, monkeypatch, leitwerk) as (_, front):
        front("input 2 33.3")
        shown = leitwerk("exchange", "preview", "cabin.yaml", "office", "--live").output
        assert re.search(r"KILN;33\.\d;5[45]\.\d⟨CR⟩", shown)


def test_what_was_said_is_held_against_a_description(tmp_path, monkeypatch, leitwerk):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "cabin.yaml").write_text(CABIN, "utf-8")
    (tmp_path / "k.jsonl").write_text(
        '{"talk": 1, "at": "x", "started": "y"}\n{"s": 1, "way": "said", "hex": "41534b0d0a5345543b350d0a"}\n'
    )
    found = leitwerk("exchange", "hear", "cabin.yaml", "office", "--kept", "k.jsonl")
    assert (
        found.exit_code,
        "ASK: ask" in found.output,
        "5 is outside the span" in found.output,
    ) == (1, True, True)


def test_a_device_runs_its_messages_itself_and_leitwerk_does_not():
    assert checked(CABIN).rules == ()


def test_an_end_over_tcp_connects_again_and_takes_any_pieces(tmp_path, monkeypatch, standin):
    """The other end is a network serial server that hangs up: hand-written, with a plain socket."""
    monkeypatch.chdir(tmp_path)
    with socket.create_server(("127.0.0.1", 0)) as server:
        server.settimeout(20)
        at = f"text+tcp://127.0.0.1:{server.getsockname()[1]}"
        exchange = KILN_EXCHANGE.replace("text+serial:///dev/ttyUSB1?line=9600,8N1", at)
        text = example("kiln", standin().address) + exchange
        setup = checked(text)
        told = []
        runner = ExchangeRunner(
            setup.exchanges[0], value=lambda part: 21.5 if "channel" in part.of else "active",
            tell=told.append, happen=lambda event: None, clock=lw.Clock(), session=1,
        )  # fmt: skip
        runner.start()
        try:
            for _ in range(2):
                end, _ = server.accept()
                with end:
                    end.settimeout(20)
                    for piece in (b"?", b"\r", b"\n?\r\n?\r\n"):
                        end.sendall(piece)
                    said = b""
                    while said.count(b"\n") < 3:
                        said += end.recv(1000)
                    assert said == b"TOP;21.50;HOT\r\n" * 3
        finally:
            runner.close()
    assert any("the connection broke" in one.text for one in told)
    assert "connected again" in [one.text for one in told]
    assert runner.kept == {}


def test_a_value_that_does_not_convert_leaves_the_last_good_one():
    exchange = KILN_EXCHANGE.replace("{text: 12, to: setting name}", "{integer: yes, name: n}")
    with far_end() as (path, near):
        setup = checked(KILN + exchange.replace("/dev/ttyUSB1", path))
        came = threading.Semaphore(0)
        runner = ExchangeRunner(
            setup.exchanges[0], value=lambda part: None, tell=lambda told: came.release(),
            happen=lambda event: None, clock=lw.Clock(), session=1,
        )  # fmt: skip
        runner.start()
        runner.say("top")
        Reader(near).wait_for(rb"TOP;---;---\r\n")  # its port is open
        for line in (b"NAME;7\r\n", b"NAME;x\r\n"):
            os.write(near, line)
            assert came.acquire(timeout=20)
        runner.close()
    kept = runner.kept["text.n"]
    assert (kept.text, kept.value) == ("x", 7)
    assert "is not a number of this kind" in kept.reason
    assert runner.end.counts["not a value of this kind"] == 1


def test_a_person_talks_by_hand_in_a_terminal(tmp_path, monkeypatch, leitwerk):
    with panel(tmp_path, monkeypatch, leitwerk) as (talks, front), far_end() as (path, near):
        far = os.open(path, os.O_RDWR | os.O_NOCTTY)
        process = subprocess.Popen(
            [sys.executable, "-m", "leitwerk", "talk", f"text+serial://{talks}", "--setup", "cabin.yaml"],
            stdin=far, stdout=far, stderr=far, env={**os.environ, "TERM": "xterm"},
        )  # fmt: skip
        os.close(far)
        reader = Reader(near)
        reader.wait_for(rb"> ")
        os.write(near, b"AX\x7fS\t\r")  # a slip, taken back; the rest of the keyword is completed
        reader.wait_for(rb"(?s)\xe2\x86\x92 ASK.*\xe2\x86\x90 KILN;21\.\d")
        os.write(near, b"TEX")
        reader.wait_for(rb"TEX")
        front("key 1")
        reader.wait_for(
            rb"(?s)ASK.*KILN.*KILN;21\.\d;5\S+\r?\n> TEX"
        )  # what was typed is still there
        os.write(near, b"T;Hi\r")
        reader.wait_for(rb"(?s)\xe2\x86\x92 TEXT;Hi.*\xe2\x86\x90 OK")
        os.write(near, b"\x04")
        assert process.wait(20) == 0
