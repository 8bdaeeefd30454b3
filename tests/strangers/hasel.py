"""A level gauge with a radio, from its manual page, ``hasel.md``."""

from __future__ import annotations

import struct
from collections.abc import Mapping

from frames import ModbusServer


class Hasel(ModbusServer):
    """The device: ``holding`` is what was written, ``reads`` counts attempts to read a secret."""

    def __init__(self) -> None:
        self.holding = dict.fromkeys(range(1, 21), 0) | {20: 2000}
        self.writes: list[int] = []
        self.minutes = 3
        self.attempts = 0
        self.forgets = False
        self.state = 1
        super().__init__()

    @property
    def password(self) -> bytes:
        words = [self.holding[k] for k in range(9, 17)]
        return struct.pack(">8H", *words).rstrip(b"\0")

    def shown(self, function: int) -> Mapping[int, int]:
        if function == 3:
            return _Closed(self)
        model = struct.unpack(">4H", b"HASEL-R\0")
        found = dict(enumerate(model, 1)) | {5: 1, 6: 4476, 7: 0x0104, 10: self.state}
        return found | {8: int(bool(self.password)), 9: self.minutes, 11: 2140}

    def written(self, start: int, words: list[int]) -> int:
        for register, word in enumerate(words, start):
            if register not in self.holding:
                return 2
            if register == 17 and word > 9999:
                return 3
            if register == 18 and self.state != 1:
                return 4
        after = {**self.holding, **dict(enumerate(words, start))}
        if not 100 <= after[20] <= (10_000 if after[19] else 2000):
            return 3
        key = [word for register, word in enumerate(words, start) if 9 <= register <= 16]
        if key and len(struct.pack(f">{len(key)}H", *key).rstrip(b"\0")) < 8:
            return 3
        if not (self.forgets and start == 9):
            self.holding.update(enumerate(words, start))
        self.writes.append(start)
        return 0


class _Closed(dict[int, int]):
    """The holding registers, of which those with secrets cannot be read."""

    def __init__(self, device: Hasel) -> None:
        super().__init__({k: v for k, v in device.holding.items() if k not in range(9, 18)})
        self.device = device

    def __missing__(self, register: int) -> int:
        self.device.attempts += register in range(9, 18)
        raise KeyError(register)
