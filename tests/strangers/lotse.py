"""One end of a guarded exchange, written from docs/guide/exchanges.md alone.

It shares nothing with the code under test: CRC, escapes, fingerprint, numbers and repeats are worked
out here once more, in the plainest way.
"""

import hashlib
import json
import re
import select
import time

SAFE = set("\"#$&'()*+,-./:<=>?[\\]^_`{|}~ 0123456789"
           "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz")  # fmt: skip


def crc(data):
    """CRC-32: polynomial 04C11DB7, reflected, as in ISO/IEC 8802-3."""
    value = 0xFFFFFFFF
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = (value >> 1) ^ (0xEDB88320 if value % 2 else 0)
    return b"%08X" % (value ^ 0xFFFFFFFF)


def escaped(text):
    return "".join(
        chr(byte) if chr(byte) in SAFE else f"%{byte:02X}" for byte in text.encode("utf-8")
    )


def unescaped(text):
    raw = re.sub(r"%([0-9A-F]{2})", lambda m: chr(int(m[1], 16)), text)
    return raw.encode("latin-1").decode("utf-8")


def fingerprint(*ways):
    """Of two directions, each a list of [KEYWORD, [[KIND, UNIT, STATES, LEAST, MOST], …]]."""
    lines = sorted(json.dumps(sorted(way), separators=(",", ":")) for way in ways)
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()[:8]


class Lotse:
    """``port`` has write(bytes) and fileno(). ``spoil``: what the line does to each line that it says."""

    def __init__(self, port, print_of, session, spoil=lambda line: [line]):
        self.port, self.print_of, self.session, self.spoil = port, print_of, session, spoil
        self.number, self.theirs, self.buffer = 0, {}, b""
        self.got, self.acknowledged, self.refused = [], set(), []

    def frame(self, kind, session, number, body=""):
        text = f"{kind}{session:04X}{number:04X}{self.print_of}{len(body):04X}{body}".encode(
            "ascii"
        )
        return text + crc(text) + b"\r\n"

    def put(self, line):
        for one in self.spoil(line):
            self.port.write(one)

    def say(self, keyword, *values):
        """Say a line, and repeat it until it is acknowledged; the name of the line for its answer."""
        self.number += 1
        line = self.frame("D", self.session, self.number, ";".join([keyword, *values]))
        for _ in range(5):
            self.put(line)
            if self.listen(1.0, lambda: self.number in self.acknowledged):
                return f"@{self.session:04X}{self.number:04X}"
        raise AssertionError("it is not acknowledged")

    def listen(self, seconds, until):
        end = time.monotonic() + seconds
        while not until() and time.monotonic() < end:
            if select.select([self.port.fileno()], [], [], 0.02)[0]:
                self.buffer += self.port.read(1)
                while b"\r\n" in self.buffer:
                    line, _, self.buffer = self.buffer.partition(b"\r\n")
                    self.take(line)
        return until()

    def take(self, line):
        if crc(line[:-8]) != line[-8:]:
            return
        kind, session, number = line[:1], int(line[1:5], 16), int(line[5:9], 16)
        body = line[21:-8].decode("ascii")
        assert int(line[17:21], 16) == len(body)
        if kind == b"A":
            self.acknowledged.add(number)
        elif kind == b"N":
            self.refused.append(body)
        elif line[9:17].decode() != self.print_of:
            self.put(self.frame("N", session, number, "1"))
        elif session not in self.theirs and number != 1:
            self.put(self.frame("N", session, number, "2"))
        else:
            if self.theirs.get(session, 0) < number:
                self.theirs[session] = number
                self.got.append(body)
            self.put(self.frame("A", session, number))

    def answer_to(self, name):
        """The body that answers a line."""
        found = []

        def came():
            found[:] = [body for body in self.got if body.startswith(f"{name};")]
            return bool(found)

        assert self.listen(5.0, came), self.got
        return found[0].removeprefix(f"{name};").split(";")
