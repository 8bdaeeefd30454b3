"""A proof as a page to read, print and sign."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from leitwerk.commissioning.proof_record import ProofRecord, StepResult
from leitwerk.parsing.quantities import format_number
from leitwerk.reports.html_page import page_html, plain
from leitwerk.reports.pdf_page import page_pdf


def proof_page(record: ProofRecord, drift: Sequence[str] = (), *, as_pdf: bool = False) -> bytes:
    """The page of a record: HTML, or PDF.

    Parameters
    ----------
    record : ProofRecord
    drift : sequence of str, optional
        How each point has moved since an earlier proof, as ``drift_lines`` says it.

    """
    markdown, title = "\n".join(_lines(record, drift)) + "\n", f"Proof: {record.title}"
    if as_pdf:
        return page_pdf(markdown, title, {})
    return page_html(markdown, title).encode()


def _lines(record: ProofRecord, drift: Sequence[str]) -> Iterator[str]:
    yield f"# Proof: {plain(record.title)}"
    yield ""
    yield f"**{plain(record.summary())}**"
    yield ""
    rows = {
        "device": str(record.device.identity()),
        "address": record.address,
        "setup": f"{record.setup}, SHA-256 {record.setup_hash}",
        "by": record.by,
        "from, to": f"{record.started} to {record.finished or '…'}",
        "measured with": "; ".join(record.instruments) or "not said",
    }
    if record.newest_hash != record.setup_hash:
        rows["setup as left"] = f"SHA-256 {record.newest_hash}"
    yield "| | |"
    yield "|---|---|"
    yield from (f"| {name} | {plain(text)} |" for name, text in rows.items())
    yield ""
    yield "## Steps"
    yield ""
    yield "| step | verdict | reference | measured | deviation | allowed | reason |"
    yield "|---|---|---|---|---|---|---|"
    yield from (_row(step) for step in record.steps)
    yield from (f"| {plain(key)} | still to come | | | | | |" for key in record.left())
    yield ""
    if drift:
        yield "## Drift"
        yield ""
        yield plain(drift[0])
        yield ""
        yield from (f"- {plain(line.strip())}" for line in drift[1:])
        yield ""
    yield "The deviation stands with its expanded uncertainty (k = 2); a pass is decided by JCGM 106, 8.3."
    yield ""
    yield "Date, name, signature: ______________________________________________"


def _row(step: StepResult) -> str:
    verdict = step.verdict if step.stage == "" else f"{step.verdict} ({step.stage})"
    notes = [step.reason, step.done, step.reference_from and f"reference: {step.reference_from}"]
    cells = [step.key, verdict, *_numbers(step), "; ".join(note for note in notes if note)]
    return f"| {' | '.join(map(plain, cells))} |"


def _numbers(step: StepResult) -> tuple[str, str, str, str]:
    """Reference, measured, deviation and what is allowed, each with its unit; empty where there is none."""
    difference = "K" if step.unit == "°C" else step.unit
    if step.loop:
        asked = ", ".join(format_number(s.asked) for s in step.loop)
        seen = ", ".join(
            "–" if s.measured is None else format_number(s.measured, 5) for s in step.loop
        )
        allowed = format_number(step.tolerance or 0.0, 3)
        return f"{asked} {step.unit}", f"{seen} {step.unit}", "", f"± {allowed} {step.unit}"
    if step.measured is None or step.reference is None or step.deviation is None:
        return "", "", "", ""
    known = step.expanded_uncertainty
    off = format_number(step.deviation, 2) + ("" if known is None else f" ± {known:.2g}")
    return (
        f"{format_number(step.reference, 6)} {step.unit}",
        f"{format_number(step.measured, 5)} {step.unit}",
        f"{off} {difference}",
        f"± {format_number(step.tolerance or 0.0, 3)} {difference}",
    )
