"""The receipt of an upload, and the backup before it: what is kept, as files."""

from __future__ import annotations

import json
import re
import textwrap
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from leitwerk.identity import Identity
from leitwerk.image import Change, Image
from leitwerk.project import free_path, write_atomic

_WIDTH = 100  # characters of a line of the receipt's changes
_KINDS = ("-backup.json", "-receipt.json", "-receipt.txt")


@dataclass(frozen=True)
class Receipt:
    """The record of an upload: who, when, which device, what changed, how it was verified."""

    by: str
    started: datetime
    finished: datetime
    setup_file: str
    setup_title: str
    setup_sha256: str
    identity: Identity
    address: str
    changes: tuple[Change, ...]
    requests: int
    together: bool
    verified: int
    rounded: tuple[str, ...]
    discarded: int
    restarted: bool
    backup: str

    def to_dict(self) -> dict[str, Any]:
        """The receipt as plain data for JSON."""
        return {
            "receipt": 1,
            "by": self.by,
            "started": _stamp(self.started),
            "finished": _stamp(self.finished),
            "setup": {
                "file": self.setup_file,
                "title": self.setup_title,
                "sha256": self.setup_sha256,
            },
            "device": {**self.identity.to_dict(), "address": self.address},
            "changes": [change.to_dict() for change in self.changes],
            "write_requests": self.requests,
            "in_force_together": self.together,
            "settings_verified": self.verified,
            "rounded": list(self.rounded),
            "recordings_discarded": self.discarded,
            "recording_restarted": self.restarted,
            "backup": self.backup,
        }

    def __str__(self) -> str:
        count = len(self.changes)
        how = "committed" if self.together else "each in force as it was written"
        what = (
            f"{count} setting{'s' if count != 1 else ''} changed in {self.requests} write "
            f"request{'s' if self.requests != 1 else ''}, {how}"
            if count
            else "nothing to change: the device held these settings already"
        )
        lines = [
            f"Receipt: {self.setup_title}",
            f"  device:    {self.identity}",
            f"  address:   {self.address}",
            f"  setup:     {self.setup_file} (SHA-256 {self.setup_sha256[:16]}…)",
            f"  by:        {self.by}, {_stamp(self.started)}",
            f"  result:    {what}",
            f"  verified:  {self.verified} settings read back, all as asked",
            f"  backup:    {self.backup}",
        ]
        if self.discarded:
            lines.append(f"  discarded: {self.discarded} recordings, as told")
        if self.restarted:
            lines.append("  recording: stopped for the upload, started again after it")
        lines += [f"  rounded:   {text}" for text in self.rounded]
        if count:
            lines += ["  changes:", *(f"    {line}" for line in self._changes_by_block())]
        return "\n".join(lines)

    def _changes_by_block(self) -> list[str]:
        """One line for each channel, alarm or single setting, with all that changed in it."""
        blocks: dict[str, list[str]] = {}
        for change in self.changes:
            head, index, rest = (*change.setting.split(".", 2), "", "")[:3]
            repeated = index.isdecimal()
            block = f"{head}.{index}" if repeated else change.setting
            what = f"{change.shown_old()} -> {change.shown_new()}"
            blocks.setdefault(block, []).append(f"{rest} {what}" if repeated else what)
        width = max(map(len, blocks))
        lines = []
        for block, parts in blocks.items():
            text = f"{block:{width}}  {'; '.join(parts)}"
            lines += textwrap.wrap(text, _WIDTH, subsequent_indent=" " * (width + 2))
        return lines


def _stamp(moment: datetime) -> str:
    return moment.isoformat(timespec="seconds").replace("+00:00", "Z")


@dataclass(frozen=True)
class KeptFiles:
    """The files of one upload: backup and receipt lie side by side, in a folder per device."""

    stem: Path

    @classmethod
    def at(cls, keep: Path, serial: str, moment: datetime) -> KeptFiles:
        """Names that no other upload has used."""
        folder = keep / (re.sub(r"[^A-Za-z0-9_-]", "_", serial) or "_")
        return cls(free_path(folder, moment.strftime("%Y-%m-%dT%H%M%SZ"), _KINDS))

    def path(self, kind: str) -> Path:
        """The file of a kind: ``backup.json``, ``receipt.json``, ``receipt.txt``."""
        return self.stem.with_name(f"{self.stem.name}-{kind}")

    def write_backup(self, image: Image, identity: Identity, moment: datetime) -> Path:
        """Keep the settings that a device had."""
        content = {
            "backup": 1,
            "taken": _stamp(moment),
            "device": identity.to_dict(),
            "settings": dict(image.settings),
        }
        return self._write("backup.json", _json(content))

    def write_receipt(self, receipt: Receipt) -> None:
        """Keep a receipt, for people and for programs."""
        self._write("receipt.json", _json(receipt.to_dict()))
        self._write("receipt.txt", f"{receipt}\n")

    def _write(self, kind: str, text: str) -> Path:
        path = self.path(kind)
        write_atomic(path, text)
        return path


def _json(content: Mapping[str, Any]) -> str:
    return json.dumps(content, indent=2, ensure_ascii=False) + "\n"
