"""Benchmarks of wireless transmitters; ``make bench`` runs them after the others."""

from __future__ import annotations

import binascii
import fcntl
import os
import pty
import struct
import subprocess
import sys
import termios
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from itertools import count

from run import compare, show

import leitwerk as lw
from leitwerk.devices.device import open_device
from leitwerk.devices.listening import listening
from leitwerk.parsing.address import parse_address
from leitwerk.wireless.telegrams import TelegramReader

TELEGRAMS, PIECE = 20_000, 256
FLOOD_HZ, FLOOD_S, BURST = 1_000, 5.0, 20
RAW = struct.Struct(">2sIBiBbB")  # of the manual of hasel, without the check
BEGINS = b"\x02\xa5"


def telegram(k: int) -> bytes:
    """The telegram ``k``, of one of 40 transmitters, by the table of the manual."""
    head = RAW.pack(BEGINS, 1000 + k % 40, 1 + k % 4, k % 2, k % 4, -70, k % 256)
    return head + binascii.crc_hqx(head, 0xFFFF).to_bytes(2, "big")


def decoding() -> None:
    """Telegrams in pieces of 256 bytes, beside a loop that is written by hand."""
    received = lw.find_datasheet("hasel").telegrams
    assert received is not None
    form = received.form
    stream = b"".join(map(telegram, range(TELEGRAMS)))
    pieces = [stream[at : at + PIECE] for at in range(0, len(stream), PIECE)]

    def ours() -> None:
        reader = TelegramReader(form)
        assert sum(len(reader.feed(data)) for data in pieces) == TELEGRAMS

    def by_hand() -> None:
        kinds = {1: "calliper", 2: "gauge", 3: "switch", 4: "gate"}
        pressed = {0: "released", 1: "pressed"}
        ways = {0: "direct", 1: "one relay", 2: "two relays"}
        fields, found, rest = struct.Struct(">IBiBbB"), [], b""
        for data in pieces:
            rest += data
            at = rest.find(BEGINS)
            while 0 <= at <= len(rest) - 16:
                frame = rest[at : at + 16]
                if binascii.crc_hqx(frame[:14], 0xFFFF) != int.from_bytes(frame[14:], "big"):
                    at = rest.find(BEGINS, at + 1)
                    continue
                number, kind, value, flags, strength, counter = fields.unpack_from(frame, 2)
                meant = value * 0.01 if kind <= 2 else pressed[value]
                found.append(
                    {
                        "number": number, "kind": kinds[kind], "value": meant, "counter": counter,
                        "strength": strength, "way": ways[flags >> 2 & 3], "relay": flags >> 4 & 3,
                        "battery_low": bool(flags & 1), "operated": bool(flags & 2),
                    }
                )  # fmt: skip
                at = rest.find(BEGINS, at + 16)
            rest = rest[at:] if at >= 0 else b""
        assert len(found) == TELEGRAMS

    result = compare(ours, by_hand)
    show("a telegram of a wireless receiver: by the datasheet against a loop with struct", result,
         "us", 1e6 / TELEGRAMS, "at most 3")  # fmt: skip


@contextmanager
def receiver(per_s: int) -> Iterator[str]:
    """A receiver on a pseudo-terminal that passes on so many telegrams a second; its address."""
    server, client = pty.openpty()
    tty.setraw(server)
    tty.setraw(client)
    stop = threading.Event()

    def pass_on() -> None:
        while b"AIR=1" not in os.read(server, 100):
            os.write(server, b"OK\n")  # to AIR=0
        os.write(server, b"OK\n")
        for burst in count():
            if stop.wait(BURST / per_s):
                return
            os.write(server, b"".join(telegram(BURST * burst + k) for k in range(BURST)))

    thread = threading.Thread(target=pass_on)
    thread.start()
    yield f"text+serial://{os.ttyname(client)}"
    stop.set()
    thread.join()
    os.close(server)
    os.close(client)


def flood() -> None:
    """A receiver that passes on 1,000 telegrams a second: what listening to it costs of a core."""
    with receiver(FLOOD_HZ) as address:
        device = open_device(lw.find_datasheet("hasel"), parse_address(address))
        with device, listening(device) as listener:
            began, spent = time.monotonic(), time.thread_time()
            heard = sum(1 for _ in listener.hear(FLOOD_S))
            took, spent = time.monotonic() - began, time.thread_time() - spent
    print(
        f"listening to {heard / took:,.0f} telegrams a second on a serial line\n"
        f"    {spent / took:.2f} of a core (goal: under 0.5 at {FLOOD_HZ:,})"
    )
    with receiver(FLOOD_HZ) as address:
        busy_s = table_cpu_s(address, FLOOD_S)
    with receiver(FLOOD_HZ) as address:
        start_s = table_cpu_s(address, 0.0)
    print(
        f"the same with the live table on a terminal, without the start of the command\n"
        f"    {(busy_s - start_s) / FLOOD_S:.2f} of a core (goal: under 0.5)"
    )


def table_cpu_s(address: str, seconds: float) -> float:
    """The CPU time of 'leitwerk listen' on a terminal of 120 columns, in s."""
    near, far = pty.openpty()
    fcntl.ioctl(far, termios.TIOCSWINSZ, struct.pack("HHHH", 50, 120, 0, 0))
    words = ["listen", address, "--model", "hasel", "--for", f"{seconds + 0.6} s"]
    environment = {**os.environ, "TERM": "xterm-256color"}
    person = subprocess.Popen(
        [sys.executable, "-m", "leitwerk", *words],
        stdin=far,
        stdout=far,
        stderr=far,
        env=environment,
    )
    os.close(far)
    with suppress(OSError):  # the end of the terminal
        while os.read(near, 65536):
            pass
    os.close(near)
    _, status, used = os.wait4(person.pid, 0)
    assert status == 0, status
    return used.ru_utime + used.ru_stime


if __name__ == "__main__":
    decoding()
    flood()
