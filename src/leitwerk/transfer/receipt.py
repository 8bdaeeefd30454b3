"""The receipt of an upload, and the backup before it: what is kept, as files."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from leitwerk.errors import FileProblem
from leitwerk.identity import Identity, same_number
from leitwerk.image import Change, Image, lines_by_block
from leitwerk.project import free_path, read_bytes, write_atomic

_RECEIPT = "-receipt.json"
_KINDS = ("-backup.json", _RECEIPT, "-receipt.txt")


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
    restart: tuple[str, ...]
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
            "in_force_after_restart": list(self.restart),
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
        if self.restart:
            lines.append(f"  restart:   in force only after one: {', '.join(self.restart)}")
        if self.restarted:
            lines.append("  recording: stopped for the upload, started again after it")
        lines += [f"  rounded:   {text}" for text in self.rounded]
        if count:
            changes = [(c.setting, f"{c.shown_old()} -> {c.shown_new()}") for c in self.changes]
            lines += ["  changes:", *(f"    {line}" for line in lines_by_block(changes))]
        return "\n".join(lines)


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


def last_receipts(keep: Path, serial: str, count: int) -> list[dict[str, Any]]:
    """The last receipts of a device in a folder, as plain data, the newest first.

    Files that are no receipts are passed over: what a folder holds besides is nobody's business.
    """
    if not keep.is_dir():
        return []
    files = [
        file
        for folder in keep.iterdir()
        if folder.is_dir() and same_number(folder.name.replace("_", "-"), serial)
        for file in folder.glob(f"*{_RECEIPT}")
    ]
    receipts: list[dict[str, Any]] = []
    for file in sorted(files, key=lambda file: file.name, reverse=True):
        if len(receipts) == count:
            break
        try:
            content = json.loads(read_bytes(file))
        except (ValueError, FileProblem):
            continue
        if isinstance(content, dict) and content.get("receipt") == 1:
            receipts.append(content)
    return receipts
