"""Plain lines: confirmations, refusals, and devices that say something else."""

import contextlib
import os
import pty
import select
import socket
import threading
import tty
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from leitwerk.datasheet.text_points import Replies
from leitwerk.devices.device import open_device
from leitwerk.links.byte_link import ByteLink
from leitwerk.links.lines import LineLink
from leitwerk.parsing.address import parse_address
from leitwerk.protocols.lines import LineReader

SHEET = lw.find_datasheet("birke")
OPTIONS = lw.LinkOptions(0.3, retries=0)


def answering(answers):
    """A device that says these bytes, one piece after each line that it gets."""
    listener = socket.create_server(("127.0.0.1", 0))

    def run():
        # Whoever has heard enough hangs up.
        with contextlib.suppress(OSError), listener, listener.accept()[0] as connection:
            for answer in answers:
                connection.recv(300)
                connection.sendall(answer)
            connection.recv(300)

    threading.Thread(target=run, daemon=True).start()
    at = parse_address(f"text+tcp://127.0.0.1:{listener.getsockname()[1]}")
    return open_device(SHEET, at, link=OPTIONS)


@pytest.mark.parametrize(
    ("answers", "kind", "says"),
    [
        ([b"ERR 2\r\n"], lw.DeviceRefused, "it does not take this value"),
        ([b"ERR 77\r\n"], lw.DeviceRefused, "refused 'BLO=1' with 'ERR 77'"),
        ([b"what?\r\n"], lw.LinkError, "'what?' came after 'BLO=1', and not 'OK'"),
        ([b""], lw.LinkTimeout, "no answer to 'BLO=1'"),
        ([b"OK\r\nOK\r\n"], lw.LinkError, "more than one line came"),
        ([b"x" * 70000], lw.LinkError, "more than 65536 bytes"),
    ],
)
def test_a_setting_is_taken_only_when_that_is_confirmed(answers, kind, says):
    with answering(answers) as device, pytest.raises(kind) as caught:
        device.write_settings({"bar.low": 1.0})
    assert says in str(caught.value)


def test_a_question_may_be_refused_too():
    with answering([b"ERR 1\r\n"]) as device, pytest.raises(lw.DeviceRefused, match="know this"):
        device.identify()


def test_lines_that_end_in_other_ways_arrive_whole():
    for end, data, lines in (
        (b"\r", b"1\r2\r\n3", ["1", "2"]), (b"\r\n", b"1\r\n2\r\n", ["1", "2"]),
        (b"\n", b"1\r\n2\n", ["1", "2"]),
    ):  # fmt: skip
        reader = LineReader(end)
        assert [line for byte in data for line in reader.feed(bytes([byte]))] == lines


@given(answer=st.text(max_size=40), refuses=st.sampled_from(["", "ERR {}", "{}?", "E"]))
def test_any_answer_is_a_refusal_or_not(answer, refuses):
    code = Replies(refuses=refuses).refusal(answer)
    assert code is None or code >= 0


@pytest.mark.process
def test_a_password_is_in_no_trace_and_no_message():
    entries = []
    with lw.start_standin("birke", "--rtu") as one:
        at = one.address
        with open_device(SHEET, at, link=replace(OPTIONS, tracer=entries.append)) as device:
            device.log_in("operator", "bark")
            with pytest.raises(lw.DeviceRefused) as caught:
                device.log_in("operator", "spruce")
    seen = f"{[str(entry) for entry in entries]} {caught.value} {caught.value.__context__}"
    assert "KEY=" in seen
    assert not any(word in seen for word in ("bark", "spruce", b"bark".hex(" "), b"spru".hex(" ")))


def test_what_comes_unasked_is_not_the_next_answer():
    listener = socket.create_server(("127.0.0.1", 0))
    heard = threading.Event()

    def run():
        with listener, listener.accept()[0] as connection:
            connection.recv(300)
            connection.sendall(b"birke,PI-1180,4.0\r\n")
            heard.wait(5)
            connection.sendall(b"stray\r\n")
            connection.recv(300)
            connection.sendall(b"birke,PI-1180,4.1\r\n")
            connection.recv(300)

    threading.Thread(target=run, daemon=True).start()
    at = parse_address(f"text+tcp://127.0.0.1:{listener.getsockname()[1]}")
    with open_device(SHEET, at, link=OPTIONS) as device:
        assert device.identify().serial == "PI-1180"
        heard.set()
        # It has arrived when the socket has something to read.
        select.select([device.link._bus.connection._end._end], [], [], 5)
        assert device.identify().firmware == "4.1"


@pytest.fixture
def port():
    """A serial port, and the other end of its wire."""
    near, far = pty.openpty()
    tty.setraw(near)
    yield os.ttyname(far), near
    os.close(near)
    os.close(far)


def test_two_devices_on_one_serial_port_share_it(port):
    path, wire = port
    seen = []

    def devices():
        """Balances 1 and 2 on one line: each answers the line that begins with its number."""
        rest = b""
        while len(seen) < 80:
            rest += os.read(wire, 300)
            *lines, rest = rest.split(b"\n")
            for line in lines:
                seen.append(line)
                os.write(wire, line[:1] + b" has heard " + line[1:] + b"\n")

    thread = threading.Thread(target=devices)
    thread.start()
    at = parse_address(f"text+serial://{path}?line=9600,8N1")
    links, found = [LineLink(at), LineLink(at)], {1: [], 2: []}

    def ask(number):
        for k in range(40):
            found[number].append(links[number - 1].query(f"{number}:{k}"))

    askers = [threading.Thread(target=ask, args=(number,)) for number in found]
    for one in askers:
        one.start()
    for one in (*askers, thread):
        one.join(20)
    for number, answers in found.items():
        assert answers == [f"{number} has heard :{k}" for k in range(40)]
    links[0].close()
    links[1].send("2:still open")
    with pytest.raises(lw.LinkError, match="in use here as text"):
        LineLink(parse_address(f"text+serial://{path}?line=4800,8N1"))
    links[1].close()


def test_bytes_are_read_up_to_any_end_in_whatever_pieces_they_come(port):
    path, wire = port
    link = ByteLink(parse_address(f"text+serial://{path}?line=9600,8N1"))
    link.write(b"?", 1.0, "a test")
    os.write(wire, b"one\r")
    assert link.read_until(b"\r\n", 0.05, "a test") is None
    os.write(wire, b"\ntwo\r\n\x02three\x03rest")
    assert [link.read_until(end, 5.0, "a test") for end in (b"\r\n", b"\r\n", b"\x03")] == [
        b"one\r\n", b"two\r\n", b"\x02three\x03",
    ]  # fmt: skip
    assert (link.has(b"rest"), link.has(b"\n")) == (True, False)
    link.discard()
    assert not link.has(b"rest")
    link.close()
