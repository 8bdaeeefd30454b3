"""An energy logger from its manual page, ``esche.md``."""

from __future__ import annotations

import struct
from collections.abc import Mapping

from frames import ModbusServer

SERIAL = 18_446_744_073_709_551_557
COUNTS = {1: 9_007_199_254_740_993, 3: 0, 4: 18_446_744_073_709_551_615}
INPUTS = (1, 3, 4)
LARGEST = 3.4028234663852886e38  # IEEE 754 binary32


def low_first(packed: bytes) -> list[int]:
    return list(struct.unpack(f">{len(packed) // 2}H", packed))[::-1]


class Esche(ModbusServer):
    """The device. ``flows`` are in m³/h, ``levels`` in m."""

    def __init__(self) -> None:
        self.holding = {302: 0xA2, 303: 1}
        for n in INPUTS:
            at = 181 + 20 * n if n == 1 else 191 + 10 * n
            self.holding[at] = 1
            self.put(at + 1, struct.pack(">f", LARGEST))
        self.flows: dict[int, float | None] = {1: 36.0, 3: None, 4: 7.2}
        self.levels = {1: 1.25, 3: None, 4: -0.5}
        super().__init__()

    def put(self, at: int, packed: bytes) -> None:
        self.holding.update(enumerate(low_first(packed), at))

    def shown(self, function: int) -> Mapping[int, int]:
        if function == 3:
            return self.holding
        found = dict(enumerate(struct.unpack(">8H", b"EM-3".ljust(16, b"\0")), 1))
        found.update(enumerate(low_first(struct.pack(">Q", SERIAL)), 9))
        for n in INPUTS:
            at = 101 if n == 1 else 91 + 10 * n
            found.update(enumerate(low_first(struct.pack(">Q", COUNTS[n])), at))
            flow, level = self.flows[n], self.levels[n]
            if flow is not None and self.holding[302] == 0xA1:
                flow /= 3.6
            packed = bytes.fromhex("7FC00000") if flow is None else struct.pack(">f", flow)
            found.update(enumerate(low_first(packed), at + 4))
            steps = -32768 if level is None else round(level * 10 ** self.holding[303])
            found[at + 6] = steps & 0xFFFF
        return found

    def written(self, start: int, words: list[int]) -> int:
        for register, word in enumerate(words, start):
            if register not in self.holding:
                return 2
            if register in {201, 221, 231} and not 1 <= word <= 10000:
                return 3
            if (register == 302 and word not in {0xA1, 0xA2}) or (register == 303 and word > 3):
                return 3
        self.holding.update(enumerate(words, start))
        return 0
