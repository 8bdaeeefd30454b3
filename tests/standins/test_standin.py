"""The stand-in seen by a client that shares no code with Leitwerk: frames made by hand."""

import socket
import struct

import pytest

import leitwerk as lw
from conftest import kept, kiln

OPERATOR, ADMINISTRATOR = 1834, 7261
COMMIT, START, STOP = 1, 3, 4


class Client:
    """Modbus TCP by the book: MODBUS Messaging on TCP/IP V1.0b, 3.1; functions 3, 4 and 16."""

    def __init__(self, address):
        self.socket = socket.create_connection((address.host, address.port), timeout=5)
        self.unit, self.number = address.unit, 0

    def ask(self, pdu):
        self.number += 1
        self.socket.sendall(struct.pack(">3HB", self.number, 0, len(pdu) + 1, self.unit) + pdu)
        head = self.socket.recv(7, socket.MSG_WAITALL)
        number, _, length, _ = struct.unpack(">3HB", head)
        assert number == self.number
        return self.socket.recv(length - 1, socket.MSG_WAITALL)

    def read(self, start, count, function=3):
        reply = self.ask(struct.pack(">B2H", function, start, count))
        assert reply[0] == function, f"exception {reply[1]}"
        return list(struct.unpack(f">{count}H", reply[2:]))

    def write(self, start, *words):
        """None, or the exception code."""
        head = struct.pack(">B2HB", 16, start, len(words), 2 * len(words))
        reply = self.ask(head + struct.pack(f">{len(words)}H", *words))
        return reply[1] if reply[0] & 0x80 else None

    def log_in(self, password):
        return self.write(900, 0, password)

    def command(self, number):
        return self.write(902, number)


@pytest.fixture
def client(standin):
    one = standin()
    client = Client(one.address)
    client.address = one.address
    with client.socket:
        yield client


def upload(address, tmp_path):
    setup = kiln(address)
    with lw.connect(setup) as device:
        lw.upload(setup, device, kept(tmp_path))
    return setup


def text(words):
    return struct.pack(f">{len(words)}H", *words).split(b"\0")[0].decode("latin-1")


@pytest.mark.process
def test_a_foreign_client_finds_the_uploaded_values(client, tmp_path):
    assert client.read(16, 2) == [0, 600]  # factory: every 60.0 s
    upload(client.address, tmp_path)
    assert text(client.read(0, 16)) == "Kiln 2, spring drying run"
    assert client.read(16, 2) == [0, 100]
    assert client.read(60 + 40, 2) == [3, 5]  # Pt100 in 0..400 Ω
    assert text(client.read(66 + 40, 12)) == "Air above the stack"
    assert text(client.read(62 + 40, 4)) == "°C"
    # The valve: 4..20 mA to 0..100 %, in thousandths.
    assert struct.unpack(">4i", struct.pack(">8H", *client.read(78 + 200, 8))) == (
        4000, 20000, 0, 100_000,
    )  # fmt: skip
    assert client.read(600, 6) == [1, 1, 780, 750, 30, 3]  # the alarm too_hot


@pytest.mark.process
def test_a_scale_falsified_by_hand_makes_the_verdict_wrong(client, tmp_path):
    setup = upload(client.address, tmp_path)
    client.log_in(OPERATOR)
    assert client.write(84 + 200, *struct.unpack(">2H", struct.pack(">i", 80_000))) is None
    assert client.command(COMMIT) is None

    with lw.connect(setup) as device:
        report = lw.verify(setup, device, duration_s=0.2, period_s=0.1)

    verdicts = {c.name: c.verdict for c in report.channels}
    assert verdicts.pop("valve") == "fail"
    assert set(verdicts.values()) == {"pass"}
    (valve,) = (c for c in report.channels if c.name == "valve")
    assert valve.mean == pytest.approx(32, abs=0.5)
    assert "channel.5.scale.value_high is 80 %, not 100 %" in valve.reason
    assert report.outcome == "not passed"


@pytest.mark.process
def test_rights_are_asked_for(client):
    interval = (16, 0, 50)
    assert client.write(*interval) == 1  # nobody is logged in
    assert client.log_in(1111) == 1
    assert client.log_in(OPERATOR) is None
    assert client.write(*interval) is None
    assert client.write(24, 4) == 1  # the unit identifier is the administrator's
    assert client.write(23, 4) == 2  # read-only
    assert client.write(90, 4) == 2  # nothing there
    assert client.read(16, 2) == [0, 600]  # not in force before the commit
    assert client.command(COMMIT) is None
    assert client.read(16, 2) == [0, 50]
    assert client.log_in(ADMINISTRATOR) is None
    assert client.write(24, 4) is None
    assert client.write(900, 0, 0) is None  # log out
    assert client.command(COMMIT) == 1


@pytest.mark.process
def test_settings_are_taken_only_while_it_is_not_recording(client):
    client.log_in(OPERATOR)
    assert client.command(START) is None
    assert client.read(40, 5, function=4) == [1, 1, 0, 1, 1]
    assert client.write(16, 0, 50) == 6
    assert client.command(STOP) is None
    assert client.write(16, 0, 50) is None
    assert client.read(40, 5, function=4) == [0, 1, 2, 1, 1]  # one recording, not fetched


@pytest.mark.process
def test_a_commit_with_a_bad_value_changes_nothing(client):
    client.log_in(OPERATOR)
    assert client.write(16, 0, 50) is None
    assert client.write(100, 99) is None
    assert client.command(COMMIT) == 3
    assert client.read(16, 2) == [0, 600]


@pytest.mark.process
@pytest.mark.parametrize(
    ("function", "start", "count", "code"), [(3, 990, 20, 2), (4, 499, 2, 2), (1, 0, 1, 1)]
)
def test_what_it_does_not_have_is_an_exception(client, function, start, count, code):
    reply = client.ask(struct.pack(">B2H", function, start, count))
    assert reply == bytes((function | 0x80, code))


@pytest.mark.process
def test_it_ends_with_its_block():
    with lw.start_standin("fichte-8") as one:
        client = Client(one.address)
        with client.socket:
            assert client.read(24, 1) == [3]
    assert one.process.returncode is not None
    with pytest.raises(OSError):
        socket.create_connection((one.address.host, one.address.port), timeout=1)


@pytest.mark.process
def test_a_stand_in_that_cannot_start_says_why(client):
    with pytest.raises(lw.LeitwerkError, match="did not start: there is no stand-in"):
        lw.start_standin("eiche")
    with pytest.raises(lw.LeitwerkError, match="did not start: cannot listen on port"):
        lw.start_standin("fichte-8", "--port", str(client.address.port))
