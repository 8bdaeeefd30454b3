"""Whatever a device sends: the library's own errors, in time, and never a late answer for the next."""

import contextlib
import json
import os
import pty
import socket
import threading
import time
import tty

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import leitwerk as lw
from leitwerk.devices.device import open_device
from leitwerk.links.modbus import ModbusLink
from leitwerk.parsing.address import parse_address, parse_where
from leitwerk.protocols.modbus import ReadRequest
from leitwerk.transfer.receipt import last_receipts

OPTIONS = lw.LinkOptions(0.05, retries=0)
# A good answer to "read input 0..1" of unit 3: header, function, bytes, two registers.
GOOD = bytes.fromhex("00010000000703040400070008")
few = settings(
    max_examples=settings().max_examples // 2,  # each one waits for a time-out
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)


class Speaker:
    """A device that answers everything it hears with the bytes that it is told to say."""

    def __init__(self):
        self.says = b""

    def talk(self, read, write):
        with contextlib.suppress(OSError):
            while read():
                if self.says:
                    write(self.says)


@pytest.fixture
def on_socket():
    listener, speaker = socket.create_server(("127.0.0.1", 0)), Speaker()

    def serve():
        with contextlib.suppress(OSError):
            while True:
                one = listener.accept()[0]
                threading.Thread(target=answer, args=(one,), daemon=True).start()

    def answer(one):
        with one:
            speaker.talk(lambda: one.recv(4096), one.sendall)

    threading.Thread(target=serve, daemon=True).start()
    yield speaker, f"127.0.0.1:{listener.getsockname()[1]}"
    listener.close()


@pytest.fixture
def on_port():
    near, far = pty.openpty()
    tty.setraw(far)
    speaker = Speaker()
    talk = (lambda: os.read(near, 4096), lambda data: os.write(near, data[:2000]))
    threading.Thread(target=speaker.talk, args=talk, daemon=True).start()
    yield speaker, os.ttyname(far)
    os.close(far)
    os.close(near)


@st.composite
def spoilt(draw, good):
    """A good frame with some bytes changed, cut off, or put in; or nothing like one."""
    if draw(st.booleans()):
        return draw(st.binary(max_size=300))
    data = bytearray(good)
    for _ in range(draw(st.integers(1, 3))):
        at = draw(st.integers(0, len(data) - 1))
        data[at : at + draw(st.integers(0, 2))] = draw(st.binary(min_size=1, max_size=2))
    return bytes(data)


@few
@given(answer=spoilt(GOOD))
def test_any_modbus_frame_is_an_answer_or_an_error(on_socket, answer):
    speaker, host = on_socket
    speaker.says = answer
    link = ModbusLink(parse_address(f"modbus+tcp://{host}?unit=3"), options=OPTIONS)
    began = time.monotonic()
    try:
        words = link.read([ReadRequest("input", 0, 2)])
    except lw.LeitwerkError as error:
        words = []
        assert "127.0.0.1" in error.message  # noqa: PT017 - either is right
    finally:
        link.close()
    assert len(words) in {0, 2}
    assert time.monotonic() - began < 5


@few
@given(answer=spoilt(b"birke,PI-1180,4.0\r\n"))
def test_any_line_is_an_answer_or_an_error(on_socket, answer):
    speaker, host = on_socket
    speaker.says = answer
    with (
        open_device(
            lw.find_datasheet("birke"), parse_address(f"text+tcp://{host}"), link=OPTIONS
        ) as device,
        contextlib.suppress(lw.LeitwerkError),
    ):
        assert device.identify().model.isprintable()


@few
@given(answer=spoilt(b"0+17.52+19.03\r\n"))
def test_any_answer_of_a_sensor_is_one_or_an_error(on_port, answer):
    speaker, path = on_port
    speaker.says = answer.replace(b"000", b"0")  # a measurement of minutes would be waited for
    at = parse_address(f"sdi12+serial://{path}?line=1200,8N1")
    with open_device(lw.find_datasheet("ahorn"), at, link=OPTIONS) as device:
        for act in (device.identify, device.read_settings):
            with contextlib.suppress(lw.LeitwerkError):
                act()


@given(text=st.text(max_size=80) | st.from_regex(r"\A[a-z0-9]+\+[a-z]+://.{0,40}\Z"))
def test_any_text_is_an_address_a_name_or_an_error(text):
    with contextlib.suppress(lw.QuantityError):
        where = parse_where(text)
        assert parse_where(str(where)) == where


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner),
    max_leaves=8,
)


@few
@given(content=st.binary(max_size=60) | json_values.map(lambda v: json.dumps(v).encode()))
def test_any_file_is_a_receipt_or_passed_over(tmp_path, content):
    folder = tmp_path / "K2-00417"
    folder.mkdir(exist_ok=True)
    (folder / "x-receipt.json").write_bytes(content)
    assert last_receipts(tmp_path, "K2-417", 3) == []
