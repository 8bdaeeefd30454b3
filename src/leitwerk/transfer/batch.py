"""One setup for many devices: a table says in what they differ, and each is uploaded to for itself."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from leitwerk.devices.device import connect
from leitwerk.errors import FileProblem, LeitwerkError, QuantityError
from leitwerk.identity import folded_number
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.project.editing import with_values
from leitwerk.project.files import read_bytes, write_atomic
from leitwerk.project.setups import parse_setup, read_setup
from leitwerk.setup.model import Setup
from leitwerk.transfer.receipt import Receipt
from leitwerk.transfer.task import NOTHING_MORE, Allowed, content_hash
from leitwerk.transfer.upload import upload

FILE = "batch.json"
AT_ONCE = 8
_SHORT = {"serial": ("device", "serial"), "at": ("device", "at"), "title": ("title",)}
_MOST = 10_000  # units of one batch


@dataclass(frozen=True)
class BatchItem:
    """One device of a batch: the line of the table, and its own setup."""

    line: int
    serial: str
    setup: Setup


@dataclass(frozen=True)
class Outcome:
    """What became of one unit: ``done`` now, ``earlier`` by this batch before, or ``failed``."""

    unit: BatchItem
    state: str
    message: str
    receipt: Receipt | None = None

    @property
    def ok(self) -> bool:
        """Whether the device has been proven to hold its setup."""
        return self.state != "failed"

    def to_dict(self) -> dict[str, Any]:
        """The outcome as plain data for JSON."""
        return {
            "serial": self.unit.serial,
            "address": str(self.unit.setup.device.at),
            "state": self.state,
            "message": self.message,
        }

    def __str__(self) -> str:
        head, *rest = self.message.splitlines()
        return "\n".join([f"{self.state:8} {self.unit.serial}: {head}", *rest])


def read_batch(setup: str | Path, table: str | Path) -> list[BatchItem]:
    """The units of a batch.

    Parameters
    ----------
    setup : path
        The setup that all of them have in common.
    table : path
        A CSV file with a line for each unit. Its columns are ``serial``, ``at``, ``title``, or the
        way to any other value of the setup, such as ``channels.stack.scale``. What a line leaves
        empty is as in the setup.

    Raises
    ------
    FileProblem
        A file cannot be read, the table is none, or names a unit or an address twice.
    SetupError
        The setup of a unit has errors.

    """
    text = read_setup(setup).source.content.decode("utf-8-sig")
    units: list[BatchItem] = []
    for line, row in _rows(Path(table)):
        try:
            own = with_values(text, {_way(column): value for column, value in row.items() if value})
        except QuantityError as error:
            raise FileProblem(
                f"{table}:{line}: {error.message}", remedy=f"valid columns: {error.valid}"
            ) from error
        unit = parse_setup(own, file=f"{setup} with {table}:{line}", folder=Path(setup).parent)
        units.append(BatchItem(line, unit.device.serial, unit))
    _require_different(units, table)
    return units


def upload_batch(
    units: Sequence[BatchItem],
    *,
    keep: str | Path,
    passwords: Callable[[Setup], Mapping[str, str]],
    allowed: Allowed = NOTHING_MORE,
    by: str = "unnamed",
    at_once: int = AT_ONCE,
    again: bool = False,
    options: LinkOptions = USUAL,
    on_step: Callable[[BatchItem, str, int, int], None] = lambda unit, step, done, total: None,
    on_end: Callable[[Outcome], None] = lambda outcome: None,
) -> list[Outcome]:
    """Upload to every unit; one that fails stops no other.

    What is done is written down: the same batch begun again goes on with the units that are left,
    unless ``again`` asks for all of them.

    Parameters
    ----------
    keep : path
        The folder for backups, journals, receipts, and the record of the batch.
    passwords : callable
        Gives the passwords of a unit.
    at_once : int
        How many devices are written to at the same time.
    on_step, on_end : callable
        Called from several threads.

    Returns
    -------
    list of Outcome
        In the order of the table.

    Raises
    ------
    KeyboardInterrupt
        Stopped by the keyboard: no further unit is begun, those under way end first.

    """
    record = _Record(Path(keep) / FILE)
    outcomes: dict[int, Outcome] = {}

    def end(outcome: Outcome) -> None:
        outcomes[outcome.unit.line] = outcome
        on_end(outcome)

    def one(unit: BatchItem) -> Outcome:
        try:
            with connect(unit.setup, options=options) as device:
                receipt = upload(
                    unit.setup,
                    device,
                    keep=keep,
                    passwords=passwords(unit.setup),
                    allowed=allowed,
                    by=by,
                    progress=lambda step, done, total: on_step(unit, step, done, total),
                )
        except LeitwerkError as error:
            return Outcome(unit, "failed", str(error))
        count = len(receipt.changes)
        return Outcome(unit, "done", f"{count} changed, {receipt.verified} verified", receipt)

    with ThreadPoolExecutor(at_once) as pool:
        futures = []
        for unit in units:
            if not again and record.has(unit):
                end(Outcome(unit, "earlier", "was done and verified by this batch before"))
            else:
                futures.append(pool.submit(one, unit))
        try:
            for future in as_completed(futures):
                outcome = future.result()
                if outcome.ok:
                    record.add(outcome.unit)
                end(outcome)
        except KeyboardInterrupt:
            pool.shutdown(cancel_futures=True)
            raise
    return [outcomes[unit.line] for unit in units]


class _Record:
    """What a batch has done: on disk after each unit, by serial number and the unit's own setup."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._done: dict[str, str] = {}
        if path.exists():
            try:
                content = json.loads(read_bytes(path))
                self._done = {str(k): str(v) for k, v in content["done"].items()}
            except (ValueError, KeyError, TypeError, AttributeError) as error:
                raise FileProblem(
                    f"{path} is no record of a batch: {error}",
                    remedy="move it away; then every unit is looked at again",
                ) from error

    def has(self, unit: BatchItem) -> bool:
        """Whether this setup has been proven to be in this unit."""
        return self._done.get(folded_number(unit.serial)) == _digest(unit)

    def add(self, unit: BatchItem) -> None:
        """Write down that it is."""
        self._done[folded_number(unit.serial)] = _digest(unit)
        content = {"batch": 1, "done": self._done}
        write_atomic(self._path, json.dumps(content, indent=2) + "\n")


def _digest(unit: BatchItem) -> str:
    return content_hash(unit.setup.source.content)


def _rows(path: Path) -> Iterator[tuple[int, dict[str, str]]]:
    try:
        text = read_bytes(path).decode("utf-8-sig")
        # What spreadsheets write parts columns by commas or, where those mark decimals, semicolons.
        first = text.partition("\n")[0]
        reader = csv.DictReader(
            io.StringIO(text), delimiter=";" if ";" in first else ",", strict=True
        )
        columns = reader.fieldnames or []
        if "serial" not in columns or len(set(columns)) != len(columns):
            raise FileProblem(
                f"{path}: its columns are {', '.join(map(str, columns)) or 'none'}",
                remedy="the first line names the columns, each once, among them 'serial'",
            )
        for count, row in enumerate(reader):
            if count >= _MOST:
                raise FileProblem(f"{path} has more than {_MOST} lines", remedy="part it")
            if None in row or None in row.values():
                raise FileProblem(
                    f"{path}:{reader.line_num}: it has not as many columns as the first line",
                    remedy="add what is missing, or put quotes around what holds a comma",
                )
            if not row["serial"].strip():
                raise FileProblem(
                    f"{path}:{reader.line_num}: it has no serial number", remedy="add it"
                )
            yield reader.line_num, {name: value.strip() for name, value in row.items()}
    except (UnicodeDecodeError, csv.Error) as error:
        raise FileProblem(
            f"{path} is no CSV file in UTF-8: {error}", remedy="save it as that"
        ) from error


def _way(column: str) -> tuple[str, ...]:
    if column in _SHORT:
        return _SHORT[column]
    head, _, rest = column.partition(".")
    # The names of settings have points in them.
    return (head, rest) if head == "settings" and rest else tuple(column.split("."))


def _require_different(units: Sequence[BatchItem], table: str | Path) -> None:
    seen: dict[tuple[str, str], int] = {}
    for unit in units:
        for what, key in (
            ("serial number", folded_number(unit.serial)),
            ("address", str(unit.setup.device.at)),
        ):
            if (what, key) in seen:
                raise FileProblem(
                    f"{table}:{unit.line}: the {what} of line {seen[what, key]} again",
                    remedy="every unit has one line, and an address of its own (column 'at')",
                )
            seen[what, key] = unit.line
