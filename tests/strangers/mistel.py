"""A receiver for wireless thermometers and doors, from its manual page, ``mistel.md``."""

from __future__ import annotations

import contextlib
import socket
import threading

from plain import PlainServer

THERMOMETER, DOOR = 0x11, 0x21


def frame(number, kind, value, *, count=0, flags=0, hops=0, repeater=0, strength=120):
    """A telegram, byte by byte as the manual has it."""
    body = bytearray(10)
    body[0] = flags | hops << 1
    body[1], body[2], body[3] = number & 0xFF, number >> 8 & 0xFF, number >> 16
    body[4] = kind
    body[5], body[6] = value & 0xFF, value >> 8 & 0xFF
    body[7], body[8], body[9] = strength, repeater, count & 0x0F
    check = 0
    for byte in body:
        check ^= byte
    return bytes([0x7E, *body, check, 0x0D])


class Mistel(PlainServer):
    """The device: ``slots`` and ``group`` are kept, ``monitor`` too until it is turned off."""

    def __init__(self) -> None:
        self.slots, self.group, self.monitor = [0] * 8, 3, False
        self.shown: dict[int, int] = {}
        self.end: socket.socket | None = None
        self.monitors = 0
        self.turned_on = threading.Condition()
        super().__init__()

    def serve(self, connection: socket.socket) -> None:
        self.end, rest = connection, b""
        while data := connection.recv(256):
            rest += data
            while b"\r\n" in rest:
                line, _, rest = rest.partition(b"\r\n")
                with self.turned_on:  # it does one thing after the other
                    connection.sendall(self.answer(line.decode("ascii")).encode() + b"\r\n")

    def answer(self, line: str) -> str:
        told = {
            "I?": "MISTEL-8;00412;2.0",
            "G?": str(self.group),
            "S?": ";".join(map(str, self.slots)),
            "T?": ";".join(self._temperature(self.shown.get(n)) for n in self.slots),
            "D?": ";".join(
                str(self.shown[n] & 1) if n in self.shown else "---" for n in self.slots
            ),
        }
        if line in told:
            return told[line]
        if line in {"M0", "M1"}:
            self.monitor = line == "M1"
            self.monitors += self.monitor
            self.turned_on.notify_all()
            return "+"
        head, _, value = line.partition("=")
        most = {"G": 9} | {f"S{k}": (1 << 24) - 1 for k in range(1, 9)}
        if head not in most or not value.isdecimal():
            return "-1"
        if int(value) > most[head]:
            return "-2"
        if head == "G":
            self.group = int(value)
        else:
            self.slots[int(head[1:]) - 1] = int(value)
        return "+"

    def _temperature(self, raw: int | None) -> str:
        if raw is None or raw == 0x8000:
            return "---"
        return f"{(raw - 0x10000 if raw & 0x8000 else raw) / 10:.1f}"

    def hear(self, *frames: bytes, noise: bytes = b"") -> None:
        """It hears telegrams: it keeps what they say, and passes them on while its monitor is on."""
        with self.turned_on:
            for one in frames:
                self.shown[int.from_bytes(one[2:5], "little")] = int.from_bytes(one[6:8], "little")
            if self.monitor and self.end is not None:
                with contextlib.suppress(OSError):  # the other end has gone
                    self.end.sendall(noise + b"".join(frames))

    def wait_for_monitor(self, number: int) -> None:
        """Until its monitor has been turned on so many times, and is on."""
        with self.turned_on:
            assert self.turned_on.wait_for(lambda: self.monitors >= number and self.monitor, 20.0)
