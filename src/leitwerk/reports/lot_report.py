"""The report of a lot of units: yield, faults, capability, distributions, units that do not belong."""

from __future__ import annotations

import io
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from leitwerk.commissioning.lot_ledger import Ledger
from leitwerk.commissioning.lot_results import LotResult, MeasureOfLot, evaluate_lot
from leitwerk.errors import QuantityError
from leitwerk.project.files import content_hash
from leitwerk.reports.recording_report import ReportOptions
from leitwerk.reports.report_template import Forms, fill_template, report_kinds
from leitwerk.reports.report_text import ReportText, Row

if TYPE_CHECKING:
    from matplotlib.figure import Figure

KIND = "lot"
_MOST_UNITS = 200  # that failed, of which each has a line


@dataclass(frozen=True)
class LotRecord:
    """The ledger of a lot with what came of it; ``data_hash`` is that of all its records."""

    result: LotResult
    data_hash: str


def read_lot(path: Path) -> LotRecord:
    """The ledger of a lot, evaluated.

    Raises
    ------
    FileProblem
        It cannot be read, or is no ledger.
    DomainError
        No unit was tested.

    """
    book = Ledger(path)
    book.read()
    latest = book.latest()
    data = "\n".join(one.model_dump_json() for one in book.records)
    return LotRecord(
        evaluate_lot(latest, len(book.records) - len(latest)), content_hash(data.encode())
    )


def lot_report(lot: LotRecord, options: ReportOptions) -> ReportText:
    """The report of a lot.

    Raises
    ------
    QuantityError
        A lot has no report of this kind.
    FileProblem
        There is no such template, or it fails.

    """
    kind, result = options.kind or KIND, lot.result
    if kind in report_kinds() and kind != KIND:
        raise QuantityError(f"a lot has no report of the kind {kind}", valid=KIND)
    forms = Forms(options.language, None)
    title = f"{len(result.records)} {forms.t('units')}, {result.records[0].device.model}"
    pictures = _pictures(result)
    failed = [(one.serial, "; ".join(one.details)) for one in result.records if not one.passed]
    facts: dict[str, Any] = {
        "title": title, "outcome": result.outcome.value, "notes": list(options.notes),
        "header": _header(result, forms), "pareto": result.pareto, "data_hash": lot.data_hash,
        "setup_hash": result.records[-1].setup_hash, "measures": result.capability_rows(),
        "failed": failed[:_MOST_UNITS],
        "apart": [(record.serial, measure.name) for record, measure in result.outliers()],
        "pictures": list(pictures),
    }  # fmt: skip
    about = {
        "kind": kind, "title": title, "data": lot.data_hash, "setup": facts["setup_hash"],
        "outcome": result.outcome.value, "made": datetime.now(UTC).isoformat(timespec="seconds"),
    }  # fmt: skip
    heads: Row = ("measure", "units", "mean", "spread", "limits", "Cp", "Cpk", "unit")
    return ReportText(
        title, fill_template(kind, facts, forms), pictures, about, result.outcome, forms.t("page"),
        {
            "about": list(about.items()),
            "measures": [heads, *facts["measures"]],
            "units": [("serial number", "verdict", "faults"),
                      *((o.serial, o.verdict, "; ".join(o.details)) for o in result.records)],
        },
    )  # fmt: skip


def _header(result: LotResult, forms: Forms) -> list[tuple[str, str]]:
    t = forms.t
    low, high = (100.0 * end for end in result.interval)
    first, last = result.records[0], result.records[-1]
    interval = f"95 %: {low:.1f} – {high:.1f} %"
    share = f"{result.passed} {t('of')} {len(result.records)}: {100.0 * result.share:.1f} % ({interval})"
    return [
        (t("yield"), share),
        (t("tested again"), str(result.tested_again)),
        (f"{t('from')}, {t('to')}", f"{first.started} – {last.started}"),
        (t("by"), ", ".join(dict.fromkeys(one.by for one in result.records))),
        (t("plan"), ", ".join(dict.fromkeys(one.plan_hash[:16] for one in result.records))),
    ]  # fmt: skip


def _pictures(result: LotResult) -> dict[str, bytes]:
    from leitwerk.reports.lot_figures import (  # noqa: PLC0415 - Matplotlib takes long to load
        distribution_figure,
        pareto_figure,
    )

    pictures = {"faults": _png(pareto_figure(result))} if result.pareto else {}
    tests: dict[str, list[MeasureOfLot]] = {}
    for measure in result.measures:
        tests.setdefault(measure.test, []).append(measure)
    for test, own in tests.items():
        pictures[test.replace(" ", "-")] = _png(distribution_figure(own, test))
    return pictures


def _png(figure: Figure) -> bytes:
    out = io.BytesIO()
    figure.savefig(out, format="png")
    return out.getvalue()
