"""The tables of a report for a spreadsheet: verdicts, summary, events; as CSV, or as sheets of XLSX."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from leitwerk.analysis.series import plain_cell, utc_text
from leitwerk.analysis.summary import PERCENTILES
from leitwerk.errors import FileProblem
from leitwerk.evaluation.judged import every_span
from leitwerk.project.files import write_atomic
from leitwerk.reports.recording_report import ReportText

Row = Sequence[Any]


def write_tables(report: ReportText, path: Path) -> None:
    """Write the tables: one below the other as CSV, each as a sheet as XLSX. No text can be a formula.

    Raises
    ------
    FileProblem
        The file cannot be written, or the package for XLSX is not there.

    """
    makers = {"about": _about, "verdict": _verdict, "limits": _limits, "noise exposure": _exposure,
              "totals": _totals, "summary": _summary, "events": _events}  # fmt: skip
    tables = {name: list(make(report)) for name, make in makers.items()}
    tables = {name: rows for name, rows in tables.items() if rows}
    if path.suffix == ".xlsx":
        write_atomic(path, _xlsx(tables))
        return
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for name, rows in tables.items():
        writer.writerow([name])
        writer.writerows([plain_cell(cell) for cell in row] for row in rows)
        writer.writerow([])
    write_atomic(path, out.getvalue())


def _xlsx(tables: dict[str, list[Row]]) -> bytes:
    try:
        from openpyxl import Workbook  # noqa: PLC0415 - an optional package
    except ImportError:
        raise FileProblem(
            "XLSX needs the package openpyxl",
            remedy="pip install 'leitwerk[spreadsheet]', or write CSV",
        ) from None
    book = Workbook()
    book.remove(book.active)
    for name, rows in tables.items():
        sheet = book.create_sheet(name)
        for number, row in enumerate(rows, start=1):
            for column, value in enumerate(row, start=1):
                cell = sheet.cell(number, column)
                cell.value = value
                if isinstance(value, str):
                    cell.data_type = "s"  # also where it begins like a formula
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _about(report: ReportText) -> Iterator[Row]:
    yield from ((name, text) for name, text in report.about.items() if name not in {"from", "to"})
    summary = report.summary
    yield "from", utc_text(summary.begin_s)
    yield "to", utc_text(summary.end_s)
    yield "rows", summary.rows
    yield "gaps", len(summary.gaps)


def _verdict(report: ReportText) -> Iterator[Row]:
    if not report.judged.groups:
        return
    yield ("group", "outcome", "at most", "times outside", "time outside [s]", "alarm", "condition",
           "times", "time [s]", "worst", "since")  # fmt: skip
    for v in report.judged.groups:
        allowed = v.at_most if v.at_most_s is None else f"{v.at_most_s:g} s"
        for a in v.alarms:
            worst = ("", "") if a.worst is None else (a.worst.value, utc_text(a.worst.at_s))
            yield (v.name, v.outcome.value, allowed, v.times, v.outside_s, a.name, a.condition, a.times,
                   a.outside_s, *worst)  # fmt: skip


def _limits(report: ReportText) -> Iterator[Row]:
    if not report.judged.shares:
        return
    yield ("limit", "channel", "unit", "low", "high", "interval [s]", "value", "intervals", "known", "within",
           "share", "at least", "minimum", "maximum", "outcome")  # fmt: skip
    for s in report.judged.shares:
        for c in s.channels:
            yield (s.name, c.name, c.unit, *_known(c.low, c.high), s.each_s, s.value, c.intervals, c.known,
                   c.within, *_known(c.share), s.at_least, *_known(c.lowest, c.highest),
                   c.outcome.value)  # fmt: skip


def _exposure(report: ReportText) -> Iterator[Row]:
    e = report.judged.exposure
    if e is None:
        return
    yield "figure", "value", "unit"
    yield from (
        (name, *_known(value), unit)
        for name, value, unit in (
            ("daily noise exposure LEX,8h", e.daily, "dB"), ("allowed", e.at_most, "dB"),
            ("expanded uncertainty", e.uncertainty, "dB"), ("equivalent level", e.equivalent, "dB"),
            ("highest level of a row", e.highest, "dB"), ("highest peak level", e.peak, "dB"),
            ("peak level allowed", e.peak_at_most, "dB"), ("measured", e.measured_s, "s"),
            ("missing", e.missing_s, "s"), ("duration of the shift", e.day_s, "s"),
            ("dose", e.dose, ""),
        )
    )  # fmt: skip
    yield "outcome", e.outcome.value, ""


def _totals(report: ReportText) -> Iterator[Row]:
    t = report.judged.totals
    if t is None:
        return
    yield ("begin", *(cell for c in t.channels for cell in (f"{c.name} [{c.unit}]", "missing [s]")))
    for k, begin in enumerate(t.edges_s[:-1]):
        yield utc_text(begin), *(x for c in t.channels for x in (c.totals[k], c.missing_s[k]))


def _known(*values: float) -> tuple[float | str, ...]:
    return tuple(value if math.isfinite(value) else "" for value in values)


def _summary(report: ReportText) -> Iterator[Row]:
    yield ("channel", "label", "unit", "good", "missing", "minimum", "mean", "maximum",
           "standard deviation", *(f"{p:g} %" for p in PERCENTILES), "mean kinetic temperature",
           "mean of the powers", "total", "total unit")  # fmt: skip
    for c in report.summary.channels:
        n = c.numbers
        numbers = (
            n.minimum,
            n.mean,
            n.maximum,
            n.deviation,
            *n.percentiles,
            n.mean_kinetic,
            n.equivalent,
            n.total,
        )
        yield (c.name, c.label, c.unit, n.count, n.missing,
               *_known(*numbers), n.total_unit)  # fmt: skip


def _events(report: ReportText) -> Iterator[Row]:
    yield "begin", "end", "alarm", "condition", "worst", "unit"
    for alarm, unit, span in every_span(report.summary):
        yield (
            utc_text(span.begin_s),
            utc_text(span.end_s),
            alarm.name,
            alarm.condition,
            span.worst,
            unit,
        )
