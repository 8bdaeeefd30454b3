"""Calibration and tare of a channel: the stages they add to its scale, and what is to be said."""

from __future__ import annotations

from datetime import date

from leitwerk.calibration.correction import CalibrationPoint, Correction
from leitwerk.calibration.record import CalibrationRecord
from leitwerk.calibration.tare import TareStage
from leitwerk.errors import DomainError, QuantityError
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import format_span, format_value
from leitwerk.parsing.units import Unit, convert_difference, parse_unit
from leitwerk.setup.model import Channel, Setup
from leitwerk.signals.scale import Chain, Scale


def calibration_stages(channel: Channel, unit: Unit, path: KeyPath, findings: Findings) -> Chain:
    """Correction, then tare; what cannot be applied is a finding and is left out."""
    stages: list[Scale] = []
    record = calibration_record(channel, unit, path, findings)
    if record is not None:
        try:
            correction = record.correction
        except (DomainError, QuantityError) as error:
            place = (*path, "calibration", "found")
            remedy = error.remedy
            findings.error("bad-calibration", place, error.message, remedy=remedy)
        else:
            stages += [correction] if correction is not None else []
    if channel.tare:
        place = (*path, "tare", str(len(channel.tare) - 1), "offset")
        try:
            offset = channel.tare[-1].offset
            taken = offset.value if offset.unit is None else convert_difference(
                offset.value, offset.unit, unit
            )  # fmt: skip
            stages.append(TareStage(taken))
        except QuantityError as error:
            findings.error("wrong-unit", place, error.message, valid=error.valid)
    return Chain(tuple(stages))


def calibration_record(
    channel: Channel, unit: Unit, path: KeyPath, findings: Findings
) -> CalibrationRecord | None:
    """The calibration of a channel in its unit, None when it has none or it is not valid."""
    written = channel.calibration
    if written is None:
        return None
    place = (*path, "calibration")
    if written.due < written.date:
        findings.error(
            "dates-reversed",
            (*place, "due"),
            f"the calibration is due on {written.due}, before it was done on {written.date}",
            valid=f"a day after {written.date}",
        )
    try:
        points = tuple(
            CalibrationPoint(reference.value_in(unit), (reading.value_in(unit),))
            for reading, reference in written.found.points
        )
        uncertainty = max(
            (
                wide.value if wide.unit is None else convert_difference(wide.value, wide.unit, unit)
                for wide in (written.uncertainty, *written.found.expanded)
                if wide is not None
            ),
            default=0.0,
        )
    except QuantityError as error:
        message = f"the calibration does not fit a channel in {unit}: {error.message}"
        findings.error("wrong-unit", place, message, at_key=True, valid=error.valid)
        return None
    return CalibrationRecord(
        on=written.date,
        due=written.due,
        reference=written.reference,
        found=points,
        kind=written.correct,
        expanded=uncertainty,
    )


def correction_of(host: Chain) -> Correction | None:
    """The calibration's stage of a chain, None without one."""
    return next((stage for stage in host.stages if isinstance(stage, Correction)), None)


def check_reach(
    correction: Correction | None,
    used: list[float],
    unit: Unit,
    path: KeyPath,
    findings: Findings,
) -> None:
    """Whether the values that a channel will be judged by lie between its calibrated points."""
    if correction is None or not used or correction.holds(min(used), max(used)):
        return
    findings.warning(
        "calibration-extrapolated",
        (*path, "calibration", "found"),
        f"expectation and alarms reach from {format_span(min(used), max(used), unit)}, beyond the "
        "calibrated points",
        valid=format_span(*correction.calibrated, unit),
        remedy="calibrate over the span that is used",
    )


def check_residuals(
    correction: Correction | None, unit: Unit, path: KeyPath, findings: Findings
) -> None:
    """Whether the correction fits its points: as well as they are known."""
    if correction is None or not correction.residuals or not correction.expanded:
        return
    worst = max(correction.residuals, key=abs)
    if abs(worst) <= correction.expanded:
        return
    off, known = (
        format_value(float(f"{x:.2g}"), parse_unit("K") if unit.offset else unit)
        for x in (_as_difference(abs(worst), unit), _as_difference(correction.expanded, unit))
    )
    findings.warning(
        "calibration-residuals",
        (*path, "calibration", "found"),
        f"a point is {off} off the correction {correction.kind!r}, and known to ± {known}: the correction "
        "does not fit the points",
        valid="residuals within the uncertainty of the calibration",
        remedy="look for a mistyped point, or correct by 'offset and gain', a polynomial or a table",
    )


def _as_difference(value: float, unit: Unit) -> float:
    return float(convert_difference(value, unit, parse_unit("K"))) if unit.offset else value


def check_dates(setup: Setup, today: date, findings: Findings) -> None:
    """Calibrations that are overdue, or missing where other channels of the setup have one."""
    calibrated = [name for name, c in setup.channels.items() if c.calibration]
    for name, channel in setup.channels.items():
        path = ("channels", name)
        if channel.calibration is None:
            if calibrated and channel.expect is not None and channel.signal != "contact":
                message = f"no calibration is given, while {calibrated[0]} has one"
                findings.note("calibration-missing", path, message, at_key=True)
        elif today > channel.calibration.due:
            days = (today - channel.calibration.due).days
            findings.warning(
                "calibration-overdue",
                (*path, "calibration", "due"),
                f"the calibration was due on {channel.calibration.due}, {days} days ago",
                remedy="calibrate the channel and enter the new points",
            )
