"""One point or state of a proof: wait until it is steady, and compare it with what was applied."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.calibration.conformity import decide
from leitwerk.calibration.correction import Correction
from leitwerk.calibration.tare import TareStage
from leitwerk.check.channel_uncertainty import uncertainty_at
from leitwerk.check.channels import CheckedChannel
from leitwerk.commissioning.proof_plan import Applied, PlannedStep
from leitwerk.commissioning.proof_record import StepResult
from leitwerk.commissioning.proof_reference import ReferenceChannel
from leitwerk.evaluation.verdict import ChannelReport, Verdict, judge
from leitwerk.monitoring.watching import DeviceWatch
from leitwerk.results import Outcome
from leitwerk.signals.scale import Chain

if TYPE_CHECKING:
    from numpy.typing import NDArray

_WINDOW = 10  # readings that a point is judged by
_SHARE = 0.01  # of the span: what is allowed where a channel has no tolerance
_STATES = 3  # readings in a row that show a state


def prove_point(
    watch: DeviceWatch,
    step: PlannedStep,
    applied: Applied,
    reference: ReferenceChannel | None,
    *,
    settle_s: float,
    period_s: float,
) -> StepResult:
    """Compare a channel with what was applied, by the decision rule of JCGM 106, 8.3.

    Parameters
    ----------
    watch : DeviceWatch
        Of the device that is proven.
    step : PlannedStep
        A ``point`` or a ``state``.
    applied : Applied
    reference : ReferenceChannel, optional
        Read beside it, unless a number was given for what was applied.
    settle_s : float, in s
        How long to wait until the channel is steady.
    period_s : float, in s
        From reading to reading.

    Raises
    ------
    WrongDevice, DeviceRefused
        Another device answers, or it refuses.
    QuantityError
        The reference is in a unit that does not fit.

    """
    column = [c.name for c in watch.board.channels].index(step.channel)
    channel = watch.board.channels[column]
    read = reference if applied.reference is None else None
    tolerance = _tolerance(channel)
    need = _STATES if channel.states is not None else _WINDOW
    clock, board = watch.clock, watch.board
    at = clock.now().isoformat(timespec="seconds")
    begun, until = board.taken, clock.monotonic() + settle_s
    while True:
        watch.take()
        if read is not None:
            read.take()
        is_over = clock.monotonic() >= until
        # What did not become steady is judged by all that was seen of it.
        count = min(len(board.history) if is_over else need, board.taken - begun)
        known = applied if read is None else read.applied(count, channel.unit)
        target = step.value if known is None or known.reference is None else known.reference
        values = board.history.values[len(board.history) - count :, column]
        qualities = board.history.qualities[len(board.history) - count :, column]
        asked = replace(channel, expected=(target, tolerance))
        report = judge(asked, values, qualities, board.context(column))
        is_full = count == need and known is not None
        if is_over or (is_full and _is_settled(report, values)):
            break
        clock.wait(period_s)
    plain = StepResult(
        key=step.key, kind=step.kind, stage=step.stage, verdict=report.verdict.value,
        outcome=report.outcome.value, at=at, unit=channel.symbol, reference=target, reason=report.reason,
        reference_from="" if read is None else str(read),
    )  # fmt: skip
    if known is None:
        reason = f"the reference {read} has no value"
        unknown = {"outcome": Outcome.UNKNOWN.value, "reference": None, "reason": reason}
        return plain.model_copy(update={**unknown, "verdict": Verdict.NO_READING.value})
    if report.mean is None or step.kind == "state":
        return plain
    return plain.model_copy(update=_decided(channel, report, target, known, tolerance))


def _decided(
    channel: CheckedChannel, report: ChannelReport, target: float, known: Applied, tolerance: float
) -> dict[str, object]:
    """The numbers of a point, and what its uncertainty makes of a pass."""
    assert report.mean is not None
    spread = (report.standard_deviation or 0.0) / math.sqrt(max(1, report.good))
    own = uncertainty_at(channel, report.mean) / 2.0
    standard = math.hypot(spread, own, known.expanded_uncertainty / 2.0)
    found: dict[str, object] = {
        "measured": report.mean,
        "deviation": report.mean - target,
        "tolerance": tolerance,
        "expanded_uncertainty": 2.0 * standard,
        "reference_uncertainty": known.expanded_uncertainty,
        "uncorrected": _uncorrected(channel, report.mean),
    }
    if report.verdict is Verdict.PASS:
        decision = decide(report.mean, standard, target - tolerance, target + tolerance)
        if decision.verdict != "pass":
            found["verdict"], found["outcome"] = "marginal", Outcome.UNKNOWN.value
            found["reason"] = (
                f"within the tolerance, but not beyond doubt: the deviation is known to ± {2 * standard:.2g} "
                f"{channel.difference_symbol} (JCGM 106, 8.3)"
            )
    return found


def _uncorrected(channel: CheckedChannel, value: float) -> float:
    """What a value is without the channel's correction and tare: what a new calibration is made of."""
    stages = tuple(s for s in channel.host.stages if isinstance(s, Correction | TareStage))
    return float(Chain(stages).signal([value])[0]) if stages else value


def _tolerance(channel: CheckedChannel) -> float:
    """That of the expectation; where there is none, a part of the span."""
    if channel.expected is not None and channel.states is None:
        return channel.expected[1]
    low, high = channel.span
    return _SHARE * (high - low) if math.isfinite(high - low) else 1.0


def _is_settled(report: ChannelReport, values: NDArray[np.float64]) -> bool:
    """Whether the readings stand still: a fail that still moves, or swings, may become a pass."""
    if report.verdict is Verdict.PASS:
        return True
    if report.verdict is Verdict.NO_READING or report.states is not None:
        return False
    tolerance = report.tolerance or 0.0
    half = values.size // 2
    moved = abs(float(np.mean(values[half:])) - float(np.mean(values[:half])))
    return bool(moved <= tolerance / 4.0 and np.ptp(values) <= tolerance)
