"""What happens while a device is attended."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened: when (UTC), what kind, about what, in words."""

    at: datetime
    kind: str
    subject: str
    text: str

    def __str__(self) -> str:
        return f"{self.at.astimezone():%H:%M:%S}  {self.kind:8}  {self.subject:24}  {self.text}"

    def to_dict(self) -> dict[str, str]:
        """The event as plain data for JSON."""
        at = self.at.isoformat(timespec="milliseconds")
        return {"at": at, "kind": self.kind, "subject": self.subject, "text": self.text}
