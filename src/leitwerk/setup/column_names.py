"""One's own names of columns in tables: mapped once, and kept in a file."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from pydantic import Field

from leitwerk.errors import SetupError
from leitwerk.findings import Findings
from leitwerk.parsing.models import Model, validate
from leitwerk.parsing.yaml_text import parse_yaml
from leitwerk.setup.fields import FormatVersion, Line

NOTHING = "-"


class ColumnFile(Model):
    """The file with names of columns."""

    columns: FormatVersion
    names: dict[str, Line] = Field(
        default_factory=dict, description="What each name stands for; '-' for nothing"
    )
    sheets: dict[str, Line] = Field(
        default_factory=dict, description="Names of sheets: channels, alarms or contacts"
    )


@dataclass(frozen=True)
class ColumnNames:
    """What one's own names of columns and sheets stand for; case and spaces around do not count."""

    names: Mapping[str, str] = field(default_factory=dict)
    sheets: Mapping[str, str] = field(default_factory=dict)

    def column(self, typed: str) -> str | None:
        """The key that a column stands for; None for one that stands for nothing."""
        folded = _folded(typed)
        for own, name in self.names.items():
            if _folded(own) == folded:
                return None if name == NOTHING else name
        return folded.replace(" ", "_") if typed else None

    def part_of(self, sheet: str) -> str:
        """The part of a setup that a sheet of this name holds, as far as the name says it."""
        folded = _folded(sheet)
        return next((p for own, p in self.sheets.items() if _folded(own) == folded), folded)

    def with_names(self, more: Iterable[tuple[str, str]]) -> ColumnNames:
        """The same, with further names of columns."""
        return ColumnNames({**self.names, **dict(more)}, self.sheets)


def _folded(text: str) -> str:
    return " ".join(text.casefold().split())


def parse_column_names(text: str | bytes, *, file: str = "columns") -> ColumnNames:
    """The names that a file holds.

    Raises
    ------
    SetupError
        It has mistakes; ``findings`` says them all.

    """
    findings = Findings(file)
    root = parse_yaml(text, findings)
    raw: dict[str, Any] = dict(root or {})
    found = validate(ColumnFile, raw, (), findings) if root is not None else None
    if found is None or findings.has_errors:
        raise SetupError(file, findings.sorted())
    return ColumnNames(found.names, found.sheets)
