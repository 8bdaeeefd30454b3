"""A transmitter from its manual page, ``erle.md``."""

from __future__ import annotations

import struct
from collections.abc import Mapping

from frames import ModbusServer

FACTORY = [0, 0, 1000, 0x8000, 0x8000, 0xFFFF, *[0x2020] * 4]
SERIAL = 9_007_199_254_740_993  # one more than floating point can tell apart


class Erle(ModbusServer):
    """The device: ``staged`` is what was written, ``holding`` what is in force."""

    def __init__(self) -> None:
        self.staged = dict.fromkeys([*range(101, 141), 201, 301, *range(302, 307)], 0)
        for block in (101, 111, 121, 131):
            self.staged.update(zip(range(block, block + 10), FACTORY, strict=True))
        self.staged[201] = 1
        self.holding = dict(self.staged)
        self.signals: dict[int, int] = {}  # input -> what it shows, in tenths
        self.unlocked, self.wrong = 0, 0
        super().__init__()

    def shown(self, function: int) -> Mapping[int, int]:
        return self.staged if function == 3 else self._inputs()

    def _inputs(self) -> dict[int, int]:
        code = "TX-4/E 2010".ljust(16).encode()
        found = dict(zip(range(1, 9), struct.unpack(">8H", code), strict=True))
        found[9] = 0x0213
        found.update(
            zip(range(10, 14), struct.unpack(">4H", struct.pack(">Q", SERIAL)), strict=True)
        )
        found[14] = int(self.unlocked > 0)
        found.update(zip(range(15, 19), (0x2026, 0x1126, 0x2103, 0x0000), strict=True))
        for n in range(1, 5):
            off = self.holding[91 + 10 * n] == 0
            found[20 + n] = 0x7FFF if off else self.signals.get(n, 0x8000)
        return found

    def written(self, start: int, words: list[int]) -> int:
        if start == 301:
            right = words == [4711] and self.wrong < 3
            self.unlocked = 3 if right else 0
            self.wrong += not right
            return 0 if right else 3
        if self.unlocked <= 0:
            return 1
        if any(start + k not in self.staged for k in range(len(words))):
            return 2
        self.unlocked -= 1
        for register, word in enumerate(words, start):
            if 101 <= register <= 140:
                offset = (register - 101) % 10
                if (offset == 0 and word not in {0, 1, 2, 0xA3}) or (offset == 5 and word > 600):
                    return 3
            if register == 201 and not 1 <= word <= 64:
                return 3
        if start == 302:
            self.holding = dict(self.staged)
            return 0 if words == [1] else 3
        self.staged.update(enumerate(words, start))
        return 0
