"""Links: addresses, serial lines over pseudo-terminals, traces, and answers that are none."""

import re
import socket
import struct
import threading

import pytest

import leitwerk as lw
from conftest import ROOT, example, kept, kiln
from leitwerk.links.modbus import ModbusLink
from leitwerk.links.serial_port import why_port_fails
from leitwerk.parsing.address import _SCHEMES, parse_address
from leitwerk.protocols.modbus import ReadRequest, WriteRequest


@pytest.mark.parametrize(
    ("typed", "written"),
    [
        ("modbus+tcp://kiln", "modbus+tcp://kiln:502?unit=1"),
        ("modbus+tcp://[::1]:5020?unit=3", "modbus+tcp://[::1]:5020?unit=3"),
        ("modbus+rtu:///dev/ttyUSB0", "modbus+rtu:///dev/ttyUSB0?unit=1&line=19200,8E1"),
        ("modbus+rtu:///COM3?unit=9&line=9600,8n2", "modbus+rtu:///COM3?unit=9&line=9600,8N2"),
        ("modbus+rtu://hub:4001?unit=2", "modbus+rtu://hub:4001?unit=2"),
    ],
)
def test_addresses_are_read_and_written(typed, written):
    assert str(parse_address(typed)) == written
    assert parse_address(written) == parse_address(typed)


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ("http://kiln", "not an address that Leitwerk knows"),
        ("modbus+rtu://hub", "not an address that Leitwerk knows"),
        ("modbus+rtu:///", "not an address of a serial port"),
        ("modbus+rtu:///dev/x?line=9600", "line=9600 is not a serial line"),
        ("modbus+tcp://kiln?unit=0", "unit=0 is not a unit"),
        ("modbus+tcp://kiln:99999", "is not an address"),
        ("modbus+tcp://kiln/x?speed=9", "not an address that Leitwerk knows"),
    ],
)
def test_what_is_no_address(typed, says):
    with pytest.raises(lw.QuantityError, match=says) as caught:
        parse_address(typed)
    assert caught.value.valid


@pytest.mark.process
def test_the_whole_thread_on_a_serial_line_with_a_masked_trace(standin, tmp_path):
    entries = []
    setup = kiln(standin("--rtu").address)
    with lw.connect(setup, link=lw.LinkOptions(tracer=entries.append)) as device:
        receipt = lw.upload(setup, device, kept(tmp_path))
        report = lw.verify(setup, device, duration_s=0.4, period_s=0.2)
    assert (len(receipt.changes), report.outcome) == (48, "passed")
    login = [str(e) for e in entries if "holding 900..901" in e.meaning and e.sent]
    assert login[0].endswith("03 10 03 84 00 02 04 **  write holding 900..901")
    assert not any(struct.pack(">I", 1834).hex(" ") in str(entry) for entry in entries)
    assert [e.sent for e in entries[:4]] == [True, False, True, False]


@pytest.mark.process
def test_reads_outlive_a_noisy_line(standin):
    setup = kiln(standin("--rtu", "--corrupt-every", "4").address)
    with lw.connect(setup, link=lw.LinkOptions(0.3)) as device:
        assert device.identify().serial == "K2-00417"
        assert len(device.read_settings().values) == 209


@pytest.mark.process
def test_devices_on_one_port_share_it(standin):
    address = standin("--rtu").address
    links = [ModbusLink(address) for _ in range(3)]
    request = [ReadRequest("input", 0, 30)]
    expected, found = links[0].read(request), []
    threads = [
        threading.Thread(target=lambda one=one: found.extend(one.read(request) for _ in range(10)))
        for one in links
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert found == [expected] * 30
    for link in links:
        link.close()


def test_a_port_that_does_not_open_is_named(tmp_path):
    setup = kiln("modbus+rtu:///dev/ttyNOWHERE?unit=3&line=9600,8N1")
    with lw.connect(setup) as device, pytest.raises(lw.LinkError, match="there is no such port"):
        device.identify()
    plain = tmp_path / "file"
    plain.write_text("x")
    assert why_port_fails(str(plain))[0] == "it is not a serial port, or broken"


def serve_once(reply):
    """A server that answers every request with what ``reply`` makes of it."""
    listener = socket.create_server(("127.0.0.1", 0))

    def run():
        with listener, listener.accept()[0] as connection:
            while request := connection.recv(300):
                connection.sendall(reply(request))

    threading.Thread(target=run, daemon=True).start()
    return parse_address(f"modbus+tcp://127.0.0.1:{listener.getsockname()[1]}?unit=3")


def frame(request, pdu, unit=3):
    return request[:4] + struct.pack(">HB", len(pdu) + 1, unit) + pdu


def test_coils_and_discrete_inputs_over_a_socket():
    """MODBUS Application Protocol V1.1b3, 6.1, 6.2 and 6.11: bits, lowest first, in whole bytes."""
    written = []

    def reply(request):
        function = request[7]
        if function == 15:
            written.append(request[8:])
            return frame(request, request[7:12])
        return frame(request, bytes([function, 2, 0b10101101, 0b0000001]))

    link = ModbusLink(serve_once(reply), options=lw.LinkOptions(1))
    assert link.read([ReadRequest("coil", 0, 9)]) == [1, 0, 1, 1, 0, 1, 0, 1, 1]
    assert link.read([ReadRequest("discrete", 7, 10)])[:3] == [1, 0, 1]
    link.write(WriteRequest(4, (1, 0, 1), ("a", "b", "c"), "coil"))
    assert written == [bytes([0, 4, 0, 3, 1, 0b101])]
    with pytest.raises(lw.LinkError, match="it sent 16 bits"):
        link.read([ReadRequest("coil", 0, 3)])
    link.close()


def crc(data):
    """MODBUS over Serial Line V1.02, 6.2.2."""
    register = 0xFFFF
    for byte in data:
        register ^= byte
        for _ in range(8):
            register = (register >> 1) ^ 0xA001 if register & 1 else register >> 1
    return struct.pack("<H", register)


def test_rtu_frames_through_a_serial_server():
    asked = []

    def reply(request):
        asked.append(request)
        answer = bytes([3, 4, 4, 0, 7, 0, 8])
        return answer + crc(answer)

    tcp = serve_once(reply)
    link = ModbusLink(
        parse_address(f"modbus+rtu://127.0.0.1:{tcp.port}?unit=3"), options=lw.LinkOptions(1)
    )
    assert link.read([ReadRequest("input", 0, 2)]) == [7, 8]
    question = bytes([3, 4, 0, 0, 0, 2])
    assert asked == [question + crc(question)]
    link.close()


def test_a_broken_connection_is_made_anew_for_a_read_and_never_for_a_write():
    listener, requests = socket.create_server(("127.0.0.1", 0)), []

    def run():
        with listener:
            for answers in (False, True, False):
                with listener.accept()[0] as connection:
                    requests.append(connection.recv(300))
                    if answers:
                        connection.sendall(frame(requests[-1], bytes([4, 2, 0, 7])))

    threading.Thread(target=run, daemon=True).start()
    port = listener.getsockname()[1]
    link = ModbusLink(
        parse_address(f"modbus+tcp://127.0.0.1:{port}?unit=3"), options=lw.LinkOptions(1)
    )
    assert link.read([ReadRequest("input", 0, 1)]) == [7]
    link.close()
    link = ModbusLink(
        parse_address(f"modbus+tcp://127.0.0.1:{port}?unit=3"), options=lw.LinkOptions(1)
    )
    with pytest.raises(lw.LinkError, match=r"broke|no answer"):
        link.write(WriteRequest(0, (1,), ("a",)))
    assert len(requests) == 3
    link.close()


@pytest.mark.parametrize(
    ("reply", "says"),
    [
        (lambda r: frame(r, bytes([4, 2, 0, 7])), "it sent 1 registers"),
        (lambda r: frame(r, bytes([3, 4, 0, 7, 0, 8])), "it answered with function 3"),
        (lambda r: frame(r, bytes([4, 4, 0, 7, 0, 8]), unit=9), "no answer|unit 9"),
        (lambda r: frame(b"\xff\xff" + r[2:], bytes([4, 4, 0, 7, 0, 8])), "no answer|broke"),
        (lambda _: b"garbage that is not a frame at all", "no answer|broke"),
        (lambda r: frame(r, bytes([0x84, 2])), "refused 'read input 0..1' with code 2"),
    ],
)  # fmt: skip
def test_an_answer_to_another_question_is_never_taken(reply, says):
    link = ModbusLink(serve_once(reply), options=lw.LinkOptions(0.2))
    with pytest.raises((lw.LinkError, lw.DeviceRefused), match=says):
        link.read([ReadRequest("input", 0, 2)])
    link.close()


@pytest.mark.process
@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["--drop-every", "20"], "the connection broke"),
        (["--wrong-unit-every", "9"], "unit 4 answered"),
        (["--power-loss-at-write", "3"], "the connection broke"),
        (["--silent-after-requests", "9"], "no answer to"),
    ],
)
def test_faults_of_the_link_leave_a_whole_device(standin, tmp_path, words, says):
    """Whatever goes wrong, an upload ends with a true state, and the next one mends it."""
    setup = kiln(standin(*words).address)
    with lw.connect(setup, link=lw.LinkOptions(0.5, retries=0)) as device:

        def work():
            for _ in range(9):
                lw.upload(setup, device, kept(tmp_path))
                device.read_settings()

        with pytest.raises(lw.LeitwerkError, match=says) as caught:
            work()
        if isinstance(caught.value, lw.UploadError):
            assert caught.value.state.startswith(("unchanged", "it works with its old settings",
                                                  "it works with the new settings"))  # fmt: skip


@pytest.mark.process
def test_power_lost_without_a_commit_leaves_what_the_upload_says(leitwerk, tmp_path, monkeypatch):
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "2208")
    with lw.start_standin("linde", "--rtu", "--power-loss-at-write", "2") as one:
        path = tmp_path / "station.yaml"
        path.write_text(example("station", one.address), encoding="utf-8")
        broken = leitwerk("upload", str(path), "--timeout", "0.5")
        assert (broken.exit_code, "some of its settings are new and some" in broken.stderr) == (
            3,
            True,
        )
        mended = leitwerk("upload", str(path), "--timeout", "0.5")
    assert "read back, all as asked" in mended.stdout


@pytest.mark.process
def test_reads_outlive_a_device_that_hangs_up(standin):
    with lw.connect(kiln(standin("--drop-every", "3").address)) as device:
        assert [device.identify().serial for _ in range(5)] == ["K2-00417"] * 5


@pytest.mark.process
def test_one_port_speaks_one_language(standin):
    address = standin("--rtu").address
    link = ModbusLink(address)
    with pytest.raises(lw.LinkError, match=r"in use here as modbus\+rtu at 19200,8N1"):
        ModbusLink(parse_address(str(address).replace("19200", "9600")))
    link.close()


def test_the_page_has_every_kind_of_address():
    page = (ROOT / "docs" / "guide" / "links.md").read_text("utf-8")
    rows = re.findall(r"^\| `(\w+\+\w+://[^`]*)`", page, re.MULTILINE)
    examples = {
        "USER@": "ida@",
        "HOST:PORT": "kiln:5000",
        "unit=U": "unit=1",
        "line=L": "line=9600,8N1",
    }
    for old, new in examples.items():
        rows = [row.replace(old, new) for row in rows]
    assert {parse_address(row).scheme for row in rows} == set(_SCHEMES)
