"""The receipt of an upload, and the backup before it: what is kept, as files."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from leitwerk.check.account import Account
from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.registers import EXACT
from leitwerk.datasheet.settings import DeviceSettings, SettingChange, lines_by_block
from leitwerk.errors import FileProblem
from leitwerk.identity import Identity
from leitwerk.project.files import content_hash, free_path, read_bytes, remove_file, write_atomic
from leitwerk.project.kept import device_folder
from leitwerk.project.kept_json import KeptFile, KeptIdentity, StoredJson, read_kept
from leitwerk.transfer.history import RECEIPT, read_history
from leitwerk.transfer.secrets import SecretEntry
from leitwerk.transfer.task import TaskSource

JOURNAL = "journal.json"
_KINDS = ("-backup.json", RECEIPT, "-receipt.txt")


@dataclass(frozen=True)
class Receipt:
    """The record of an upload: who, when, which device, what changed, how it was verified."""

    by: str
    started: datetime
    finished: datetime
    source: TaskSource
    identity: Identity
    address: str
    changes: tuple[SettingChange, ...]
    requests: int
    together: bool
    verified: int
    settings_sha256: str
    previous: str
    clock: str
    rounded: tuple[str, ...]
    left: tuple[str, ...]
    account: Account | None
    adjusted: tuple[str, ...]
    discarded: int
    fetched: tuple[str, ...]
    restarted: bool
    restart: tuple[str, ...]
    secrets: tuple[SecretEntry, ...]
    remarks: tuple[str, ...]
    backup: str

    def to_dict(self) -> dict[str, Any]:
        """The receipt as plain data for JSON."""
        return {
            "receipt": 1,
            "by": self.by,
            "started": _stamp(self.started),
            "finished": _stamp(self.finished),
            "what": self.source.to_dict(),
            "device": {**self.identity.to_dict(), "address": self.address},
            "changes": [change.to_dict() for change in self.changes],
            "write_requests": self.requests,
            "in_force_together": self.together,
            "settings_verified": self.verified,
            "settings_sha256": self.settings_sha256,
            "previous": self.previous,
            "clock": self.clock,
            "rounded": list(self.rounded),
            "left": list(self.left),
            "account": self.account.to_dict() if self.account else None,
            "adjusted": list(self.adjusted),
            "recordings_discarded": self.discarded,
            "recordings_fetched": list(self.fetched),
            "recording_restarted": self.restarted,
            "in_force_after_restart": list(self.restart),
            "secrets": [entry.to_dict() for entry in self.secrets],
            "remarks": list(self.remarks),
            "backup": self.backup,
        }

    def __repr__(self) -> str:
        return f"<Receipt of {self.source}: {len(self.changes)} changes, {self.verified} verified>"

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
            f"Receipt: {self.source.title}",
            f"  device:    {self.identity}",
            f"  address:   {self.address}",
            f"  {self.source.kind + ':':10} {self.source.file} (SHA-256 {self.source.sha256[:16]}…)",
            f"  by:        {self.by}, {_stamp(self.started)}",
            f"  result:    {what}",
            f"  verified:  {self.verified} settings read back, all as asked"
            + (", but see the remarks" if self.remarks else ""),
            f"  backup:    {self.backup}",
        ]
        lines += [f"  remark:    {text}" for text in self.remarks]
        lines += [f"  fetched:   {path}" for path in self.fetched]
        if self.discarded:
            lines.append(f"  discarded: {self.discarded} recordings, as allowed")
        if self.clock:
            lines.append(f"  clock:     {self.clock}")
        if self.restart:
            names = ", ".join(self.restart)
            lines.append(
                f"  restart:   RESTART PENDING: not in force before the device restarts: {names}"
            )
        lines += [f"  secret:    {entry}" for entry in self.secrets]
        if self.restarted:
            lines.append("  recording: stopped for the upload, started again after it")
        if self.account is not None:
            head, *more = [*self.account.lines(), *self.account.unused_lines()]
            lines += [f"  account:   {head}", *(f"             {line}" for line in more)]
        lines += [f"  rounded:   {text}" for text in self.rounded]
        lines += [f"  left:      {text}" for text in self.left]
        lines += [f"  adjusted:  {text} (the device does that by itself)" for text in self.adjusted]
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
    def at(cls, folder: Path, serial: str, moment: datetime) -> KeptFiles:
        """Names that no other upload has used."""
        own = device_folder(folder, serial)
        return cls(free_path(own, moment.strftime("%Y-%m-%dT%H%M%SZ"), _KINDS))

    @property
    def folder(self) -> Path:
        """The folder of the device."""
        return self.stem.parent

    @property
    def journal(self) -> Path:
        """The journal: one for each device, while something is unfinished."""
        return self.folder / JOURNAL

    def close_journal(self) -> None:
        """Nothing is unfinished any more."""
        remove_file(self.journal)

    def path(self, kind: str) -> Path:
        """The file of a kind: ``backup.json``, ``receipt.json``, ``receipt.txt``."""
        return self.stem.with_name(f"{self.stem.name}-{kind}")

    def write_backup(self, settings: DeviceSettings, identity: Identity, moment: datetime) -> Path:
        """Keep the settings that a device had."""
        content = {
            "backup": 1,
            "taken": _stamp(moment),
            "device": identity.to_dict(),
            "settings": dict(settings.values),
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


def last_receipts(folder: Path, serial: str, count: int) -> list[dict[str, Any]]:
    """The last receipts of a device in a folder, as plain data, the newest first."""
    return list(read_history(device_folder(folder, serial)).receipts[::-1][:count])


def settings_hash(settings: DeviceSettings) -> str:
    """SHA-256 of settings: of their JSON with sorted keys, UTF-8, without spaces (RFC 8785 in short)."""
    text = json.dumps(
        dict(settings.values), sort_keys=True, ensure_ascii=False, separators=(",", ":")
    )
    return content_hash(text.encode("utf-8"))


def read_backup(path: str | Path) -> tuple[Identity, DeviceSettings, str]:
    """Whose settings a backup holds, the settings, and the SHA-256 of the file.

    Raises
    ------
    FileProblem
        The file cannot be read, or is not a backup.

    """
    remedy = "backups are the files …-backup.json in the folder 'kept'"
    raw = read_bytes(path)  # once: the digest is that of what was parsed
    file = read_kept(Path(path), _BackupFile, "a backup", remedy, raw=raw)
    if file.backup != 1:
        message = f"{path} is a backup of version {file.backup}, which is not known"
        raise FileProblem(message, remedy=remedy)
    identity = file.device.identity()
    settings = {name: stored_value(value) for name, value in file.settings.items()}
    return identity, DeviceSettings(identity.model, settings), content_hash(raw)


class _BackupFile(KeptFile):
    backup: int
    device: KeptIdentity
    settings: dict[str, StoredJson]


def stored_value(value: StoredJson) -> Stored:
    """A setting out of JSON: a whole number is one where floating point does not hold it."""
    if isinstance(value, str):
        return value
    return value if isinstance(value, int) and abs(value) > EXACT else float(value)
