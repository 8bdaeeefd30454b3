"""The record of a proof: every step with its numbers; kept, continued, and compared with a later one."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from pydantic import Field

from leitwerk.commissioning.proof_plan import AS_FOUND
from leitwerk.parsing.quantities import format_number
from leitwerk.project.files import write_atomic
from leitwerk.project.kept_json import KeptFile, KeptIdentity, read_kept
from leitwerk.results import Outcome, overall

SKIPPED = "skipped"


class LoopSignal(KeptFile):
    """One signal of a loop: asked for, as the device says it gives, as measured at the other end.

    ``meant`` is the value that it stands for, ``value`` the one that the other end makes of it.
    """

    asked: float
    own: float | None
    measured: float | None
    meant: float | None = None
    value: float | None = None


class StepResult(KeptFile):
    """What came of one step. Numbers are in ``unit``; None where a step has none.

    Attributes
    ----------
    channel : str
        Or the output; empty where a step belongs to none.
    stage : str
        ``as found`` or ``as left``, of a point of a channel that is adjusted.
    expanded_uncertainty : float, optional
        Of the deviation (k = 2): of the mean, the channel and the reference.
    uncorrected : float, optional
        The measured value without correction and tare.
    reference_from : str
        The channel by which the reference was read; empty where it was typed.
    done : str
        What an adjustment changed.
    setup_hash : str
        Of the setup behind an adjustment.
    loop : list of LoopSignal
        Of an analog output.

    """

    key: str
    kind: str
    verdict: str
    outcome: str
    at: str
    channel: str = ""
    stage: str = ""
    unit: str = ""
    reference: float | None = None
    measured: float | None = None
    deviation: float | None = None
    tolerance: float | None = None
    expanded_uncertainty: float | None = None
    reference_uncertainty: float | None = None
    uncorrected: float | None = None
    reference_from: str = ""
    reason: str = ""
    done: str = ""
    setup_hash: str = ""
    loop: list[LoopSignal] = Field(default_factory=list)

    def numbers(self) -> str:
        """What was measured, for people; empty where nothing was."""
        if self.loop:
            pairs = ", ".join(
                f"{format_number(s.asked)}: {'–' if s.measured is None else format_number(s.measured, 5)}"
                for s in self.loop
            )
            return f"{pairs} {self.unit}, allowed {format_number(self.tolerance or 0.0, 3)}"
        if self.measured is None or self.deviation is None:
            return self.done
        known = self.expanded_uncertainty
        off = format_number(self.deviation, 2) + ("" if known is None else f" ± {known:.2g}")
        allowed = format_number(self.tolerance or 0.0, 3)
        return f"{format_number(self.measured, 5)} {self.unit}, off by {off}, allowed {allowed}"

    def __str__(self) -> str:
        numbers = self.numbers()
        reason = f"\n{'':12}{self.reason}" if self.reason else ""
        return f"{self.verdict.upper():10}  {self.key}{'  ' if numbers else ''}{numbers}{reason}"


class ProofRecord(KeptFile):
    """A proof of a setup on a device; ``planned`` are the keys of all steps.

    ``instruments`` are those that references were measured with, as typed. Where a channel was adjusted,
    its points as left count; those as found are kept beside them.
    """

    proof: int
    title: str
    setup: str
    setup_hash: str
    device: KeptIdentity
    address: str
    by: str
    instruments: list[str] = Field(default_factory=list)
    started: str
    finished: str
    planned: list[str]
    steps: list[StepResult]

    @property
    def outcome(self) -> Outcome:
        """Passed when every step passed; unknown where one was skipped, or is missing."""
        missing = [Outcome.UNKNOWN] * (len(self.planned) > len(self.steps))
        return overall([*(Outcome(step.outcome) for step in self._counted()), *missing])

    @property
    def points_outcome(self) -> Outcome:
        """Of the points alone: of a channel that was adjusted, those as left."""
        return overall(Outcome(step.outcome) for step in self._counted() if step.kind == "point")

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why steps did not pass."""
        return tuple(f"{step.key}: {step.reason or step.verdict}" for step in self._open())

    def _open(self) -> Iterable[StepResult]:
        return (step for step in self._counted() if step.outcome != Outcome.PASSED.value)

    def _counted(self) -> Iterable[StepResult]:
        """The steps that decide: a point that was adjusted decides as left."""
        return (step for step in self.steps if step.stage != AS_FOUND)

    @property
    def newest_hash(self) -> str:
        """Of the setup, behind its last adjustment."""
        return next((s.setup_hash for s in reversed(self.steps) if s.setup_hash), self.setup_hash)

    def result(self, key: str) -> StepResult | None:
        """What came of a step, None if it is still to come."""
        return next((step for step in self.steps if step.key == key), None)

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
        if self.instruments:
            lines.insert(2, f"measured with {'; '.join(self.instruments)}")
        if self.left():
            lines.append(f"still to come: {len(self.left())} of {len(self.planned)} steps")
        return "\n".join([*lines, self.summary()])

    @property
    def counts(self) -> tuple[int, int]:
        """How many steps passed, and how many there are; a point that was adjusted counts as left."""
        passed = sum(step.outcome == Outcome.PASSED.value for step in self._counted())
        return passed, len(self.planned) - sum(step.stage == AS_FOUND for step in self.steps)

    def summary(self) -> str:
        """The outcome and its numbers, in one line."""
        passed, counted = self.counts
        found = [step for step in self.steps if step.stage == AS_FOUND]
        text = f"{self.outcome.value.upper()}: {passed} of {counted} steps passed"
        if found:
            fine = sum(step.outcome == Outcome.PASSED.value for step in found)
            text += f"; as found {fine} of {len(found)} points"
        return text

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
            unit = "K" if step.unit == "°C" else step.unit
            lines.append(
                f"  {step.key}: off by {format_number(was.deviation, 3)}, now "
                f"{format_number(step.deviation, 3)} {unit}; moved by {format_number(moved, 3)}"
            )
        elif step.loop and was.loop:
            lines.append(f"  {step.key}: {_loop_drift(was.loop, step.loop)} {step.unit}")
        elif step.verdict != was.verdict:
            lines.append(f"  {step.key}: was {was.verdict}, is {step.verdict}")
    return lines


def _loop_drift(before: Iterable[LoopSignal], after: Iterable[LoopSignal]) -> str:
    """How far each signal of a loop has moved, where it was measured both times."""
    old = {signal.asked: signal.measured for signal in before}
    moves = []
    for signal in after:
        was = old.get(signal.asked)
        if signal.measured is not None and was is not None:
            moves.append(
                f"{format_number(signal.asked)} moved by {format_number(signal.measured - was, 3)}"
            )
    return ", ".join(moves) or "was not measured both times"
