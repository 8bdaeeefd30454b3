"""Findings: what checking has to say, as data. One list, one text form, one JSON form."""

from __future__ import annotations

import enum
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, Protocol, TypeAlias, TypedDict, Unpack

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

# The way through a file's keys to a value: ("channels", "air_top", "range").
KeyPath: TypeAlias = tuple[str, ...]


class Severity(enum.StrEnum):
    """How much a finding weighs. Only an error keeps a setup from being uploaded."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One thing that checking has to say.

    ``line`` and ``column`` count from 1; ``cell`` names the cell, where the file is a workbook. ``path``
    leads through the file's keys, ``channel`` is the channel's name where one is meant. ``valid`` says
    what would be right, ``remedy`` what to do.
    """

    severity: Severity
    rule: str
    file: str
    line: int
    column: int
    path: str
    message: str
    channel: str = ""
    valid: str = ""
    remedy: str = ""
    cell: str = ""

    @property
    def is_error(self) -> bool:
        """Whether this finding keeps the setup from being used."""
        return self.severity is Severity.ERROR

    @property
    def place(self) -> str:
        """The place as editors understand it: ``file:line:column``; of a workbook, ``file:sheet!C17``."""
        if self.cell:
            return f"{self.file}:{self.cell}"
        return f"{self.file}:{self.line}:{self.column}"

    def __str__(self) -> str:
        who = f"channel {self.channel}: " if self.channel else ""
        lines = [f"{self.place}: {self.severity}: {who}{self.message}"]
        lines += [f"    {name}: {text}" for name, text in self.advice()]
        return "\n".join(lines)

    def advice(self) -> list[tuple[str, str]]:
        """The second half of the finding: pairs of heading and text, without the empty ones."""
        return [(n, t) for n, t in (("valid", self.valid), ("remedy", self.remedy)) if t]

    def to_dict(self) -> dict[str, Any]:
        """The finding as plain data for JSON; ``page`` is where the documentation says more of its rule."""
        return {**asdict(self), "page": f"reference/findings.html#{self.rule}"}


class Locator(Protocol):
    """The keys of a file, that know where they stand."""

    def locate(self, path: KeyPath, *, at_key: bool = False) -> tuple[int, int]:
        """Line and column (from 1) of the value at ``path``, or of the nearest key above it."""


class Advice(TypedDict, total=False):
    """What a finding may say besides its message, and where it points; see ``Findings.add``."""

    valid: str
    remedy: str
    at_key: bool
    at: tuple[int, int] | None


class Findings:
    """Collects the findings on one file and knows where its keys stand."""

    def __init__(self, file: str, root: Locator | None = None) -> None:
        self.file = file
        self.root = root
        # Paths that a mistyped key was meant for: what is missing there has its finding already.
        self.meant: set[tuple[str, ...]] = set()
        self._items: list[Finding] = []

    def __iter__(self) -> Iterator[Finding]:
        return iter(self._items)

    def __len__(self) -> int:
        return len(self._items)

    def add(
        self,
        severity: Severity,
        rule: str,
        path: KeyPath,
        message: str,
        *,
        valid: str = "",
        remedy: str = "",
        at_key: bool = False,
        at: tuple[int, int] | None = None,
    ) -> None:
        """Add a finding at ``path``; ``at_key`` points to the key instead of its value.

        ``at`` gives line and column (from 1) of a place that no path leads to.
        """
        line, column = at or (1, 1)
        if at is None and self.root is not None:
            line, column = self.root.locate(path, at_key=at_key)
        self._items.append(
            Finding(
                severity=severity,
                rule=rule,
                file=self.file,
                line=line,
                column=column,
                path=".".join(path),
                channel=path[1] if len(path) > 1 and path[0] == "channels" else "",
                message=message,
                valid=valid,
                remedy=remedy,
            )
        )

    def mentions(self, path: KeyPath) -> bool:
        """Whether the file has something meant for ``path``, readable or not."""
        if path in self.meant:
            return True
        here: object = self.root
        for step in path:
            if isinstance(here, list) and step.isdecimal() and int(step) < len(here):
                here = here[int(step)]
            elif isinstance(here, dict) and step in here:
                here = here[step]
            else:
                return False
        return here is not None

    def error(self, rule: str, path: KeyPath, message: str, **more: Unpack[Advice]) -> None:
        """Add an error: the setup cannot be uploaded like this."""
        self.add(Severity.ERROR, rule, path, message, **more)

    def warning(self, rule: str, path: KeyPath, message: str, **more: Unpack[Advice]) -> None:
        """Add a warning: it can be uploaded, and is probably not meant."""
        self.add(Severity.WARNING, rule, path, message, **more)

    def note(self, rule: str, path: KeyPath, message: str, **more: Unpack[Advice]) -> None:
        """Add a note: good to know."""
        self.add(Severity.NOTE, rule, path, message, **more)

    def extend(self, more: Iterable[Finding]) -> None:
        """Take over findings made elsewhere."""
        self._items.extend(more)

    @property
    def has_errors(self) -> bool:
        """Whether any finding is an error."""
        return any(finding.is_error for finding in self._items)

    def sorted(self) -> list[Finding]:
        """All findings in the order of the file."""
        return sorted(self._items, key=lambda f: (f.line, f.column, f.rule))


def count_findings(findings: Iterable[Finding]) -> dict[str, int]:
    """How many findings there are of each severity."""
    counts = dict.fromkeys(("error", "warning", "note"), 0)
    for finding in findings:
        counts[finding.severity.value] += 1
    return counts
