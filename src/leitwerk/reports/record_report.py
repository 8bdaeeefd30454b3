"""The report of a record: what a proof of a setup, or a batch, has kept."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from leitwerk.commissioning.proof_record import ProofRecord, StepResult, load_record
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.parsing.quantities import format_number
from leitwerk.project.files import content_hash, read_bytes
from leitwerk.reports.recording_report import ReportOptions
from leitwerk.reports.report_template import Forms, fill_template, report_kinds
from leitwerk.reports.report_text import ReportText, Row
from leitwerk.transfer.batch import BatchRecord, load_batch

Record = ProofRecord | BatchRecord
RECORD_KINDS = ("proof", "calibration", "batch")


def read_record(path: Path) -> Record | None:
    """A record that was kept as JSON; None for what is no JSON file.

    Raises
    ------
    FileProblem
        It cannot be read, or is the record of something else.

    """
    if path.suffix != ".json":
        return None
    try:
        content = json.loads(read_bytes(path))
    except (ValueError, RecursionError):
        content = None
    if isinstance(content, dict) and "proof" in content:
        return load_record(path)
    if isinstance(content, dict) and "batch" in content:
        return load_batch(path)
    raise FileProblem(
        f"{path} is neither the record of a proof nor of a batch",
        remedy="name what 'leitwerk prove' or 'leitwerk batch' has kept",
    )


def record_report(record: Record, options: ReportOptions, drift: Sequence[str] = ()) -> ReportText:
    """The report of a record.

    Parameters
    ----------
    record : ProofRecord or BatchRecord
    options : ReportOptions
        Its kind is one of ``RECORD_KINDS``, that of the record if it is empty, or a template of one's own.
    drift : sequence of str
        How each point has moved since an earlier proof, as ``drift_lines`` says it.

    Raises
    ------
    QuantityError
        A record of this kind has no such report, or no points that were measured.
    FileProblem
        There is no such template, or it fails.

    """
    own = ("batch",) if isinstance(record, BatchRecord) else ("proof", "calibration")
    kind = options.kind or own[0]
    if kind in report_kinds() and kind not in own:
        raise QuantityError(f"this record has no report of the kind {kind}", valid=", ".join(own))
    forms = Forms(options.language, None)
    if isinstance(record, BatchRecord):
        title, setup_hash, facts, rows = _batch_facts(record, forms)
    else:
        title, setup_hash = record.title, record.newest_hash
        facts, rows = _proof_facts(record, forms, drift)
    outcome = record.outcome
    if kind == "calibration" and isinstance(record, ProofRecord):
        if not facts["channels"]:
            raise QuantityError("no point of this proof was measured", valid="a proof with points")
        outcome = record.points_outcome
    data_hash = record_hash(record)
    facts |= {
        "title": title, "outcome": outcome.value, "notes": list(options.notes),
        "data_hash": data_hash, "setup_hash": setup_hash,
    }  # fmt: skip
    about = {
        "kind": kind, "title": title, "data": data_hash, "setup": setup_hash,
        "outcome": outcome.value, "made": datetime.now(UTC).isoformat(timespec="seconds"),
    }  # fmt: skip
    return ReportText(
        title, fill_template(kind, facts, forms), {}, about, outcome, forms.t("page"),
        {"about": list(about.items()), **rows},
    )  # fmt: skip


def record_hash(record: Record) -> str:
    """SHA-256 of a record, as the seal of its report has it."""
    return content_hash(record.model_dump_json().encode())


@dataclass(frozen=True)
class _ShownStep:
    """A step as it is read: numbers with their units."""

    key: str
    verdict: str
    stage: str
    reference: str
    uncertainty: str
    measured: str
    deviation: str
    allowed: str
    reason: str

    def row(self) -> Row:
        """The same for a table."""
        return (self.key, self.verdict, self.stage, self.reference, self.measured, self.deviation,
                self.allowed, self.reason)  # fmt: skip


@dataclass(frozen=True)
class _CalibratedChannel:
    name: str
    points: tuple[_ShownStep, ...]
    done: str


def _proof_facts(
    record: ProofRecord, forms: Forms, drift: Sequence[str]
) -> tuple[dict[str, Any], dict[str, list[Row]]]:
    t = forms.t
    header = [
        (t("device"), str(record.device.identity())),
        (t("address"), record.address),
        (t("setup"), record.setup),
        (t("by"), record.by),
        (f"{t('from')}, {t('to')}", f"{record.started} – {record.finished or '…'}"),
        (t("measured with"), "; ".join(record.instruments) or t("not said")),
    ]
    if record.newest_hash != record.setup_hash:
        header.append((t("setup as found"), f"SHA-256 {record.setup_hash}"))
    steps = [_shown(step, forms) for step in record.steps]
    passed, planned = record.counts
    heading = (
        "step",
        "verdict",
        "stage",
        "reference",
        "measured",
        "deviation",
        "allowed",
        "reason",
    )
    facts = {
        "header": header, "steps": steps, "left": record.left(), "passed": passed, "planned": planned,
        "drift": [line.strip() for line in drift], "channels": _channels(record, forms),
    }  # fmt: skip
    return facts, {"steps": [heading, *(step.row() for step in steps)]}


def _channels(record: ProofRecord, forms: Forms) -> list[_CalibratedChannel]:
    """The channels of which points were measured, each with what was adjusted."""
    points = [s for s in record.steps if s.kind == "point" and s.measured is not None]
    done = {s.channel: s.done for s in record.steps if s.kind == "adjust" and s.done}
    return [
        _CalibratedChannel(
            name, tuple(_shown(s, forms) for s in points if s.channel == name), done.get(name, "")
        )
        for name in dict.fromkeys(step.channel for step in points)
    ]


def _shown(step: StepResult, forms: Forms) -> _ShownStep:
    notes = [step.reason, step.done, step.reference_from and f"reference: {step.reference_from}"]
    difference = "K" if step.unit == "°C" else step.unit
    reference = uncertainty = measured = deviation = allowed = ""

    def number(value: float, digits: int) -> str:
        text = format_number(value, digits)
        return text.replace(".", ",") if forms.is_german else text

    if step.loop:
        reference = f"{_list(forms, (s.asked for s in step.loop))} {step.unit}"
        measured = f"{_list(forms, (s.measured for s in step.loop))} {step.unit}"
        allowed = f"± {number(step.tolerance or 0.0, 3)} {step.unit}"
    elif step.measured is not None and step.reference is not None and step.deviation is not None:
        known, own = step.expanded_uncertainty, step.reference_uncertainty
        reference = f"{number(step.reference, 6)} {step.unit}"
        uncertainty = "" if not own else f"{number(own, 2)} {difference}"
        measured = f"{number(step.measured, 5)} {step.unit}"
        deviation = number(step.deviation, 2)
        deviation += f"{'' if known is None else f' ± {number(known, 2)}'} {difference}"
        allowed = f"± {number(step.tolerance or 0.0, 3)} {difference}"
    reason = "; ".join(note for note in notes if note)
    return _ShownStep(step.key, step.verdict, step.stage, reference, uncertainty, measured, deviation,
                      allowed, reason)  # fmt: skip


def _list(forms: Forms, values: Iterable[float | None]) -> str:
    texts = ["–" if value is None else format_number(value, 5) for value in values]
    if forms.is_german:
        return "; ".join(text.replace(".", ",") for text in texts)
    return ", ".join(texts)


def _batch_facts(
    record: BatchRecord, forms: Forms
) -> tuple[str, str, dict[str, Any], dict[str, list[Row]]]:
    items = [
        item.model_copy(
            update={
                "message": item.message.partition("\n")[0],
                "at": item.at.replace("+00:00", "Z"),
            }
        )
        for item in sorted(record.items.values(), key=lambda item: item.serial)
    ]
    states = [item.state for item in items]
    title = items[0].title if len(items) == 1 else f"{len(items)} {forms.t('devices')}"
    first, last = (
        min((i.at for i in items if i.at), default=""),
        max((i.at for i in items), default=""),
    )
    header = [
        (forms.t("by"), record.by),
        (f"{forms.t('from')}, {forms.t('to')}", f"{first} – {last}"),
    ]
    heading = (
        "serial number",
        "model",
        "title",
        "address",
        "state",
        "at",
        "result",
        "hash of the setup",
    )
    rows: list[Row] = [
        (i.serial, i.model, i.title, i.address, i.state, i.at, i.message, i.setup_hash)
        for i in items
    ]
    counts = {state: states.count(state) for state in dict.fromkeys(states)}
    facts = {"header": header, "items": items, "counts": counts}
    return title, "", facts, {"devices": [heading, *rows]}
