"""One setup for many devices: a table says in what they differ, and each is uploaded to for itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass, replace
from datetime import UTC
from pathlib import Path
from typing import Any

from pydantic import Field

from leitwerk.check.checked import CheckedSetup
from leitwerk.check.compile import check_setup
from leitwerk.check.places import bound_names
from leitwerk.devices.device import connect
from leitwerk.errors import FileProblem, LeitwerkError, QuantityError, SetupError
from leitwerk.findings import Finding
from leitwerk.identity import folded_number
from leitwerk.links.options import USUAL, LinkOptions
from leitwerk.project.clock import Clock
from leitwerk.project.editing import with_values
from leitwerk.project.files import content_hash, write_atomic
from leitwerk.project.kept_json import KeptFile, read_kept
from leitwerk.project.library import find_datasheet
from leitwerk.project.rows_file import quantity_rows
from leitwerk.project.setups import load_setup, parse_setup
from leitwerk.results import Outcome, overall
from leitwerk.setup.model import Setup
from leitwerk.transfer.receipt import Receipt
from leitwerk.transfer.task import UploadOptions
from leitwerk.transfer.upload import upload

FILE = "batch.json"
AT_ONCE = 8
OPEN, DONE = "open", "done"
_SHORT = {"serial": ("device", "serial"), "at": ("device", "at"), "title": ("title",)}
_MOST = 1000  # items of one batch: each setup is checked by itself


@dataclass(frozen=True)
class BatchItem:
    """One device of a batch: the line of the table, and its own setup."""

    line: int
    setup: CheckedSetup

    @property
    def serial(self) -> str:
        """The serial number of the device."""
        return self.setup.setup.device.serial


@dataclass(frozen=True)
class BatchResult:
    """What became of one item: ``done`` now, ``earlier`` by this batch before, or ``failed``."""

    item: BatchItem
    state: str
    message: str
    receipt: Receipt | None = None

    @property
    def ok(self) -> bool:
        """Whether the device has been proven to hold its setup."""
        return self.state != "failed"

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        return {
            "serial": self.item.serial,
            "address": str(self.item.setup.setup.device.at),
            "state": self.state,
            "message": self.message,
        }

    def __str__(self) -> str:
        head, *rest = self.message.splitlines()
        return "\n".join([f"{self.state:8} {self.item.serial}: {head}", *rest])


def read_batch(
    setup: str | Path, table: str | Path, on_found: Callable[[str], None] = lambda said: None
) -> list[BatchItem]:
    """The items of a batch.

    Parameters
    ----------
    setup : path
        The setup that all of them have in common.
    table : path
        A CSV or XLSX file with a line for each item. Its columns are ``serial``, ``at``, ``title``, or the
        way to any other value of the setup, such as ``channels.stack.scale``. What a line leaves
        empty is as in the setup. A heading may have a unit: ``channels.stack.expect [kg]``.
    on_found : callable
        Called with how the numbers of the table were understood.

    Raises
    ------
    FileProblem
        A file cannot be read, the table is not valid, or names a device or an address twice.
    SetupError
        The setups of some devices have errors; ``findings`` has those of all of them.

    """
    text = load_setup(setup).source.content.decode("utf-8-sig")
    items: list[BatchItem] = []
    errors: list[Finding] = []
    for line, row in list(
        _rows(Path(table), on_found)
    ):  # all of it is read before the first is checked
        try:
            own = with_values(text, {_way(column): value for column, value in row.items() if value})
        except QuantityError as error:
            raise FileProblem(
                f"{table}:{line}: {error.message}", remedy=f"valid columns: {error.valid}"
            ) from error
        name = f"{setup} with {table}:{line}"
        try:
            one = parse_setup(own, file=name, folder=Path(setup).parent)
            sheet = find_datasheet(one.device.model, Path(setup).parent)
            checked = check_setup(one, sheet).require()
        except SetupError as error:
            errors += [finding for finding in error.findings if finding.is_error]
        else:
            items.append(BatchItem(line, checked))
    if errors:
        raise SetupError(str(table), errors)
    _require_different(items, table)
    return items


def upload_batch(
    items: Sequence[BatchItem],
    options: UploadOptions,
    *,
    passwords: Callable[[Setup], Mapping[str, str]],
    at_once: int = AT_ONCE,
    again: bool = False,
    link: LinkOptions = USUAL,
    on_step: Callable[[BatchItem, str, int, int], None] = lambda item, step, done, total: None,
    on_end: Callable[[BatchResult], None] = lambda result: None,
) -> list[BatchResult]:
    """Upload to every item; one that fails stops no other.

    What is done is written down: the same batch begun again goes on with the items that are left,
    unless ``again`` asks for all of them.

    Parameters
    ----------
    options : UploadOptions
        As for a single upload; the folder also takes the record of the batch.
    passwords : callable
        Gives the passwords of an item's device.
    at_once : int
        Maximum number of devices in parallel.
    on_step, on_end : callable
        Called from several threads.

    Returns
    -------
    list of BatchResult
        In the order of the table.

    Raises
    ------
    KeyboardInterrupt
        Stopped by the keyboard: no further item is begun, those under way end first.

    """
    record = _Record(Path(options.folder) / FILE, items, options.by, options.clock)
    results: dict[int, BatchResult] = {}

    def end(result: BatchResult) -> None:
        results[result.item.line] = result
        on_end(result)

    def one(item: BatchItem) -> BatchResult:
        try:
            own = replace(
                options,
                passwords=passwords(item.setup.setup),
                on_progress=lambda step, done, total: on_step(item, step, done, total),
            )
            with connect(item.setup, link=link) as device:
                receipt = upload(item.setup, device, own)
        except LeitwerkError as error:
            return BatchResult(item, "failed", str(error))
        count = len(receipt.changes)
        return BatchResult(item, "done", f"{count} changed, {receipt.verified} verified", receipt)

    with ThreadPoolExecutor(at_once) as pool:
        futures = []
        for item in items:
            if not again and record.has(item):
                end(BatchResult(item, "earlier", "was done and verified by this batch before"))
            else:
                futures.append(pool.submit(one, item))
        try:
            for future in as_completed(futures):
                result = future.result()
                record.add(result)
                end(result)
        except KeyboardInterrupt:
            pool.shutdown(cancel_futures=True)
            raise
    return [results[item.line] for item in items]


class BatchEntry(KeptFile):
    """One device of a batch: ``state`` is open, done or failed; ``at`` is when that was, in UTC."""

    serial: str
    model: str
    title: str
    address: str
    setup_hash: str
    state: str = OPEN
    at: str = ""
    message: str = ""


class BatchRecord(KeptFile):
    """The record of a batch. ``done`` has the hash of the setup that each device holds, by serial number."""

    batch: int = 1
    by: str = ""
    done: dict[str, str] = Field(default_factory=dict)
    items: dict[str, BatchEntry] = Field(default_factory=dict)

    @property
    def outcome(self) -> Outcome:
        """Passed when every device has been proven to hold its setup; unknown while some are open."""
        states = {"done": Outcome.PASSED, "failed": Outcome.FAILED}
        return overall(states.get(item.state, Outcome.UNKNOWN) for item in self.items.values())


def load_batch(path: Path) -> BatchRecord:
    """The record of a batch.

    Raises
    ------
    FileProblem
        The file cannot be read, or is no record of a batch.

    """
    remedy = "name another file; or move it away, and every item is looked at again"
    return read_kept(path, BatchRecord, "a record of a batch", remedy)


class _Record:
    """What a batch has done: on disk after each item, by serial number and the item's own setup."""

    def __init__(self, path: Path, items: Sequence[BatchItem], by: str, clock: Clock) -> None:
        self._path, self._clock = path, clock
        held = load_batch(path) if path.exists() else BatchRecord()
        self._done, self._entries, self._by = dict(held.done), dict(held.items), by
        for item in items:
            number = folded_number(item.serial)
            known = self._entries.get(number)
            if known is None or known.setup_hash != _digest(item):
                entry = _entry(item)
                is_done = self.has(item)
                self._entries[number] = entry.model_copy(update={"state": DONE} if is_done else {})

    def has(self, item: BatchItem) -> bool:
        """Whether this setup has been proven to be in this item."""
        return self._done.get(folded_number(item.serial)) == _digest(item)

    def add(self, result: BatchResult) -> None:
        """Write down what became of an item."""
        number = folded_number(result.item.serial)
        if result.ok:
            self._done[number] = _digest(result.item)
        at = self._clock.now().astimezone(UTC).isoformat(timespec="seconds")
        update = {"state": result.state, "at": at, "message": result.message}
        self._entries[number] = _entry(result.item).model_copy(update=update)
        content = BatchRecord(by=self._by, done=self._done, items=self._entries)
        write_atomic(self._path, content.model_dump_json(indent=1) + "\n")


def _entry(item: BatchItem) -> BatchEntry:
    setup = item.setup.setup
    return BatchEntry(
        serial=item.serial, model=setup.device.model, title=setup.title, address=str(setup.device.at),
        setup_hash=_digest(item),
    )  # fmt: skip


def _digest(item: BatchItem) -> str:
    return content_hash(item.setup.setup.source.content)


def _rows(path: Path, on_found: Callable[[str], None]) -> Iterator[tuple[int, dict[str, str]]]:
    """The lines of the table, each with its number."""
    rows, found = quantity_rows(path, _SHORT)
    for said in found:
        on_found(f"{path}: {said}")
    if len(rows) > _MOST:
        raise FileProblem(f"{path} has more than {_MOST} lines", remedy="part it")
    for number, row in rows:
        if "serial" not in row:
            raise FileProblem(
                f"{path}:{number}: it has no serial number",
                remedy="a column 'serial', with the serial number of each device",
            )
        yield number, row


def _way(column: str) -> tuple[str, ...]:
    if column in _SHORT:
        return _SHORT[column]
    head, _, rest = column.partition(".")
    # The names of settings have points in them.
    return (head, rest) if head == "settings" and rest else tuple(column.split("."))


def _require_different(items: Sequence[BatchItem], table: str | Path) -> None:
    seen: dict[tuple[str, str], int] = {}
    for item in items:
        for what, key in (
            ("serial number", folded_number(item.serial)),
            ("address", str(item.setup.setup.device.at)),
        ):
            if (what, key) in seen:
                raise FileProblem(
                    f"{table}:{item.line}: the {what} of line {seen[what, key]} again",
                    remedy="every item has one line, and an address of its own (column 'at')",
                )
            seen[what, key] = item.line
    _require_one_receiver(items, table)


def _require_one_receiver(items: Sequence[BatchItem], table: str | Path) -> None:
    """No transmitter may be bound to two receivers."""
    bound: dict[int, int] = {}
    for item in items:
        for number, name in bound_names(item.setup.setup, item.setup.datasheet).items():
            if number in bound:
                raise FileProblem(
                    f"{table}:{item.line}: {name} is the transmitter {number}, which line {bound[number]} "
                    f"binds to another receiver",
                    remedy="give each line its own transmitters (columns such as 'places.1.id')",
                )
            bound[number] = item.line
