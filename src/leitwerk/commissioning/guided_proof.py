"""A proof of a whole setup, step by step: apply, wait until it is steady, compare, adjust, record."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from leitwerk.calibration.correction import CalibrationPoint
from leitwerk.calibration.record import CalibrationRecord
from leitwerk.calibration.tare import Tare
from leitwerk.check.channels import MeasuredChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.outputs import AnalogOutput, CheckedOutput, RelayOutput
from leitwerk.commissioning.adjusting import measure_tare, write_calibration, write_tare
from leitwerk.commissioning.alarm_proof import prove
from leitwerk.commissioning.loop_check import check_loop, pulse
from leitwerk.commissioning.proof_plan import AS_LEFT, TARE, Applied, Applier, PlannedStep
from leitwerk.commissioning.proof_point import prove_point
from leitwerk.commissioning.proof_record import (
    SKIPPED,
    LoopSignal,
    ProofRecord,
    StepResult,
    load_record,
)
from leitwerk.commissioning.proof_reference import ReferenceChannel
from leitwerk.datasheet.settings import diff_settings
from leitwerk.devices.device import Device
from leitwerk.errors import (
    DeviceRefused,
    DomainError,
    FileProblem,
    NotAtRest,
    QuantityError,
    SetupError,
)
from leitwerk.monitoring.attendant import AttendOptions
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.project.files import content_hash
from leitwerk.project.kept_json import KeptIdentity
from leitwerk.results import Outcome
from leitwerk.transfer.task import UploadOptions
from leitwerk.transfer.upload import upload

_PULSE_S = 1.0


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
        For alarms: where their log is kept, and where the time comes from. Outputs are driven only where it
        is armed; its passwords and its folder are those of an upload after an adjustment.
    references : mapping from channel or output to ReferenceChannel
        Those that are read rather than typed.
    instruments : sequence of str
        What the references that are typed were measured with.
    due : date, optional
        By when a calibration that is made here has to be repeated.
    settle_s : float, in s
        How long to wait for a point to become steady.
    period_s : float, in s
        From reading to reading.
    alarm_s : float, in s
        How long to wait for an alarm to trip and to clear.
    loop_settle_s : float, in s
        How long an output takes to settle.
    on_step : callable
        Called with each result.

    """

    path: Path
    by: str
    attend: AttendOptions
    references: Mapping[str, ReferenceChannel] = field(default_factory=dict)
    instruments: Sequence[str] = ()
    due: date | None = None
    settle_s: float = 60.0
    period_s: float = 0.5
    alarm_s: float = 600.0
    loop_settle_s: float = 1.0
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
    QuantityError
        An adjustment lacks what it needs.
    UploadError
        An adjustment changed the setup, and it could not be carried to the device.
    FileProblem
        The record cannot be written, or another one is there.

    """
    return _Proving(setup, device, options).prove(plan, applier)


class _Proving:
    """A proof under way: an adjustment replaces the setup, and what watches the device."""

    def __init__(self, setup: CheckedSetup, device: Device, options: ProofOptions) -> None:
        self._device, self._options = device, options
        self._clock = options.attend.clock
        self._begin(setup)

    def _begin(self, setup: CheckedSetup) -> None:
        """Watch the device by a setup."""
        self._setup = setup
        self._watch = DeviceWatch(setup, self._device, clock=self._clock, capacity=100)

    def _now(self) -> str:
        return self._clock.now().isoformat(timespec="seconds")

    def prove(self, plan: Sequence[PlannedStep], applier: Applier) -> ProofRecord:
        """Work what is left of the plan."""
        options = self._options
        _require_what_it_needs(plan, options)
        record = self._opened(plan)
        steps = {step.key: step for step in plan}
        for key in record.left():
            step = steps[key]
            found = self._worked(step, record, applier)
            result = found.model_copy(update={"channel": step.channel})
            record = record.model_copy(update={"steps": [*record.steps, result]})
            record.save(options.path)
            options.on_step(result)
        record = record.model_copy(update={"finished": self._now()})
        record.save(options.path)
        return record

    def _opened(self, plan: Sequence[PlannedStep]) -> ProofRecord:
        """A new record, or one that was broken off."""
        setup, options, identity = self._setup, self._options, self._watch.identity
        keys = [step.key for step in plan]
        digest = content_hash(setup.setup.source.content)
        if options.path.exists():
            found = load_record(options.path)
            same = found.newest_hash == digest and found.device.serial == identity.serial
            if found.finished or not same or found.planned != keys:
                raise FileProblem(
                    f"{options.path} is the record of another proof, or complete",
                    remedy="name another file; a record is never written over",
                )
            return found
        read = [f"{name}: {channel}" for name, channel in options.references.items()]
        return ProofRecord(
            proof=1,
            title=setup.setup.title,
            setup=setup.setup.source.file,
            setup_hash=digest,
            device=KeptIdentity(**identity.to_dict()),
            address=str(self._device.address),
            by=options.by,
            instruments=[*options.instruments, *read],
            started=self._now(),
            finished="",
            planned=keys,
            steps=[],
        )

    def _worked(self, step: PlannedStep, record: ProofRecord, applier: Applier) -> StepResult:
        """What comes of one step."""
        if step.stage == AS_LEFT:
            unadjusted = self._unadjusted(step, record)
            if unadjusted is not None:
                return unadjusted
        if step.kind in {"loop", "pulse"} and not self._options.attend.armed:
            return self._skipped(step, "outputs are driven only with --arm")
        applied = applier.apply(step)
        if applied is None:
            return self._skipped(step)
        if step.kind == "alarm":
            return self._alarm(step)
        if step.kind == "adjust":
            return self._adjust(step, applied, record)
        if step.kind == "loop":
            return self._loop(step, applied)
        if step.kind == "pulse":
            return self._pulse(step, applied)
        options = self._options
        reference = options.references.get(step.channel)
        return prove_point(
            self._watch,
            step,
            applied,
            reference,
            settle_s=options.settle_s,
            period_s=options.period_s,
        )

    def _skipped(self, step: PlannedStep, reason: str = "") -> StepResult:
        return StepResult(
            key=step.key, kind=step.kind, stage=step.stage, verdict=SKIPPED,
            outcome=Outcome.UNKNOWN.value, at=self._now(), reason=reason,
        )  # fmt: skip

    def _ended(
        self, step: PlannedStep, outcome: Outcome, reason: str, **numbers: object
    ) -> StepResult:
        """The result of a step that is no comparison of a point."""
        words = {Outcome.PASSED: "pass", Outcome.FAILED: "fail", Outcome.UNKNOWN: "unknown"}
        plain = StepResult(
            key=step.key, kind=step.kind, verdict=words[outcome], outcome=outcome.value,
            at=self._now(), reason=reason,
        )  # fmt: skip
        return plain.model_copy(update=numbers)

    # ------------------------------------------------------------------ alarms and outputs

    def _alarm(self, step: PlannedStep) -> StepResult:
        options = self._options
        found = prove(
            self._setup,
            self._device,
            options.attend,
            step.alarm,
            duration_s=options.alarm_s,
            period_s=options.period_s,
        )
        return self._ended(step, found.outcome, "; ".join(found.reasons))

    def _found_output(self, name: str) -> CheckedOutput:
        return next(output for output in self._setup.outputs if output.name == name)

    def _loop(self, step: PlannedStep, applied: Applied) -> StepResult:
        output, options = self._found_output(step.channel), self._options
        assert isinstance(output, AnalogOutput)
        reference = options.references.get(step.channel)
        measure = applied.measure
        if measure is None and reference is not None:
            measure = lambda asked: reference.received(output.loop)  # noqa: E731
        if measure is None:
            return self._skipped(step, "it is not said what was measured at its other end")
        try:
            found = check_loop(
                output, self._device, measure, passwords=options.attend.passwords,
                wanted=self._setup.settings, settle_s=options.loop_settle_s, clock=self._clock,
            )  # fmt: skip
        except QuantityError as error:
            return self._ended(step, Outcome.UNKNOWN, error.message)
        signals = [
            LoopSignal(
                asked=p.asked, own=p.own, measured=p.measured, meant=p.meant, value=p.received.value
            )
            for p in found.points
        ]
        read = reference if applied.measure is None else None
        return self._ended(
            step, found.outcome, "; ".join(found.reasons), loop=signals, unit=found.unit,
            tolerance=found.points[0].tolerance, reference_from="" if read is None else str(read),
        )  # fmt: skip

    def _pulse(self, step: PlannedStep, applied: Applied) -> StepResult:
        output, options = self._found_output(step.channel), self._options
        assert isinstance(output, RelayOutput)
        lasts_s = max(_PULSE_S, output.switch.least_on_s)
        try:
            during, after = pulse(
                output, self._device, lasts_s, passwords=options.attend.passwords, clock=self._clock
            )
        except (QuantityError, DeviceRefused) as error:
            failed = Outcome.FAILED if isinstance(error, DeviceRefused) else Outcome.UNKNOWN
            return self._ended(step, failed, error.message)
        done = f"{during} for {lasts_s:g} s, {after} again"
        seen = None if applied.seen is None else applied.seen()
        if seen is False:
            reason = "the device says that it switched, but it was not seen to"
            return self._ended(step, Outcome.FAILED, reason, done=done)
        if seen is None:
            reason = "by what the device says; that it works was not seen"
            return self._ended(step, Outcome.UNKNOWN, reason, done=done)
        return self._ended(step, Outcome.PASSED, "", done=done)

    # ------------------------------------------------------------------ adjusting

    def _unadjusted(self, step: PlannedStep, record: ProofRecord) -> StepResult | None:
        """A point as left of a channel that was not adjusted: it is as found. None where it was."""
        before = [s for s in record.steps if s.kind == "adjust"]
        adjusted = next(s for s in before if s.channel == step.channel)
        if adjusted.verdict == "pass":
            return None
        found = record.result(step.found_key)
        assert found is not None
        reason = f"not adjusted, as found: {found.reason or found.verdict}"
        return found.model_copy(update={"key": step.key, "stage": AS_LEFT, "reason": reason})

    def _adjust(self, step: PlannedStep, applied: Applied, record: ProofRecord) -> StepResult:
        """Tare the channel, or correct it by its points as found; the setup and the device follow."""
        before = self._setup
        try:
            after, done = (
                self._tared(step, applied)
                if step.correct == TARE
                else self._calibrated(step, record)
            )
        except (NotAtRest, DomainError, SetupError) as error:
            return self._ended(step, Outcome.FAILED, error.message)
        if diff_settings(self._device.read_settings(), after.settings, self._device.datasheet):
            attend = self._options.attend
            changed = UploadOptions(
                attend.folder, attend.passwords, by=self._options.by, clock=self._clock
            )
            upload(after, self._device, changed)
            done += "; the settings of the device follow"
        digest = content_hash(after.setup.source.content)
        assert digest != content_hash(before.setup.source.content)
        self._begin(after)
        return self._ended(step, Outcome.PASSED, "", done=done, setup_hash=digest)

    def _tared(self, step: PlannedStep, applied: Applied) -> tuple[CheckedSetup, str]:
        channel = self._setup.measured(step.channel)
        nominal = 0.0 if applied.reference is None else applied.reference
        tare = self._at_rest(channel, nominal)
        after = write_tare(self._setup, channel, tare)
        return after, f"tared by {tare.offset:g} {channel.difference_symbol}"

    def _at_rest(self, channel: MeasuredChannel, nominal: float) -> Tare:
        """The tare, as soon as the channel is at rest; at the latest when the time is over."""
        until = self._clock.monotonic() + self._options.settle_s
        while True:
            try:
                return measure_tare(
                    self._setup, self._device, channel, nominal=nominal, clock=self._clock
                )
            except NotAtRest:
                if self._clock.monotonic() >= until:
                    raise

    def _calibrated(self, step: PlannedStep, record: ProofRecord) -> tuple[CheckedSetup, str]:
        channel, options = self._setup.measured(step.channel), self._options
        results = [
            s
            for s in record.steps
            if s.kind == "point" and s.channel == step.channel and s.uncorrected is not None
        ]
        points = tuple(
            CalibrationPoint(s.reference, (s.uncorrected,))
            for s in results
            if s.reference is not None and s.uncorrected is not None
        )
        assert options.due is not None
        known = [s.expanded_uncertainty for s in results if s.expanded_uncertainty is not None]
        read = options.references.get(step.channel)
        made = CalibrationRecord(
            on=self._clock.now().date(),
            due=options.due,
            reference="; ".join(options.instruments) if read is None else str(read),
            found=points,
            kind=step.correct,
            expanded=max(known, default=0.0),
        )
        correction = made.correction
        after = write_calibration(self._setup, channel, made)
        return after, f"corrected: {correction}"


def _require_what_it_needs(plan: Sequence[PlannedStep], options: ProofOptions) -> None:
    """A calibration without its instrument or its due date is none."""
    for step in plan:
        if step.kind != "adjust" or step.correct == TARE:
            continue
        if not options.instruments and step.channel not in options.references:
            raise QuantityError(
                f"{step.key}: the instrument that it is compared with is missing",
                valid="--instrument TEXT, or --reference",
            )
        if options.due is None or options.due <= options.attend.clock.now().date():
            raise QuantityError(
                f"{step.key}: the day by which it has to be repeated is missing, or over",
                valid="--due 2027-03-02",
            )
