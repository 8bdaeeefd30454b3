"""A report before it is set, and setting it: PDF, HTML, or its tables as CSV and XLSX."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from leitwerk.analysis.series import plain_cell
from leitwerk.errors import QuantityError
from leitwerk.project.files import write_atomic
from leitwerk.recordings.spreadsheet import sheets_xlsx
from leitwerk.reports.html_page import page_html
from leitwerk.reports.pdf_page import page_pdf
from leitwerk.reports.seal import sealed
from leitwerk.results import Outcome

Row = Sequence[Any]
TABLES = (".csv", ".xlsx")
FORMS = (".pdf", ".html", *TABLES)


def require_form(path: Path) -> None:
    """Raise an error if no report can be written to a file of this name.

    Raises
    ------
    QuantityError
        Its ending is none of ``FORMS``.

    """
    if path.suffix not in FORMS:
        raise QuantityError(
            f"a report cannot be written as {path.suffix or str(path)!r}", valid=", ".join(FORMS)
        )


@dataclass(frozen=True)
class ReportText:
    """A report before it is set.

    Attributes
    ----------
    markdown : str
    pictures : mapping from name to bytes
        Those that the Markdown names: PNG or JPEG.
    about : mapping
        What the seal says of it.
    outcome : Outcome, optional
        None where nothing is judged.
    page_word : str
        What a page is called.
    compact : bool
        Whether a PDF is set in small letters, to stand on one page.
    tables : mapping from name to rows
        The same for a spreadsheet.

    """

    title: str
    markdown: str
    pictures: Mapping[str, bytes]
    about: dict[str, str]
    outcome: Outcome | None
    page_word: str
    tables: Mapping[str, Sequence[Row]]
    compact: bool = False


def write_report(report: ReportText, path: Path, language: str = "en") -> None:
    """Write a report in the form that the name of the file says: one of ``FORMS``.

    PDF and HTML have a seal. In the tables, no text can be a formula.

    Raises
    ------
    FileProblem
        The file cannot be written, or the package for its form is not there.

    """
    if path.suffix in TABLES:
        content = sheets_xlsx(report.tables) if path.suffix == ".xlsx" else _csv(report.tables)
        write_atomic(path, content)
        return
    if path.suffix == ".pdf":
        page = page_pdf(
            report.markdown, report.title, report.pictures, report.page_word, compact=report.compact
        )
    else:
        page = page_html(report.markdown, report.title, report.pictures, language).encode()
    write_atomic(path, sealed(page, path.suffix, report.about))


def _csv(tables: Mapping[str, Sequence[Row]]) -> str:
    """The tables, one below the other."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for name, rows in tables.items():
        writer.writerow([name])
        writer.writerows([plain_cell(cell) for cell in row] for row in rows)
        writer.writerow([])
    return out.getvalue()
