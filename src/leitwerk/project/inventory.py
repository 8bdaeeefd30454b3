"""The inventory: devices that were seen, in an SQLite file, and the names they go by."""

from __future__ import annotations

import difflib
import re
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from platformdirs import user_data_dir

from leitwerk.errors import FileProblem, QuantityError
from leitwerk.identity import Identity, folded_number
from leitwerk.parsing.address import DeviceName, LinkAddress, Where, parse_address, parse_where

FILE = "devices.sqlite"
_VERSION = 1
_SCHEMA = """\
CREATE TABLE IF NOT EXISTS device (
    name TEXT PRIMARY KEY COLLATE NOCASE,
    maker TEXT NOT NULL,
    model TEXT NOT NULL,
    serial TEXT NOT NULL,
    folded TEXT NOT NULL,      -- the serial number as it is compared
    firmware TEXT NOT NULL,
    address TEXT NOT NULL,
    last_seen TEXT NOT NULL,   -- UTC, ISO 8601
    UNIQUE (model, folded)
)"""
# The hash of the newest receipt of a device in a folder: a chain does not prove its own last link.
_RECEIPTS = """\
CREATE TABLE IF NOT EXISTS newest_receipt (
    folded TEXT NOT NULL,
    folder TEXT NOT NULL,
    sha256 TEXT NOT NULL,
    PRIMARY KEY (folded, folder)
)"""
_COLUMNS = "name, maker, model, serial, firmware, address, last_seen"
_BUSY_S = 5.0


@dataclass(frozen=True, slots=True)
class KnownDevice:
    """A device of the inventory."""

    name: str
    identity: Identity
    address: LinkAddress
    last_seen: datetime

    def to_dict(self) -> dict[str, Any]:
        """The device as plain data for JSON."""
        return {
            "name": self.name,
            **self.identity.to_dict(),
            "address": str(self.address),
            "last_seen": self.last_seen.isoformat(),
        }


class Inventory:
    """Devices in one SQLite file, which is made when the first one is remembered.

    A device is one by its model and serial number; both its name and its address may change.
    """

    def __init__(self, path: str | Path) -> None:
        self.path = Path(path)

    @classmethod
    def nearest(cls) -> Inventory:
        """The project's, in this folder or one above it; the user's own without one."""
        here = Path.cwd()
        for folder in (here, *here.parents):
            if (folder / FILE).is_file():
                return cls(folder / FILE)
        return cls(Path(user_data_dir("leitwerk", appauthor=False)) / FILE)

    def start(self) -> None:
        """Make the file now, so that a project has one of its own."""
        with self._open():
            pass

    def devices(self) -> list[KnownDevice]:
        """All of them, by name.

        Raises
        ------
        FileProblem
            The file is not an inventory, or damaged.

        """
        if not self.path.exists():
            return []
        with self._open() as connection:
            rows = connection.execute(f"SELECT {_COLUMNS} FROM device ORDER BY name").fetchall()  # noqa: S608 - a constant
        return [self._device(row) for row in rows]

    def find(self, name: str) -> KnownDevice:
        """The device of a name.

        Raises
        ------
        QuantityError
            There is none with that name; the nearest is named.

        """
        known = {device.name.casefold(): device for device in self.devices()}
        if name.casefold() in known:
            return known[name.casefold()]
        near = difflib.get_close_matches(name.casefold(), list(known), n=1)
        raise QuantityError(
            f"no device named {name!r} has been seen",
            valid=", ".join(d.name for d in known.values()) or "an address",
            remedy=f"did you mean {known[near[0]].name!r}?"
            if near
            else "give its address once, or look for it with 'leitwerk find ADDRESS --remember'",
        )

    def remember(
        self,
        identity: Identity,
        address: LinkAddress,
        *,
        name: str = "",
        at: datetime | None = None,
    ) -> KnownDevice:
        """Note that a device was seen at an address; one that is known already keeps its name.

        Raises
        ------
        QuantityError
            The name is not valid, or another device's, or this device is known by another.

        """
        folded = folded_number(identity.serial)
        at = at or datetime.now(UTC)
        with self._open() as connection:
            row = connection.execute(
                "SELECT name FROM device WHERE model = ? AND folded = ?", (identity.model, folded)
            ).fetchone()
            if row is not None and name and row[0].casefold() != name.casefold():
                raise QuantityError(
                    f"{identity.model} with serial number {identity.serial} is known as {row[0]!r}",
                    remedy=f"give it another name: leitwerk devices --rename {row[0]} {name}",
                )
            name = row[0] if row is not None else name or self._free_name(connection, identity)
            if row is None:
                self._require_free(connection, name)
            connection.execute(
                f"INSERT OR REPLACE INTO device ({_COLUMNS}, folded) VALUES (?,?,?,?,?,?,?,?)",  # noqa: S608 - a constant
                (name, identity.maker, identity.model, identity.serial, identity.firmware,
                 str(address), at.isoformat(), folded),
            )  # fmt: skip
        return KnownDevice(name, identity, address, at)

    def note_receipt(self, serial: str, folder: Path, sha256: str) -> None:
        """Note the hash of the newest receipt of a device in its folder."""
        with self._open() as connection:
            connection.execute(
                "INSERT OR REPLACE INTO newest_receipt VALUES (?,?,?)",
                (folded_number(serial), str(folder.absolute()), sha256),
            )

    def newest_receipt(self, serial: str, folder: Path) -> str:
        """The hash of the newest receipt of a device in its folder; empty when none is known."""
        if not self.path.exists():
            return ""
        with self._open() as connection:
            row = connection.execute(
                "SELECT sha256 FROM newest_receipt WHERE folded = ? AND folder = ?",
                (folded_number(serial), str(folder.absolute())),
            ).fetchone()
        return str(row[0]) if row else ""

    def rename(self, name: str, new: str) -> KnownDevice:
        """Give a device another name.

        Raises
        ------
        QuantityError
            There is no such device, or the name is not valid, or another device has it.

        """
        device = self.find(name)
        with self._open() as connection:
            if device.name.casefold() != new.casefold():
                self._require_free(connection, new)
            connection.execute("UPDATE device SET name = ? WHERE name = ?", (new, device.name))
        return KnownDevice(new, device.identity, device.address, device.last_seen)

    def require_free(self, name: str, model: str, serial: str) -> None:
        """Raise an error if a name is not valid, or another device has it.

        Raises
        ------
        QuantityError
            It is not.

        """
        with self._open() as connection:
            row = connection.execute("SELECT model, folded FROM device WHERE name = ?", (name,))
            if row.fetchone() != (model, folded_number(serial)):
                self._require_free(connection, name)

    def forget(self, name: str) -> KnownDevice:
        """Take a device out.

        Raises
        ------
        QuantityError
            There is no such device.

        """
        device = self.find(name)
        with self._open() as connection:
            connection.execute("DELETE FROM device WHERE name = ?", (device.name,))
        return device

    def _require_free(self, connection: sqlite3.Connection, name: str) -> None:
        if not isinstance(_name_or_none(name), DeviceName):
            raise QuantityError(
                f"{name[:60]!r} is not a name for a device",
                valid="a letter, then up to 39 letters, digits, '.', '_' or '-'",
            )
        row = connection.execute(
            "SELECT model, serial FROM device WHERE name = ?", (name,)
        ).fetchone()
        if row is not None:
            raise QuantityError(
                f"{name!r} is the name of {row[0]} with serial number {row[1]}",
                remedy="choose another, or rename or forget that device first",
            )

    def _free_name(self, connection: sqlite3.Connection, identity: Identity) -> str:
        """Its model, while no other one is named so; then the model with the serial number."""
        plain = re.sub(r"[^A-Za-z0-9._-]+", "-", identity.model).strip("-._0123456789") or "device"
        full = re.sub(r"[^A-Za-z0-9._-]+", "-", f"{identity.model}-{identity.serial}")[:40]
        taken = {row[0].casefold() for row in connection.execute("SELECT name FROM device")}
        choices = [re.sub(r"[^A-Za-z0-9._-]+", "-", identity.model)[:40], full]
        choices += [f"{plain[:34]}-{k}" for k in range(2, 10_000)]
        return next(
            name
            for name in choices
            if name.casefold() not in taken and isinstance(_name_or_none(name), DeviceName)
        )

    def _device(self, row: tuple[str, ...]) -> KnownDevice:
        name, maker, model, serial, firmware, address, last_seen = row
        try:
            return KnownDevice(
                name,
                Identity(maker, model, serial, firmware),
                parse_address(address),
                datetime.fromisoformat(last_seen),
            )
        except (ValueError, TypeError) as error:
            raise self._damaged(error) from error

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        """A connection whose changes are kept together or not at all."""
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            with closing(sqlite3.connect(self.path, timeout=_BUSY_S)) as connection, connection:
                (version,) = connection.execute("PRAGMA user_version").fetchone()
                if version not in {0, _VERSION}:
                    raise FileProblem(
                        f"{self.path} is an inventory of version {version}",
                        remedy="a newer Leitwerk made it; use that one",
                    )
                connection.execute(_SCHEMA)
                connection.execute(_RECEIPTS)
                connection.execute(f"PRAGMA user_version = {_VERSION}")
                yield connection
        except (sqlite3.Error, OSError) as error:
            raise self._damaged(error) from error

    def _damaged(self, error: Exception) -> FileProblem:
        return FileProblem(
            f"cannot use the inventory {self.path}: {error}",
            remedy="is the folder writable? If the file is damaged, move it away; devices can be "
            "found again",
        )


def _name_or_none(text: str) -> Where | None:
    try:
        return parse_where(text)
    except QuantityError:
        return None


def resolve_address(where: Where) -> LinkAddress:
    """The address of a device, by name out of the nearest inventory.

    Raises
    ------
    QuantityError
        No device with that name has been seen.

    """
    if isinstance(where, LinkAddress):
        return where
    return Inventory.nearest().find(where.name).address
