"""Range and resolution: does the signal fit, and what does one converter step come to."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from leitwerk.datasheet import Input, Range
from leitwerk.findings import Findings
from leitwerk.quantities import Span, format_number, format_span, format_value
from leitwerk.signals import Sensor, TwoPoint
from leitwerk.units import Unit, convert, parse_unit

# A range that wastes a decade of resolution or more is told.
_WASTEFUL = 10.0
# The device's own terminals are somewhere between these; a thermocouple shows the difference.
_TERMINALS_C = (0.0, 50.0)


def choose_range(
    asked: Span | None,
    kind: Input,
    source: TwoPoint | Sensor | None,
    unit: Unit,
    used: Sequence[float],
    path: tuple[str, ...],
    findings: Findings,
) -> Range | None:
    """The range that a channel is to be measured in.

    Parameters
    ----------
    asked : Span, optional
        What the setup says; without it the smallest range is taken that holds the signal.
    source : TwoPoint or Sensor
        The channel's scale, from the unit of ``kind``, or its sensor's curve.
    used : sequence of float, in ``unit``
        Values that must be measurable whatever else: expectation and alarm points.

    """
    if source is None:
        return None
    full = signal_span(source, kind.unit)
    needed = _needed(source, kind.unit, full, used)
    best = kind.smallest_range(*full) or kind.smallest_range(*needed)
    if asked is None:
        if best is None:
            span = format_span(*needed, kind.unit)
            message = f"no range holds the {span} that this channel needs"
            findings.error("range-clips", path[:2], message, at_key=True, valid=kind.range_names)
        return best
    if asked.unit is not None and asked.unit.dimension != kind.unit.dimension:
        message = f"{asked} is a span of {asked.unit.dimension}, the signal is {kind.quantity}"
        findings.error("wrong-unit", path, f"range: {message}", valid=kind.range_names)
        return None
    chosen = kind.find_range(asked)
    if chosen is None:
        remedy = f"{best} is the smallest that holds the signal" if best else ""
        message = f"{asked} is no range of this input"
        findings.error("unknown-range", path, message, valid=kind.range_names, remedy=remedy)
        return None
    _check_fit(chosen, best, kind, source, unit, needed, full, path, findings)
    return chosen


def _check_fit(
    chosen: Range,
    best: Range | None,
    kind: Input,
    source: TwoPoint | Sensor,
    unit: Unit,
    needed: tuple[float, float],
    full: tuple[float, float],
    path: tuple[str, ...],
    findings: Findings,
) -> None:
    def resolves(r: Range) -> str:
        return format_value(_short(resolution(source, kind, r)), unit)

    if not chosen.holds(*needed):
        fitting = [r for r in kind.ranges if r.holds(*needed)]
        findings.error(
            "range-clips",
            path,
            f"range {chosen} clips: the channel needs {format_span(*needed, kind.unit)}",
            valid=", ".join(r.name for r in fitting) or "no range of this input is large enough",
            remedy=f"write 'range: {fitting[0]}', which resolves {resolves(fitting[0])}"
            if fitting
            else "",
        )
    elif best is not None and chosen.width >= _WASTEFUL * best.width * (1 - 1e-9):
        findings.warning(
            "range-too-wide",
            path,
            f"range {chosen} is {chosen.width / best.width:.3g} times as wide as {best}, which "
            f"would do: one step of the converter is {resolves(chosen)} instead of "
            f"{resolves(best)}",
            valid=", ".join(r.name for r in kind.ranges if r.holds(*full)),
            remedy=f"write 'range: {best}'",
        )
    elif not chosen.holds(*full):
        low, high = reach(source, kind.unit, chosen)
        findings.note(
            "range-short",
            path,
            f"range {chosen} ends before the sensor does: it reaches from {format_number(low)} to "
            f"{format_value(high, unit)}",
        )


def _needed(
    source: TwoPoint | Sensor, unit: Unit, full: tuple[float, float], used: Sequence[float]
) -> tuple[float, float]:
    """The signal that must pass: all of a typed scale, or where a sensor will be used."""
    if isinstance(source, TwoPoint) or not used:
        return full
    return _signal_between(source, unit, min(used), max(used))


def signal_span(source: TwoPoint | Sensor, unit: Unit) -> tuple[float, float]:
    """The signal of a scale from point to point, or of a sensor from end to end, in ``unit``."""
    if isinstance(source, TwoPoint):
        low, high = source.signal_low, source.signal_high
        return (low, high) if low <= high else (high, low)
    return _signal_between(source, unit, *source.span)


@lru_cache(maxsize=4096)
def _signal_between(sensor: Sensor, unit: Unit, low: float, high: float) -> tuple[float, float]:
    ends = sensor.signal(np.array([low, high]))
    if sensor.cold_junction:
        ends = ends - sensor.signal(np.array(_TERMINALS_C))[::-1]
    signal_unit = parse_unit(sensor.signal_unit)
    return (
        convert(float(ends[0]), signal_unit, unit),
        convert(float(ends[1]), signal_unit, unit),
    )


def resolution(source: TwoPoint | Sensor, kind: Input, chosen: Range) -> float:
    """What one converter step comes to, in the channel's unit; for a sensor, around its middle."""
    step = kind.step(chosen)
    if isinstance(source, TwoPoint):
        return abs(source.gain) * step
    return _sensor_resolution(source, kind.unit, step)


@lru_cache(maxsize=256)
def _sensor_resolution(sensor: Sensor, unit: Unit, step: float) -> float:
    # Around room temperature, where a technician compares; a curve's ends would mislead.
    room = np.array([20.0, 21.0])
    per_kelvin = float(np.diff(sensor.signal(room))[0])
    return step / convert(per_kelvin, parse_unit(sensor.signal_unit), unit)


def reach(source: TwoPoint | Sensor, unit: Unit, chosen: Range) -> tuple[float, float]:
    """The values at both ends of a range, in the channel's unit, or a sensor's own end."""
    if isinstance(source, TwoPoint):
        ends = source.value([chosen.low, chosen.high])
        return float(ends.min()), float(ends.max())
    signal_unit = parse_unit(source.signal_unit)
    low, high = (convert(end, unit, signal_unit) for end in (chosen.low, chosen.high))
    values = source.value(np.array([low, high]))
    return (
        source.span[0] if np.isnan(values[0]) else float(values[0]),
        source.span[1] if np.isnan(values[1]) else float(values[1]),
    )


def _short(value: float) -> float:
    return float(f"{value:.2g}")
