"""A power meter from its manual page, ``ulme.md``: plain sockets and lines made by hand."""

from __future__ import annotations

import socket

from plain import PlainServer

PASSWORD = "open sesame 7"
ENERGY = 123_456_789_012_345_679


class Ulme(PlainServer):
    """The device; ``settings`` has the texts that it answers."""

    def __init__(self) -> None:
        self.settings = {
            "SENS:AVER": "0",
            "SENS:RANG": "H300",
            "DISP:TEXT": '""',
            "CALC:LIM": "NONE",
        }
        self.clock = {"SYST:DATE": "2026,11,26", "SYST:TIME": "21,3,0"}
        self.voltage = "2.301E+02"
        self.serial, self.firmware = "PM-0042", "1.10"
        self.writes: list[str] = []
        self.locked, self.wrong = True, 0
        self.errors: list[str] = []
        self.messages, self.cut_at = 0, 0
        super().__init__()

    def restart(self) -> None:
        """Switched off and on: it is locked again, and its errors are gone."""
        self.locked = True
        self.errors.clear()

    def serve(self, connection: socket.socket) -> None:
        for line in connection.makefile("r", encoding="latin-1", newline="\n"):
            self.messages += 1
            if self.cut_at and self.messages >= self.cut_at:
                connection.shutdown(socket.SHUT_RDWR)
                return
            answer = self._answer(line.rstrip("\n"))
            if answer is not None:
                connection.sendall(answer.encode("latin-1", "replace") + b"\n")

    def _answer(self, line: str) -> str | None:
        head, _, rest = line.partition(" ")
        known = {
            "*IDN?": f'Tannried Instrumente,PM 200,"{self.serial}",{self.firmware}',
            "SYST:LOCK?": str(int(self.locked)),
            "MEAS:VOLT?": self.voltage,
            "MEAS:ENER?": str(ENERGY),
            **{f"{name}?": text for name, text in {**self.settings, **self.clock}.items()},
        }
        if head == "SYST:ERR?":
            return self.errors.pop(0) if self.errors else '0,"No error"'
        if head in known:
            return known[head]
        self._do(head, rest)
        return None

    def _do(self, head: str, rest: str) -> None:
        if head == "SYST:LOCK":
            self.locked = True
        elif head == "SYST:PASS":
            self.locked = rest != f'"{PASSWORD}"'
            if self.locked:
                self.wrong += 1
                self.errors.append('-203,"Command protected"')
        elif head in {**self.settings, **self.clock} and self.locked:
            self.errors.append('-203,"Command protected"')
        elif head in self.clock:
            self.clock[head] = ",".join(str(int(part)) for part in rest.split(","))
        elif head in self.settings:
            if self._takes(head, rest):
                self.settings[head] = rest
                self.writes.append(head)
            else:
                self.errors.append('-222,"Data out of range"')
        else:
            self.errors.append('-113,"Undefined header"')

    @staticmethod
    def _takes(head: str, rest: str) -> bool:
        if head == "SENS:AVER":
            return 1 <= float(rest) <= 100
        if head == "SENS:RANG":
            return rest in {"H300", "L30"}
        if head == "CALC:LIM":
            return rest == "NONE" or 0 <= float(rest) <= 400
        return rest[:1] == rest[-1:] == '"' and len(rest) <= 22
