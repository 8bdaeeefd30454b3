"""The files in the memory of simulated devices, and the window through which they are read."""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field

from leitwerk.datasheet.points import Stored


@dataclass
class HeldFiles:
    """Files by name, the one that is selected, and the byte at which the window begins."""

    content: dict[str, bytes] = field(default_factory=dict)
    selected: int = 0
    first: int = 0

    def window(self, count: int) -> bytes:
        """So many bytes at most, from the first on."""
        chosen = self._chosen()
        return b"" if chosen is None else chosen[1][self.first : self.first + count]

    def words(self, count: int) -> list[int]:
        """The same in registers, two bytes in each."""
        data = self.window(2 * count)
        data += bytes(2 * count - len(data))
        return [data[k] << 8 | data[k + 1] for k in range(0, 2 * count, 2)]

    def shown(self) -> dict[str, Stored]:
        """What is shown of the file that is selected, but for its bytes."""
        found: dict[str, Stored] = {
            "files": float(len(self.content)),
            "file.select": float(self.selected),
            "file.first": float(self.first),
        }
        chosen = self._chosen()
        if chosen is None:
            return found
        name, data = chosen
        return found | {
            "file.name": name, "file.size": float(len(data)),
            "file.check_sum": float(zlib.crc32(data)), "file.shown": float(self.first),
        }  # fmt: skip

    def _chosen(self) -> tuple[str, bytes] | None:
        return next(
            (item for k, item in enumerate(self.content.items(), start=1) if k == self.selected),
            None,
        )
