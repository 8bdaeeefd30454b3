"""The card of commands: all of them on one page."""

from __future__ import annotations

from collections.abc import Mapping

from leitwerk.reports.html_page import plain
from leitwerk.reports.report_text import ReportText


def command_card(sections: Mapping[str, Mapping[str, str]]) -> ReportText:
    """The card, to be set as PDF or HTML.

    Parameters
    ----------
    sections : mapping from section to mapping from command to str
        What each command does, in the order of the work.

    """
    rows: list[tuple[str, str]] = []
    for section, commands in sections.items():
        rows += [
            (f"**{section}**", ""),
            *((plain(name), plain(text)) for name, text in commands.items()),
        ]
    half = (len(rows) + 1) // 2
    lines = ["# Leitwerk: the commands", "", "| | | | |", "|---|---|---|---|"]
    for left, right in zip(rows[:half], [*rows[half:], ("", "")], strict=False):
        lines.append(f"| {' | '.join((*left, *right))} |")
    table = [
        (section, name, text) for section, held in sections.items() for name, text in held.items()
    ]
    return ReportText(
        title="Leitwerk: the commands", markdown="\n".join(lines) + "\n", pictures={}, about={},
        outcome=None, page_word="page",
        tables={"commands": [("section", "command", "what it does"), *table]}, compact=True,
    )  # fmt: skip
