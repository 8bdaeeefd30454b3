"""Tables for people, drawn with rich: only commands that need one load it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from rich.box import SIMPLE_HEAD
from rich.console import Console, Group
from rich.table import Table
from rich.text import Text

from leitwerk.evaluation.verdict import ChannelReport, Verdict
from leitwerk.parsing.quantities import format_number
from leitwerk.results import Outcome

if TYPE_CHECKING:
    from leitwerk.commissioning.live_report import LiveReport

OUTCOME_STYLES = {Outcome.PASSED: "green", Outcome.FAILED: "bold red", Outcome.UNKNOWN: "yellow"}
_WIDE = 110  # characters that all columns need
_STATE = {"normal": "green", "pending": "yellow", "unacknowledged": "bold red"}


def console(*, wraps: bool = False) -> Console:
    """Standard output; colours only on a terminal, and none where NO_COLOR asks for none.

    What ``wraps`` is broken between words; otherwise long lines are left to the terminal. Texts are never
    taken for markup: a title may hold brackets.
    """
    return Console(highlight=False, soft_wrap=not wraps, markup=False, emoji=False)


def live_table(channels: Sequence[ChannelReport], title: str, caption: str, width: int) -> Group:
    """The channels of a live check as a table, with the reasons below it.

    On a narrow terminal the columns are left out that a technician misses least.
    """
    table = Table(
        title=title, title_justify="left", title_style="bold", box=SIMPLE_HEAD, pad_edge=False
    )
    wide = width >= _WIDE
    columns = [c for c in _COLUMNS if wide or c.always]
    for column in columns:
        table.add_column(column.name, justify=column.justify, no_wrap=True)
    for channel in channels:
        table.add_row(*(column.cell(channel) for column in columns))
    reasons = [
        Text(f"{c.name}: ", "bold").append(text, "not bold")
        for c in channels
        for text in (c.reason, c.remark)
        if text
    ]
    return Group(table, *reasons, Text(caption, "dim"))


def closing_text(report: LiveReport) -> Text:
    """The last lines of a live check; the summary in the colour of its verdict."""
    *notes, summary = report.closing()
    style = OUTCOME_STYLES[report.outcome]
    return Text("".join(f"{note}\n" for note in notes)).append(summary, f"bold {style}")


def _alarms(c: ChannelReport) -> Text:
    cell = Text()
    for name, state in c.alarms.items():
        cell.append("\n" if cell else "").append(f"{name} ").append(
            state, _STATE.get(state, "yellow")
        )
    if c.band:
        cell.append("\n" if cell else "").append(c.band)
    return cell


def _spread(c: ChannelReport) -> str:
    if c.standard_deviation is None or c.states:
        return ""
    return f"{c.standard_deviation:.2g}"


@dataclass(frozen=True)
class _Column:
    name: str
    cell: Callable[[ChannelReport], str | Text]
    justify: Literal["left", "right"] = "left"
    always: bool = False


def _expected(c: ChannelReport) -> str:
    if c.expected is None or c.tolerance is None:
        return "–"
    if c.states is not None:
        return c.shown(c.expected)
    return f"{format_number(c.expected)} ± {format_number(c.tolerance)}"


def _verdict(c: ChannelReport) -> Text:
    asked = c.verdict is not Verdict.NO_EXPECTATION
    return Text(c.verdict.value, OUTCOME_STYLES[c.outcome] if asked else "dim")


_COLUMNS = (
    _Column("Channel", lambda c: c.name, always=True),
    _Column("Last", lambda c: c.shown(c.last), "right"),
    _Column("Mean", lambda c: c.shown(c.mean), "right", always=True),
    _Column("Min", lambda c: c.shown(c.minimum), "right"),
    _Column("Max", lambda c: c.shown(c.maximum), "right"),
    _Column("Std dev", _spread, "right"),
    _Column("Unit", lambda c: c.unit, always=True),
    _Column("Quality", lambda c: c.quality, always=True),
    _Column("Alarm", _alarms, always=True),
    _Column("Expected", _expected, always=True),
    _Column("Verdict", _verdict, always=True),
)
