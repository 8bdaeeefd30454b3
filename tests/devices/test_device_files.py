"""Files in a device: over a socket from a stranger who counts bytes by hand, right and wrong."""

import socket
import threading
import zlib

import pytest

import leitwerk as lw
from leitwerk.devices.device import Device
from leitwerk.devices.device_files import list_files, read_file
from leitwerk.errors import LinkError, QuantityError
from leitwerk.links.lines import LineLink
from leitwerk.parsing.address import parse_address
from leitwerk.recordings.fetch_files import fetch_files, is_fetched

CONTENT = bytes(range(256)) * 3 + b"\n#3\n"


class Stranger:
    """Answers on a socket by the manual of eibe; ``says`` are answers of its own to single lines."""

    def __init__(self, says=(), piece=500):
        self.says, self.piece = dict(says), piece
        self.server = socket.create_server(("127.0.0.1", 0))
        host, port = self.server.getsockname()
        self.address = parse_address(f"scpi+tcp://{host}:{port}")
        threading.Thread(target=self.serve, daemon=True).start()

    def serve(self):
        while True:
            try:
                end, _ = self.server.accept()
            except OSError:
                return
            first, rest = 0, b""
            with end:
                while data := end.recv(4096):
                    *lines, rest = (rest + data).split(b"\n")
                    for line in lines:
                        if line.startswith(b"FILE:FIRS "):
                            first = int(float(line.split()[1]))
                        elif line.endswith(b"?"):
                            end.sendall(self.answer(line.decode(), first))

    def answer(self, line, first):
        if line in self.says:
            return self.says[line]
        if line == "FILE:DATA?":
            data = CONTENT[first : first + self.piece]
            return b"#%d%d%s\n" % (len(str(len(data))), len(data), data)
        found = {
            "*IDN?": "Tannried Instrumente,eibe,SH-0093,3.1", "SYST:ERR?": '0,"No error"',
            "FILE:COUN?": "1", "FILE:NAME?": '"one.wav"', "FILE:SIZE?": str(len(CONTENT)),
            "FILE:CSUM?": str(zlib.crc32(CONTENT)), "FILE:SHOW?": str(first),
        }  # fmt: skip
        return (found.get(line, "0") + "\n").encode()


@pytest.fixture
def meet():
    """A device at a stranger."""
    ends = []

    def start(*args, **more):
        stranger = Stranger(*args, **more)
        link = LineLink(stranger.address, options=lw.LinkOptions(0.3, retries=0))
        ends.extend((link, stranger.server))
        return Device(lw.find_datasheet("eibe"), link)

    yield start
    for end in ends:
        end.close()


@pytest.mark.parametrize("piece", [1, 7, 500, 100_000])
def test_a_file_comes_whole_in_pieces_of_any_size(meet, tmp_path, piece):
    device = meet(piece=piece)
    (info,) = list_files(device)
    assert str(info) == "one.wav, 772 B"
    (first,), (again,) = fetch_files(device, tmp_path), fetch_files(device, tmp_path)
    assert (first.path.read_bytes(), first.is_new, again.is_new) == (CONTENT, True, False)
    # Another content of that name stays where it is.
    first.path.write_bytes(b"mine")
    assert not is_fetched(tmp_path, info)
    (second,) = fetch_files(device, tmp_path)
    assert (second.path.name, second.path.read_bytes()) == ("one-2.wav", CONTENT)
    assert first.path.read_bytes() == b"mine"


@pytest.mark.parametrize(
    ("line", "answer", "message"),
    [
        ("FILE:CSUM?", b"1\n", "does not have its check sum"),
        ("FILE:SHOW?", b"7\n", "shows byte 7 of one.wav, byte 0 was asked for"),
        ("FILE:SIZE?", b"-1\n", "is no size of one.wav"),
        ("FILE:SIZE?", b"9e12\n", "is no size of one.wav"),
        ("FILE:COUN?", b"1e6\n", "is no number of files"),
        ("FILE:NAME?", b'"../one.wav"\n', "is no name for a file here"),
        ("FILE:NAME?", b'".."\n', "is no name for a file here"),
        ("FILE:NAME?", b'""\n', "is no name for a file here"),
        ("FILE:DATA?", b"#0abc\n", "does not begin a block"),
        ("FILE:DATA?", b"CRC ERROR\n", "does not begin a block"),
        ("FILE:DATA?", b"#9999999999\n", "is no length of a block"),
        ("FILE:DATA?", b"#2x0\n", "is no length of a block"),
        ("FILE:DATA?", b"#15abcdefgh\n", "does not end where its length says"),
        ("FILE:DATA?", b"#299abc\n", "no whole answer"),
        ("FILE:DATA?", b"#10\n", "byte 0 was asked for"),
        ("FILE:DATA?", b"#3900" + bytes(900) + b"\n", "does not have its check sum"),
    ],
)
def test_what_a_device_says_wrongly_leaves_no_file(meet, tmp_path, line, answer, message):
    device = meet([(line, answer)])
    with pytest.raises(LinkError, match=message):
        list(fetch_files(device, tmp_path))
    assert list(tmp_path.iterdir()) == []


def test_a_file_that_was_exchanged_meanwhile_is_not_taken(meet):
    device = meet()
    (info,) = list_files(device)
    device.link.close()
    other = meet([("FILE:CSUM?", b"5\n")])
    with pytest.raises(QuantityError, match=r"is not one.wav any more"):
        list(read_file(other, info))
