"""A display that speaks in lines, and a probe on SDI-12. Their manuals are the comments here.

ILEX-1. A line ends with CR. "?I" answers model;serial;version, "?V" the value shown, one decimal.
"?N" and "N=…" are its name (12 characters), "?L" and "L=…" its limit (0..99.9), "K=…" unlocks it, "K="
locks it. A line that is taken is answered with "+", another with "-" and a number: 1 unknown, 2 value,
3 locked.

EIBISCH. SDI-12, version 1.4 (the standard's clauses 4.4.2, 4.4.5, 4.4.8, 4.4.12): aI! identifies it,
aMC! measures moisture and temperature, aXN! and aXNtext! are its name, aXA! and aXA7! its averaging.

ROBINIE only talks. A line ends with CR LF, values are divided by ";". "ASK" is answered with "VAL", a value
and its serial number, "SET" with a number from 0 to 50 with "OK"; all else with "ERR" and a number.
"""

from __future__ import annotations

import socket

from plain import PlainServer

PASSWORD = "0815"
ILEX = """\
datasheet: 1
model: ILEX-1
maker: Espenlaub Messtechnik
summary: display
link: text
lines: {end: cr, separator: ;, confirms: +, refuses: "-{}"}
refusals: {1: it does not know this, 2: it does not take this value, 3: it is locked}
transfer: {roles: [operator], log_out: ""}
identity:
  model: {query: "?I", field: 1, type: text}
  serial: {query: "?I", field: 2, type: text}
  firmware: {query: "?I", field: 3, type: text}
readings:
  shown: {query: "?V", step: 0.1, unit: bar}
settings:
  name: {query: "?N", write: "N={}", type: text, max_length: 12}
  limit: {query: "?L", write: "L={}", step: 0.1, span: 0..99.9}
access:
  login: {write: "K={}", type: text, max_length: 8}
"""
EIBISCH = """\
datasheet: 1
model: EIBI-2
maker: Espenlaub Messtechnik
summary: probe
link: sdi12
lines: {confirms: ok, refuses: "e{}"}
refusals: {1: there is no such command, 2: it does not take this value}
identity:
  maker: {query: I, columns: 3..10, type: text}
  model: {query: I, columns: 11..16, type: text}
  firmware: {query: I, columns: 17..19, type: text}
  serial: {query: I, columns: 20..32, type: text}
readings:
  moisture: {query: MC, field: 1, unit: "%"}
  temperature: {query: MC, field: 2, unit: °C}
settings:
  name: {query: XN, write: "XN{}", type: text, max_length: 12}
  averaging: {query: XA, write: "XA{}", step: 1, span: 1..32}
access:
  bus.unit: {write: "A{}", type: text, max_length: 1}
"""


class Lines(PlainServer):
    """A device that answers lines; ``settings`` has the texts that it holds."""

    end = b"\r"
    answer_end = b"\r"

    def __init__(self) -> None:
        self.writes: list[str] = []
        super().__init__()

    def serve(self, connection: socket.socket) -> None:
        rest = b""
        while data := connection.recv(4096):
            *lines, rest = (rest + data).split(self.end)
            for line in lines:
                for answer in self.answers(line.decode("latin-1")):
                    connection.sendall(answer.encode("latin-1") + self.answer_end)

    def answers(self, line: str) -> list[str]:
        raise NotImplementedError


class Ilex(Lines):
    def __init__(self, serial: str = "PX 77", value: str = "3.4") -> None:
        self.settings = {"N": "NEW", "L": "10.0"}
        self.serial, self.value, self.unlocked = serial, value, False
        super().__init__()

    def answers(self, line: str) -> list[str]:
        if line.startswith("?"):
            known = {"I": f"ILEX-1;{self.serial};2.0", "V": self.value, **self.settings}
            return [known.get(line[1:], "-1")]
        head, found, text = line.partition("=")
        if head == "K" and found:
            self.unlocked = text == PASSWORD
            return ["+" if self.unlocked or not text else "-3"]
        if head not in self.settings or not found:
            return ["-1"]
        if not self.unlocked:
            return ["-3"]
        if len(text) > 12 or (head == "L" and not 0 <= float(text) <= 99.9):
            return ["-2"]
        self.settings[head] = text
        self.writes.append(line)
        return ["+"]

    def restart(self) -> None:
        """Switched off and on: it is locked again."""
        self.unlocked = False


class Robinie(Lines):
    end = answer_end = b"\r\n"

    def __init__(self, serial: str = "RB-1", value: str = "21.5") -> None:
        self.settings = {"SET": "7"}
        self.serial, self.value = serial, value
        super().__init__()

    def answers(self, line: str) -> list[str]:
        keyword, _, text = line.partition(";")
        if keyword == "ASK" and not text:
            return [f"VAL;{self.value};{self.serial}"]
        if keyword != "SET" or not text.replace(".", "", 1).isdigit():
            return ["ERR 1"]
        if float(text) > 50:
            return ["ERR 4"]
        self.settings["SET"] = text
        self.writes.append(line)
        return ["OK"]


class Eibisch(Lines):
    end = b"!"
    answer_end = b"\r\n"

    def __init__(self, serial: str = "EB007", value: str = "+18.25") -> None:
        self.settings = {"N": "NEW", "A": "8"}
        self.unit, self.serial, self.value, self.data = "0", serial, value, ""
        super().__init__()

    def answers(self, line: str) -> list[str]:
        line = line.strip("\0")  # what a break of the line leaves
        if line[:1] not in {self.unit, "?"}:
            return []
        body = line[1:]
        if body == "I":
            return [f"{self.unit}14ESPENLAUEIBI-21.0{self.serial}"]
        if body == "MC":
            self.data = f"{self.unit}{self.value}+19.00"
            return [f"{self.unit}0002", self.unit]
        if body == "D0":
            return [self.data + check(self.data)]
        if body.startswith("A") and len(body) == 2:
            self.unit = body[1]
            self.writes.append(line)
            return [self.unit]
        if body[:1] == "X" and body[1:2] in self.settings:
            if len(body) == 2:
                return [self.unit + self.settings[body[1]]]
            if body[1] == "A" and not 1 <= int(body[2:]) <= 32:
                return [f"{self.unit}e2"]
            self.settings[body[1]] = body[2:]
            self.writes.append(line)
            return [f"{self.unit}ok"]
        return [self.unit] if not body else [f"{self.unit}e1"]


def check(text: str) -> str:
    """Three characters that hold a check sum (SDI-12 1.4, 4.4.12.1), bit by bit."""
    value = 0
    for character in text.encode():
        value ^= character
        for _ in range(8):
            value = value >> 1 ^ 0xA001 if value & 1 else value >> 1
    return "".join(chr(0x40 | part) for part in (value >> 12, value >> 6 & 0x3F, value & 0x3F))
