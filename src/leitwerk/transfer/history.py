"""The history of a device: its receipts, each with the hash of the one before."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import Field

from leitwerk.errors import FileProblem
from leitwerk.project.files import content_hash, read_bytes
from leitwerk.project.kept_json import KeptFile, parse_kept

RECEIPT = "-receipt.json"


class _ReceiptFile(KeptFile):
    """What is read again of a receipt."""

    receipt: int
    by: str
    finished: str
    what: dict[str, str]
    changes: list[dict[str, Any]]
    settings_verified: int
    previous: str
    in_force_after_restart: list[str] = Field(default_factory=list)
    secrets: list[dict[str, str]] = Field(default_factory=list)


@dataclass(frozen=True, slots=True)
class _Link:
    file: Path
    sha256: str
    previous: str
    content: dict[str, Any]


@dataclass(frozen=True)
class History:
    """The receipts of one device, the oldest first, and where the chain does not hold."""

    receipts: tuple[dict[str, Any], ...]
    breaks: tuple[str, ...]

    @property
    def whole(self) -> bool:
        """Whether every receipt but the first follows on one that is there and unchanged."""
        return not self.breaks

    def to_dict(self) -> dict[str, Any]:
        """The history as plain data for JSON."""
        return {"whole": self.whole, "breaks": list(self.breaks), "receipts": list(self.receipts)}


def head_of(folder: Path) -> str:
    """The hash of the last receipt in a device's folder, empty without one."""
    chain = _in_order(_links(folder))
    return chain[-1].sha256 if chain else ""


def read_history(folder: Path, newest: str = "") -> History:
    """The receipts of a device's folder, and whether their chain holds.

    A receipt that was changed or taken away shows at the one after it. ``newest`` is the hash of the
    last one as the inventory knows it: without that, the last one is proven by the next only.
    """
    chain = _in_order(_links(folder))
    known = {link.sha256 for link in chain}
    breaks = []
    for k, link in enumerate(chain):
        if link.previous and link.previous not in known:
            breaks.append(
                f"{link.file.name} follows on a receipt that is not there, or was changed"
            )
        elif not link.previous and k > 0:
            breaks.append(f"{link.file.name} says that it is the first, and is not")
    if newest and newest not in known:
        breaks.append("the newest receipt that the inventory knows is not there, or was changed")
    return History(tuple(link.content for link in chain), tuple(breaks))


def _links(folder: Path) -> list[_Link]:
    """What is a receipt among the files of a folder; other files are passed over."""
    if not folder.is_dir():
        return []
    links = []
    for file in sorted(folder.glob(f"*{RECEIPT}")):
        try:
            raw = read_bytes(file)
            receipt = parse_kept(raw, _ReceiptFile)
        except (ValueError, FileProblem):
            continue
        if receipt.receipt == 1:
            links.append(_Link(file, content_hash(raw), receipt.previous, json.loads(raw)))
    return links


def _in_order(links: list[_Link]) -> list[_Link]:
    """By their chain; where it is broken, by the names of the files, which begin with the time.

    A clock that was set back changes the names and not the chain.
    """
    after = {link.previous: link for link in links if link.previous}
    known = {link.sha256 for link in links}
    order: list[_Link] = []
    placed: set[Path] = set()
    for start in links:
        if start.previous in known:
            continue
        step: _Link | None = start
        while step is not None and step.file not in placed:
            order.append(step)
            placed.add(step.file)
            step = after.get(step.sha256)
    return order + [link for link in links if link.file not in placed]
