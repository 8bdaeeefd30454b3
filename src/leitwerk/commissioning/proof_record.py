"""The record of a proof: every step with its numbers; kept, continued, and compared with a later one."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from leitwerk.parsing.quantities import format_number
from leitwerk.project.files import write_atomic
from leitwerk.project.kept_json import KeptFile, KeptIdentity, read_kept
from leitwerk.results import Outcome, overall

SKIPPED = "skipped"


class StepResult(KeptFile):
    """What came of one step. Numbers are in ``unit``; None where a step has none.

    ``expanded_uncertainty`` is that of the deviation (k = 2): of the mean, the channel and the reference.
    """

    key: str
    kind: str
    verdict: str
    outcome: str
    at: str
    unit: str = ""
    reference: float | None = None
    measured: float | None = None
    deviation: float | None = None
    tolerance: float | None = None
    expanded_uncertainty: float | None = None
    reason: str = ""

    def __str__(self) -> str:
        numbers = ""
        if self.measured is not None and self.deviation is not None:
            known = self.expanded_uncertainty
            off = format_number(self.deviation, 2) + ("" if known is None else f" ± {known:.2g}")
            allowed = format_number(self.tolerance or 0.0, 3)
            shown = format_number(self.measured, 5)
            numbers = f"  {shown} {self.unit}, off by {off}, allowed {allowed}"
        reason = f"\n{'':12}{self.reason}" if self.reason else ""
        return f"{self.verdict.upper():10}  {self.key}{numbers}{reason}"


class ProofRecord(KeptFile):
    """A proof of a setup on a device; ``planned`` are the keys of all steps."""

    proof: int
    title: str
    setup: str
    setup_hash: str
    device: KeptIdentity
    address: str
    by: str
    started: str
    finished: str
    planned: list[str]
    steps: list[StepResult]

    @property
    def outcome(self) -> Outcome:
        """Passed when every step passed; unknown where one was skipped, or is missing."""
        missing = [Outcome.UNKNOWN] * (len(self.planned) > len(self.steps))
        return overall([*(Outcome(step.outcome) for step in self.steps), *missing])

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why steps did not pass."""
        return tuple(f"{step.key}: {step.reason or step.verdict}" for step in self._open())

    def _open(self) -> Iterable[StepResult]:
        return (step for step in self.steps if step.outcome != Outcome.PASSED.value)

    def left(self) -> list[str]:
        """The keys of the steps that are still to come."""
        done = {step.key for step in self.steps}
        return [key for key in self.planned if key not in done]

    def __str__(self) -> str:
        identity = self.device.identity()
        lines = [
            f"{self.title}: proof on {identity}",
            f"by {self.by}, {self.started} to {self.finished or '…'}",
        ]
        lines += [str(step) for step in self.steps]
        if self.left():
            lines.append(f"still to come: {len(self.left())} of {len(self.planned)} steps")
        passed = sum(step.outcome == Outcome.PASSED.value for step in self.steps)
        lines.append(f"{self.outcome.value.upper()}: {passed} of {len(self.planned)} steps passed")
        return "\n".join(lines)

    def save(self, path: Path) -> None:
        """Write it whole or not at all.

        Raises
        ------
        FileProblem
            It cannot be written.

        """
        content = {**self.model_dump(), "outcome": self.outcome.value}
        write_atomic(path, json.dumps(content, ensure_ascii=False, indent=1) + "\n")


def proof_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of records."""
    schema = ProofRecord.model_json_schema()
    outcome = {"description": "Of all steps", "enum": [outcome.value for outcome in Outcome]}
    schema["properties"]["outcome"] = outcome
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}


def load_record(path: Path) -> ProofRecord:
    """A record that was kept.

    Raises
    ------
    FileProblem
        The file cannot be read, or is no record.

    """
    return read_kept(path, ProofRecord, "the record of a proof", "name another file")


def _difference_unit(unit: str) -> str:
    """A difference of temperatures in °C is in K."""
    return "K" if unit == "°C" else unit


def drift_lines(before: ProofRecord, after: ProofRecord) -> list[str]:
    """How each point has moved from one proof to the next, in words."""
    old = {step.key: step for step in before.steps}
    lines = [f"since the proof of {before.finished or before.started}:"]
    for step in after.steps:
        was = old.get(step.key)
        if was is None:
            lines.append(f"  {step.key}: was not proven before")
        elif step.deviation is not None and was.deviation is not None:
            moved = step.deviation - was.deviation
            lines.append(
                f"  {step.key}: off by {format_number(was.deviation, 3)}, now "
                f"{format_number(step.deviation, 3)} {_difference_unit(step.unit)}; moved by "
                f"{format_number(moved, 3)}"
            )
        elif step.verdict != was.verdict:
            lines.append(f"  {step.key}: was {was.verdict}, is {step.verdict}")
    return lines
