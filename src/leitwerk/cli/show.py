"""Tables and colours for people, and JSON for programs."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from typing import Any

import click
from rich.console import Console, Group
from rich.table import Table
from rich.text import Text

from leitwerk.findings import Finding, count_findings
from leitwerk.verdicts import ChannelReport, Verdict

_SEVERITY = {"error": "bold red", "warning": "yellow", "note": "cyan"}
_VERDICT = {
    Verdict.PASS: "green",
    Verdict.FAIL: "bold red",
    Verdict.NO_READING: "bold red",
    Verdict.NOT_ASKED: "dim",
}
_PHASE = {"clear": "green", "pending": "yellow", "tripped": "bold red"}


def console() -> Console:
    """Standard output; colours only on a terminal, and none where NO_COLOR asks for none."""
    return Console(highlight=False, soft_wrap=True)


def echo_json(content: Any) -> None:
    """Print plain data as JSON."""
    click.echo(json.dumps(content, indent=2, ensure_ascii=False))


def print_findings(findings: Iterable[Finding], out: Console) -> None:
    """Print findings, each with its place, what is valid and what to do."""
    for finding in findings:
        head = Text(f"{finding.place}: ")
        head.append(finding.severity.value, _SEVERITY[finding.severity])
        head.append(": ")
        if finding.channel:
            head.append(f"channel {finding.channel}: ", "bold")
        head.append(finding.message)
        out.print(head)
        for name, text in finding.advice():
            out.print(Text(f"    {name}: ", "dim").append(text, "not dim"))


def counts_text(findings: Sequence[Finding]) -> str:
    """How many findings of each severity, in words."""
    counts = count_findings(findings)
    return ", ".join(
        f"{n} {name}{'s' if n != 1 else ''}" for name, n in counts.items() if n or name == "error"
    )


def live_table(channels: Sequence[ChannelReport], title: str, caption: str) -> Group:
    """The channels of a live check as a table, with the reasons below it."""
    table = Table(title=title, caption=caption, title_justify="left", caption_justify="left")
    for name in ("Channel", "Last", "Mean", "Min", "Max", "s", "Unit"):
        table.add_column(name, justify="left" if name in {"Channel", "Unit"} else "right")
    for name in ("Quality", "Alarms", "Expected", "Verdict"):
        table.add_column(name)
    for c in channels:
        spread = "–" if c.standard_deviation is None else f"{c.standard_deviation:.2g}"
        alarms = Text()
        for name, phase in c.alarms.items():
            alarms.append("\n" if alarms else "").append(f"{name}: ").append(phase, _PHASE[phase])
        table.add_row(
            c.name,
            *(c.shown(value) for value in (c.last, c.mean, c.minimum, c.maximum)),
            "" if c.states else spread,
            c.unit,
            c.quality,
            alarms,
            _expected(c),
            Text(c.verdict.value, _VERDICT[c.verdict]),
        )
    reasons = [
        Text(f"{c.name}: ", "bold").append(c.reason, "not bold") for c in channels if c.reason
    ]
    return Group(table, *reasons)


def _expected(c: ChannelReport) -> str:
    if c.expected is None or c.tolerance is None:
        return "–"
    if c.states is not None:
        return c.shown(c.expected)
    return f"{c.shown(c.expected)} ± {c.shown(c.tolerance)}"
