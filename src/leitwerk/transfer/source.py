"""What is carried to a device, and where it comes from."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

KINDS = ("upload", "restore", "finish", "undo", "rule")


@dataclass(frozen=True, slots=True)
class Source:
    """Where wanted settings come from: the file, its title, and the SHA-256 of its content.

    ``kind`` is what is done with it: ``upload`` a setup, ``restore`` a backup, ``finish`` or
    ``undo`` an upload that was broken off, ``rule`` a single change.
    """

    kind: str
    file: str
    title: str
    sha256: str

    def __str__(self) -> str:
        return f"{self.kind} of {self.file}"

    def to_dict(self) -> dict[str, str]:
        """The source as plain data for JSON."""
        return asdict(self)

    @classmethod
    def from_dict(cls, content: Mapping[str, Any]) -> Source:
        """The source out of plain data.

        Raises
        ------
        KeyError, TypeError, ValueError
            The data is none.

        """
        texts = {name: content[name] for name in ("kind", "file", "title", "sha256")}
        if not all(isinstance(text, str) for text in texts.values()):
            raise TypeError("a source is made of texts")
        if texts["kind"] not in KINDS:
            raise ValueError(f"{texts['kind']!r} is nothing that is done to a device")
        return cls(**texts)


def content_hash(content: bytes) -> str:
    """SHA-256 of a file's content, in hexadecimal."""
    return hashlib.sha256(content).hexdigest()
