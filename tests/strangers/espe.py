"""A level switch with a relay and a current output, from its manual page, ``espe.md``."""

from __future__ import annotations

import struct
from collections.abc import Mapping

from frames import ModbusServer

ROWS = [20.5, 21.0, 21.5, 22.0, 22.5, 23.0, 23.5, 24.0, 24.5, 25.0, 25.5, 26.0]


class Espe(ModbusServer):
    """The device. Its level is ``level``, or the next of ``course`` at each reading, round and round."""

    def __init__(self, serial: int = 4101, *, level: int = 1200, rtu: bool = False) -> None:
        self.serial, self.level = serial, level
        self.course: list[int] = []
        self.holding = dict.fromkeys((*range(1, 16), 20, 21, 31, 32, 33), 0)
        self.holding |= {1: 1, 10: 2000, 11: 360, 31: 1}
        self.recording = 0
        self.writes: list[int] = []
        self._seen = 0
        super().__init__(rtu=rtu)

    @property
    def driven(self) -> tuple[int, int]:
        """What drives the relay, and the output."""
        return self.holding[20] % 2, self.holding[21]

    def shown(self, function: int) -> Mapping[int, int]:
        if function == 3:
            return self.holding
        return _Shown(self)

    def next_level(self) -> int:
        if not self.course:
            return self.level
        self._seen += 1
        return self.course[(self._seen - 1) % len(self.course)]

    def written(self, start: int, words: list[int]) -> int:
        for register, word in enumerate(words, start):
            if register == 22:
                if word not in {1, 2}:
                    return 3
                self.recording = int(word == 1)
                self.writes.append(start)
                return 0
            if register not in self.holding:
                return 2
            allowed = {
                1: range(1, 248),
                10: range(100, 5001),
                12: range(2),
                14: [0],
                15: range(1001),
                20: range(3),
            }
            allowed |= {21: [0, *range(100, 2201)], 31: range(1, 2)}
            if word not in allowed.get(register, range(65536)):
                return 3
        self.holding.update(enumerate(words, start))
        self.unit = self.holding[1]
        if start < 30:  # choosing a recording changes nothing
            self.writes.append(start)
        return 0


class _Shown(dict[int, int]):
    def __init__(self, device: Espe) -> None:
        model = struct.unpack(">4H", b"ESPE-2\0\0")
        relay, drive = device.driven
        first = device.holding[32] << 16 | device.holding[33]
        window = ROWS[first : first + 10]
        words = struct.unpack(f">{2 * len(window)}H", struct.pack(f">{len(window)}f", *window))
        super().__init__(enumerate(model, 1))
        self.update({5: device.serial >> 16, 6: device.serial & 0xFFFF, 7: 0x0203})
        self.update({8: device.recording, 9: relay, 11: drive or 1360, 12: 1, 13: 0})
        self.update({21: 0x2603, 22: 0x0206, 23: 0x0000, 24: 60, 25: 0, 26: len(ROWS), 27: 1})
        self.update({28: device.holding[32], 29: device.holding[33]})
        self.update(dict.fromkeys(range(31, 51), 0) | dict(enumerate(words, 31)))
        self.device = device

    def __missing__(self, register: int) -> int:
        if register == 10:
            return self.device.next_level()
        raise KeyError(register)
