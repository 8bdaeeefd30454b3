"""Secrets of a setup: settings that are written and never read, and what is known of them."""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from platformdirs import user_data_dir

from leitwerk.devices.device import NOT_KNOWN, NOT_SET, SET, Device
from leitwerk.errors import FileProblem, UploadError
from leitwerk.project.files import write_atomic
from leitwerk.transfer.history import read_history
from leitwerk.transfer.settings_state import SettingsState
from leitwerk.transfer.task import UploadOptions

WRITTEN, UNCHANGED, LEFT = "written", "unchanged", "left as it is"
_KEY_FILE = "secret-fingerprints.key"
_KEY_BYTES = 32


@dataclass(frozen=True, slots=True)
class SecretEntry:
    """What an upload did about a secret, for the receipt. The value is in no file.

    ``what`` is ``written``, ``unchanged`` (since a receipt of ``since``), or ``left as it is`` as no
    value was given. ``state`` is what the device says of it. ``fingerprint`` tells values apart, and
    only together with a key that this user alone has.
    """

    setting: str
    what: str
    state: str
    since: str
    fingerprint: str

    def to_dict(self) -> dict[str, str]:
        """The entry as plain data for JSON."""
        return asdict(self)

    def __str__(self) -> str:
        shown = {
            NOT_KNOWN: "the device does not show whether it is set: not verified",
        }.get(self.state, f"the device says '{self.state}'; its value cannot be read back")
        since = f" since {self.since}" if self.what == UNCHANGED else ""
        given = ", no value was given" if self.what == LEFT else ""
        return f"{self.setting} {self.what}{since}{given}; {shown}"


@dataclass(frozen=True)
class SecretsPlan:
    """The secrets of an upload: ``values`` are to be written, ``entries`` say what becomes of each."""

    values: dict[str, str]
    entries: tuple[SecretEntry, ...]

    def __repr__(self) -> str:
        return f"<SecretsPlan: {len(self.values)} of {len(self.entries)} are written>"


def plan_secrets(
    names: Sequence[str], device: Device, serial: str, folder: Path, options: UploadOptions
) -> SecretsPlan:
    """Which secrets are to be written: those that are not set, or whose value is another than last time.

    Raises
    ------
    UploadError
        No value is given for one that is not known to be set.

    """
    values: dict[str, str] = {}
    entries = []
    states = device.secret_states() if names else {}
    receipts = read_history(folder).receipts if names else ()
    for name in names:
        last = _last(receipts, name)
        is_set = states[name] == SET or (states[name] == NOT_KNOWN and last is not None)
        value = options.secrets.get(name)
        if value is None and is_set:
            since = (last or {}).get("since", "")
            entries.append(SecretEntry(name, LEFT, states[name], since, ""))
            continue
        if value is None:
            value = _required(name, options)
        mark = _fingerprint(value, name, serial)
        if is_set and last is not None and hmac.compare_digest(last["fingerprint"], mark):
            entries.append(SecretEntry(name, UNCHANGED, states[name], last["since"], mark))
            continue
        values[name] = value
        now = options.clock.now().isoformat(timespec="seconds").replace("+00:00", "Z")
        entries.append(SecretEntry(name, WRITTEN, states[name], now, mark))
    return SecretsPlan(values, tuple(entries))


def unset_secrets(plan: SecretsPlan, states: dict[str, str]) -> list[str]:
    """Secrets that were written, and of which the device says that they are not set."""
    return [name for name in plan.values if states[name] == NOT_SET]


def _required(name: str, options: UploadOptions) -> str:
    try:
        return options.secrets[name]
    except KeyError:
        raise UploadError(
            f"the secret {name} has no value yet, and none was given",
            state=SettingsState.UNTOUCHED,
            remedy="give it to UploadOptions(secrets=…)",
        ) from None


def _last(receipts: Sequence[dict[str, Any]], name: str) -> dict[str, str] | None:
    """The last receipt's entry of a secret that has a value, None without one."""
    for receipt in reversed(receipts):
        for entry in _entries(receipt):
            if entry.get("setting") == name and entry.get("fingerprint"):
                return {key: str(entry.get(key, "")) for key in ("since", "fingerprint")}
    return None


def _entries(receipt: dict[str, Any]) -> list[dict[str, Any]]:
    found = receipt.get("secrets")
    return [e for e in found if isinstance(e, dict)] if isinstance(found, list) else []


def _fingerprint(value: str, name: str, serial: str) -> str:
    """What tells a value from another one, and says nothing about it without the key."""
    text = "\0".join((serial, name, value)).encode("utf-8")
    return hmac.new(_key(), text, hashlib.sha256).hexdigest()


def _key() -> bytes:
    """The key of this user, made when it is first needed. Lost, each secret is written once more."""
    path = Path(user_data_dir("leitwerk", appauthor=False)) / _KEY_FILE
    try:
        key = bytes.fromhex(path.read_text("ascii").strip())
        if len(key) == _KEY_BYTES:
            return key
    except FileNotFoundError:
        pass
    except (OSError, ValueError) as error:
        raise FileProblem(
            f"{path} cannot be used: {error}",
            remedy="remove it; secrets are then written once more",
        ) from error
    key = secrets.token_bytes(_KEY_BYTES)
    write_atomic(path, key.hex() + "\n")
    return key
