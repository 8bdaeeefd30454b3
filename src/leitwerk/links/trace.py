"""A trace of the traffic on a link: when, which way, the bytes, and what they mean."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TypeAlias

MASKED = "**"


@dataclass(frozen=True, slots=True)
class TraceEntry:
    """One frame. ``secret`` is from which byte on it must not be shown, None when all may be."""

    at: datetime
    address: str
    sent: bool
    frame: bytes
    meaning: str
    secret: int | None = None

    def __str__(self) -> str:
        shown = self.frame if self.secret is None else self.frame[: self.secret]
        parts = [shown.hex(" ")] + ([MASKED] if self.secret is not None else [])
        arrow = "->" if self.sent else "<-"
        stamp = self.at.isoformat(sep=" ", timespec="milliseconds").replace("+00:00", "Z")
        return f"{stamp} {self.address} {arrow} {' '.join(parts)}  {self.meaning}"


Tracer: TypeAlias = Callable[[TraceEntry], None]


def note(
    tracer: Tracer | None,
    address: object,
    frame: bytes | str,
    meaning: str,
    *,
    sent: bool,
    secret: int | None = None,
) -> None:
    """Note a frame now, if anybody wants a trace."""
    if tracer is not None:
        raw = frame.encode("latin-1", "replace") if isinstance(frame, str) else frame
        tracer(TraceEntry(datetime.now(UTC), str(address), sent, raw, meaning, secret))
