"""Findings, rows and columns for people, and JSON for programs."""

from __future__ import annotations

import json
import shutil
import sys
import textwrap
from collections.abc import Iterable, Sequence
from typing import Any

import click

from leitwerk.findings import Finding, count_findings

_MOST_RULES = 6  # that are named at the end of a list of findings
_SEVERITY: dict[str, dict[str, Any]] = {
    "error": {"fg": "red", "bold": True},
    "warning": {"fg": "yellow"},
    "note": {"fg": "cyan"},
}


def echo_json(content: Any) -> None:
    """Print plain data as JSON; where the output is not UTF-8, what is beyond ASCII is escaped, not lost."""
    encoding = (getattr(sys.stdout, "encoding", "") or "utf-8").lower().replace("-", "")
    click.echo(json.dumps(content, indent=2, ensure_ascii=encoding != "utf8"))


def print_result(result: Any, *, as_json: bool) -> None:
    """Print what has both forms: a text for people, plain data for programs."""
    if as_json:
        echo_json(result.to_dict())
    else:
        for line in str(result).splitlines():
            print_line(line, len(line) - len(line.lstrip()) + 2)


def print_line(line: str, indent: int, *, err: bool = False) -> None:
    """Print a line; where a terminal must break it, what follows is indented."""
    _print_wrapped("", "", line, indent, err=err)


def print_findings(findings: Iterable[Finding], *, err: bool = False) -> None:
    """Print findings, each with its place, what is valid and what to do; then where more is said of them."""
    rules: dict[str, None] = {}
    for finding in findings:
        rules[finding.rule] = None
        severity = finding.severity.value
        head, shown = f"{finding.place}: {severity}: ", f"{finding.place}: "
        shown += click.style(severity, **_SEVERITY[severity]) + ": "
        if finding.channel:
            head += f"channel {finding.channel}: "
            shown += click.style(f"channel {finding.channel}: ", bold=True)
        _print_wrapped(head, shown, finding.message, 4, err=err)
        for name, text in finding.advice():
            head = f"    {name}: "
            _print_wrapped(head, click.style(head, dim=True), text, 6 + len(name), err=err)
    if rules:
        named = " ".join(list(rules)[:_MOST_RULES])
        click.echo(click.style(f"more: leitwerk finding {named}", dim=True), err=err)


def print_rows(rows: Iterable[tuple[str, str]]) -> None:
    """Print headings with their texts beside them; equal headings below each other stand once."""
    every = list(rows)
    width = max((len(heading) for heading, _ in every), default=0) + 2
    before = ""
    for heading, text in every:
        head = f"{'' if heading == before else heading:{width}}"
        _print_wrapped(head, click.style(head, bold=True), text, width)
        before = heading


def print_columns(head: Sequence[str], rows: Iterable[Sequence[str]]) -> None:
    """Print rows of texts below their headings, each column as wide as it needs."""
    every = [tuple(head), *map(tuple, rows)]
    widths = [max(len(row[k]) for row in every) for k in range(len(head))]
    for row in every:
        cells = (f"{cell:{width}}" for cell, width in zip(row, widths, strict=True))
        click.echo("  ".join(cells).rstrip())


def counts_text(findings: Sequence[Finding]) -> str:
    """How many findings of each severity, in words."""
    counts = count_findings(findings)
    return ", ".join(
        f"{n} {name}{'s' if n != 1 else ''}" for name, n in counts.items() if n or name == "error"
    )


def _print_wrapped(head: str, shown: str, text: str, indent: int, *, err: bool = False) -> None:
    """Print a heading, ``shown`` in its colours, and a text.

    On a terminal it is broken between words, later lines indented; elsewhere it is one line.
    """
    stream = sys.stderr if err else sys.stdout
    if not stream.isatty():
        click.echo(shown + text, err=err)
        return
    first, *more = textwrap.wrap(
        head + text,
        max(indent + 20, shutil.get_terminal_size().columns),
        subsequent_indent=" " * indent,
        break_long_words=False,
        break_on_hyphens=False,
        drop_whitespace=True,
    ) or [head]
    # A heading that is itself broken is left without its colours.
    first = shown + first.removeprefix(head) if first.startswith(head) else first
    click.echo("\n".join([first, *more]), err=err)
