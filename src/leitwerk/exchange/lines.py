"""Lines from bytes as they arrive, in pieces of any size; bounded, and nothing is lost without a count."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

SILENCE_S = 10.0  # a line that stands still for so long is given up
KEPT_BYTES = 80  # of a line that is given up, for the log


class RawLine(NamedTuple):
    """What came up to the end of a line; ``trouble`` is why it is not one."""

    data: bytes
    trouble: str = ""


@dataclass(slots=True)
class LineCutter:
    """Cuts bytes into lines at ``end``. What stands before ``start`` is dropped, and counted.

    A line longer than ``longest`` bytes is given up, and all up to its end with it. So is one that
    stands still for ``silence_s``; None waits for ever, as for a person who types.
    """

    end: bytes
    longest: int
    start: bytes = b""
    silence_s: float | None = SILENCE_S
    dropped: int = 0  # bytes that belong to no line
    _rest: bytes = b""
    _given_up: bool = False
    _heard_s: float = 0.0

    def feed(self, data: bytes, now_s: float) -> list[RawLine]:
        """The lines that are complete now.

        Parameters
        ----------
        data : bytes
        now_s : float, in s
            On a clock that does not go back.

        """
        found = self.look(now_s)
        self._heard_s = now_s
        *ended, self._rest = (self._rest + data).split(self.end)
        for piece in ended:
            if self._given_up:
                self._given_up = False
                self.dropped += len(piece) + len(self.end)
            else:
                found += self._line(piece)
        limit = self.longest + len(self.start) + len(self.end)
        if not self._given_up and len(self._rest) > limit:
            found.append(RawLine(self._rest[:KEPT_BYTES], f"longer than {self.longest} bytes"))
            self._given_up = True
        if self._given_up:
            # Its end may be torn: its first bytes may be there already.
            kept = len(self.end) - 1
            self.dropped += max(0, len(self._rest) - kept)
            self._rest = self._rest[len(self._rest) - kept :] if kept else b""
        return found

    def look(self, now_s: float) -> list[RawLine]:
        """Give up a line that has stood still for too long."""
        if self.silence_s is None or now_s - self._heard_s < self.silence_s:
            return []
        rest, self._rest = self._rest, b""
        was_given_up, self._given_up = self._given_up, False
        self.dropped += len(rest)
        if not rest or was_given_up:
            return []
        return [RawLine(rest[:KEPT_BYTES], f"without an end for {self.silence_s:g} s")]

    def forget(self) -> None:
        """Forget the line that is not complete: its rest will not come."""
        self.dropped += len(self._rest)
        self._rest, self._given_up = b"", False

    def _line(self, piece: bytes) -> list[RawLine]:
        if self.start:
            before, mark, piece = piece.rpartition(self.start)
            self.dropped += len(before)
            if not mark:
                self.dropped += len(piece)
                return [RawLine(piece[:KEPT_BYTES], "without what begins a line")]
        if len(piece) > self.longest:
            return [RawLine(piece[:KEPT_BYTES], f"longer than {self.longest} bytes")]
        return [RawLine(piece)]
