"""A proof of a whole setup, step by step: apply, wait until it is steady, compare, record."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

import numpy as np

from leitwerk.calibration.conformity import decide
from leitwerk.check.channels import CheckedChannel, SignalChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.commissioning.alarm_proof import prove
from leitwerk.commissioning.proof_plan import PlannedStep
from leitwerk.commissioning.proof_record import SKIPPED, ProofRecord, StepResult, load_record
from leitwerk.devices.device import Device
from leitwerk.errors import FileProblem
from leitwerk.evaluation.signal_chain import explain_channel
from leitwerk.evaluation.verdict import ChannelReport, Verdict, judge
from leitwerk.monitoring.attendant import AttendOptions
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.project.kept_json import KeptIdentity
from leitwerk.results import Outcome
from leitwerk.transfer.task import content_hash

_WINDOW = 10  # readings that a point is judged by
_SHARE = 0.01  # of the span: what is allowed where a channel has no tolerance
_STATES = 3  # readings in a row that show a state


@dataclass(frozen=True, slots=True)
class Applied:
    """What was applied, in the channel's unit, and its expanded uncertainty (k = 2)."""

    reference: float
    expanded_uncertainty: float = 0.0


class Applier(Protocol):
    """Whoever applies what a step asks for: a person, a script, a stand-in."""

    def apply(self, step: PlannedStep) -> Applied | None:
        """What was applied; None to skip the step. KeyboardInterrupt breaks the proof off, to be resumed."""


@dataclass(frozen=True)
class ProofOptions:
    """How a proof is made.

    Attributes
    ----------
    path : Path
        Of the record. One of the same setup and device that is not complete is resumed.
    by : str
        Who makes it.
    attend : AttendOptions
        For alarms: where their log is kept, and where the time comes from.
    settle_s : float, in s
        How long to wait for a point to become steady.
    period_s : float, in s
        From reading to reading.
    alarm_s : float, in s
        How long to wait for an alarm to trip and to clear.
    on_step : callable
        Called with each result.

    """

    path: Path
    by: str
    attend: AttendOptions
    settle_s: float = 60.0
    period_s: float = 0.5
    alarm_s: float = 600.0
    on_step: Callable[[StepResult], None] = lambda result: None


def prove_setup(
    setup: CheckedSetup,
    device: Device,
    plan: Sequence[PlannedStep],
    applier: Applier,
    options: ProofOptions,
) -> ProofRecord:
    """Prove a setup on its device. After each step the record is on disk.

    Raises
    ------
    SetupError, WrongDevice, LinkError, DeviceRefused
        As for a live check.
    FileProblem
        The record cannot be written, or another one is there.

    """
    clock = options.attend.clock
    watch = DeviceWatch(setup, device, clock=clock, capacity=max(100, 2 * _WINDOW))
    record = _begun(setup, watch, plan, options)
    steps = {step.key: step for step in plan}
    for key in record.left():
        step = steps[key]
        applied = applier.apply(step)
        at = clock.now().isoformat(timespec="seconds")
        if applied is None:
            unknown = Outcome.UNKNOWN.value
            result = StepResult(key=key, kind=step.kind, verdict=SKIPPED, outcome=unknown, at=at)
        elif step.kind == "alarm":
            result = _alarm(setup, device, step, options, at)
        else:
            result = _compared(watch, step, applied, options, at)
        record = record.model_copy(update={"steps": [*record.steps, result]})
        record.save(options.path)
        options.on_step(result)
    record = record.model_copy(update={"finished": clock.now().isoformat(timespec="seconds")})
    record.save(options.path)
    return record


def _begun(
    setup: CheckedSetup, watch: DeviceWatch, plan: Sequence[PlannedStep], options: ProofOptions
) -> ProofRecord:
    """A new record, or one that was broken off."""
    keys = [step.key for step in plan]
    digest = content_hash(setup.setup.source.content)
    if options.path.exists():
        found = load_record(options.path)
        same = found.setup_hash == digest and found.device.serial == watch.identity.serial
        if found.finished or not same or found.planned != keys:
            raise FileProblem(
                f"{options.path} is the record of another proof, or complete",
                remedy="name another file; a record is never written over",
            )
        return found
    return ProofRecord(
        proof=1,
        title=setup.setup.title,
        setup=setup.setup.source.file,
        setup_hash=digest,
        device=KeptIdentity(**watch.identity.to_dict()),
        address=str(watch.device.address),
        by=options.by,
        started=options.attend.clock.now().isoformat(timespec="seconds"),
        finished="",
        planned=keys,
        steps=[],
    )


def _alarm(
    setup: CheckedSetup, device: Device, step: PlannedStep, options: ProofOptions, at: str
) -> StepResult:
    found = prove(
        setup,
        device,
        options.attend,
        step.alarm,
        duration_s=options.alarm_s,
        period_s=options.period_s,
    )
    passed = found.outcome is Outcome.PASSED
    return StepResult(
        key=step.key, kind=step.kind, verdict="pass" if passed else "fail",
        outcome=found.outcome.value, at=at, reason="; ".join(found.reasons),
    )  # fmt: skip


def _compared(
    watch: DeviceWatch, step: PlannedStep, applied: Applied, options: ProofOptions, at: str
) -> StepResult:
    """Wait until the channel is steady, and hold it against the reference."""
    column = [c.name for c in watch.board.channels].index(step.channel)
    channel = watch.board.channels[column]
    tolerance = _tolerance(channel)
    asked = replace(channel, expected=(applied.reference, tolerance))
    report = _steady(watch, column, asked, options)
    unit = "K" if channel.unit.offset else channel.symbol
    plain = StepResult(
        key=step.key, kind=step.kind, verdict=report.verdict.value, outcome=report.outcome.value, at=at,
        unit=channel.symbol, reference=applied.reference, reason=report.reason,
    )  # fmt: skip
    if report.mean is None or step.kind == "state":
        return plain
    deviation = report.mean - applied.reference
    standard = _standard(channel, report, applied)
    reason, outcome, verdict = report.reason, report.outcome, report.verdict.value
    if report.verdict is Verdict.PASS:
        decision = decide(
            report.mean, standard, applied.reference - tolerance, applied.reference + tolerance
        )
        if decision.verdict != "pass":
            verdict, outcome = "marginal", Outcome.UNKNOWN
            reason = (
                f"within the tolerance, but not beyond doubt: the deviation is known to ± {2 * standard:.2g} "
                f"{unit} (JCGM 106, 8.3)"
            )
    return plain.model_copy(
        update={
            "measured": report.mean, "deviation": deviation, "tolerance": tolerance,
            "expanded_uncertainty": 2.0 * standard, "verdict": verdict, "outcome": outcome.value,
            "reason": reason,
        }
    )  # fmt: skip


def _tolerance(channel: CheckedChannel) -> float:
    """That of the expectation; where there is none, a part of the span."""
    if channel.expected is not None and channel.states is None:
        return channel.expected[1]
    low, high = channel.span
    return _SHARE * (high - low) if math.isfinite(high - low) else 1.0


def _standard(channel: CheckedChannel, report: ChannelReport, applied: Applied) -> float:
    """The standard uncertainty of the deviation: of the mean, the channel and the reference."""
    spread = (report.standard_deviation or 0.0) / math.sqrt(max(1, report.good))
    own = 0.0
    if isinstance(channel, SignalChannel) and report.mean is not None:
        explained = explain_channel(channel, value=report.mean)
        own = (explained.expanded_uncertainty or 0.0) / 2.0
    return math.hypot(spread, own, applied.expanded_uncertainty / 2.0)


def _steady(
    watch: DeviceWatch, column: int, asked: CheckedChannel, options: ProofOptions
) -> ChannelReport:
    """The verdict on the newest readings, once they are steady; at the latest when the time is over."""
    clock, board = watch.clock, watch.board
    need = _STATES if asked.states is not None else _WINDOW
    begun = board.taken
    until = clock.monotonic() + options.settle_s
    while True:
        watch.take()
        count = min(need, board.taken - begun)
        values = board.history.values[len(board.history) - count :, column]
        qualities = board.history.qualities[len(board.history) - count :, column]
        report = judge(asked, values, qualities, board.context(column))
        is_over = clock.monotonic() >= until
        if is_over or (count == need and _is_settled(report, values)):
            return report
        clock.wait(options.period_s)


def _is_settled(report: ChannelReport, values: np.ndarray) -> bool:
    """Whether the readings stand still: a fail that still moves may become a pass."""
    if report.verdict is Verdict.PASS:
        return True
    if report.verdict is Verdict.NO_READING or report.states is not None:
        return False
    half = values.size // 2
    moved = abs(float(np.mean(values[half:])) - float(np.mean(values[:half])))
    return bool(moved <= (report.tolerance or 0.0) / 4.0)
