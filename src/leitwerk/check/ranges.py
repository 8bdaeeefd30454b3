"""Checking ranges: does the signal fit, and is resolution given away."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from leitwerk.check.measurement import Measurement
from leitwerk.check.range_fit import Ranging, assess_ranges, is_wasteful
from leitwerk.datasheet.model import Range
from leitwerk.findings import Findings, KeyPath
from leitwerk.parsing.quantities import Span, format_number, format_span, format_value
from leitwerk.parsing.units import Unit, convert, parse_unit
from leitwerk.signals.sensors import Sensor

# The device's own terminals are somewhere between these; a thermocouple shows the difference.
_TERMINALS_C = (0.0, 50.0)


def choose_range(
    asked: Span | None,
    m: Measurement,
    used: Sequence[float],
    path: KeyPath,
    findings: Findings,
) -> Range | None:
    """The range that a channel is to be measured in.

    Parameters
    ----------
    asked : Span, optional
        What the setup says; without it the smallest range is taken that holds the signal.
    used : sequence of float, in the channel's unit
        Values that must be measurable: expectation and alarm points.

    """
    kind = m.input
    full = full_signal(m)
    needed = needed_signal(m, used)
    if asked is None:
        best = kind.smallest_range(*full) or kind.smallest_range(*needed)
        if best is None:
            span = format_span(*needed, kind.unit)
            message = f"no range holds the {span} that this channel needs"
            findings.error("range-clips", path[:2], message, at_key=True, valid=kind.range_names)
        return best
    if asked.unit is not None and asked.unit.dimension != kind.unit.dimension:
        message = f"{asked} is a span of {asked.unit.dimension}, the signal is {kind.quantity}"
        findings.error("wrong-unit", path, f"range: {message}", valid=kind.range_names)
        return None
    if asked.low >= asked.high:
        message = f"range: {asked} stands upside down"
        valid = f"{format_number(asked.high)}..{format_value(asked.low, asked.unit)}"
        findings.error("unknown-range", path, message, valid=valid)
        return None
    chosen = kind.find_range(asked)
    best = kind.smallest_range(*full) or kind.smallest_range(*needed)
    if chosen is None:
        remedy = f"{best} is the smallest that holds the signal" if best else ""
        message = f"{asked} is not a range of this input"
        findings.error("unknown-range", path, message, valid=kind.range_names, remedy=remedy)
        return None
    if not chosen.holds(*needed):
        _report_clipping(chosen, m, needed, ranging(m, used), path, findings)
    elif best is not None and is_wasteful(chosen, best):
        _report_waste(chosen, best, m, ranging(m, used), path, findings)
    elif not chosen.holds(*full):
        low, high = _reach(m, chosen)
        findings.note(
            "range-short",
            path,
            f"range {chosen} ends before the sensor does: it reaches from {format_number(low)} to "
            f"{format_value(high, m.unit)}",
        )
    return chosen


def ranging(m: Measurement, used: Sequence[float]) -> Ranging:
    """Every range of the channel's input, for what it needs."""
    at = _usual_signal(m, used)
    return assess_ranges(m.input, m.relation, needed_signal(m, used), at)


def _report_clipping(
    chosen: Range,
    m: Measurement,
    needed: tuple[float, float],
    every: Ranging,
    path: KeyPath,
    findings: Findings,
) -> None:
    fitting = [f for f in every.fits if not f.clips]
    resolution = fitting[0].resolution if fitting else 0.0
    resolves = f", which resolves {format_value(_short(resolution), m.unit)}" if resolution else ""
    findings.error(
        "range-clips",
        path,
        f"range {chosen} clips: the channel needs {format_span(*needed, m.input.unit)}",
        valid=", ".join(f.range.name for f in fitting) or "no range of this input is large enough",
        remedy=f"write 'range: {fitting[0].range}'{resolves}" if fitting else "",
    )


def _report_waste(
    chosen: Range,
    best: Range,
    m: Measurement,
    every: Ranging,
    path: KeyPath,
    findings: Findings,
) -> None:
    wide, narrow = every.fit(chosen), every.fit(best)
    steps = (
        f": one step of the converter is {format_value(_short(wide.resolution), m.unit)} instead "
        f"of {format_value(_short(narrow.resolution), m.unit)}"
        if narrow.resolution
        else ""
    )
    findings.warning(
        "range-too-wide",
        path,
        f"range {chosen} is {chosen.width / best.width:.3g} times as wide as {best}, which would "
        f"do{steps}",
        valid=", ".join(f.range.name for f in every.fits if not f.clips),
        remedy=f"write 'range: {best}'",
    )


def full_signal(m: Measurement) -> tuple[float, float]:
    """The signal of a scale from end to end, or of a sensor over its whole span."""
    if m.sensor is not None:
        return _between(m.sensor, m.input.unit, *m.sensor.span)
    return m.ends


def needed_signal(m: Measurement, used: Sequence[float]) -> tuple[float, float]:
    """The signal that must pass: all of a typed scale, or where a sensor will be used."""
    if m.sensor is None or not used:
        return full_signal(m)
    low, high = m.sensor.span
    inside = [min(max(m.in_sensor_unit(value), low), high) for value in used]
    return _between(m.sensor, m.input.unit, min(inside), max(inside))


@lru_cache(maxsize=4096)
def _between(sensor: Sensor, unit: Unit, low: float, high: float) -> tuple[float, float]:
    ends = sensor.scale.signal(np.array([low, high]))
    if sensor.has_cold_junction:
        ends = ends - sensor.scale.signal(np.array(_TERMINALS_C))[::-1]
    signal_unit = parse_unit(sensor.signal_unit)
    return (
        convert(float(ends[0]), signal_unit, unit),
        convert(float(ends[1]), signal_unit, unit),
    )


def _usual_signal(m: Measurement, used: Sequence[float]) -> float:
    """A signal in the middle of what will be seen."""
    if m.sensor is not None:
        return float(m.shown.signal(m.sensor.usual))
    low, high = needed_signal(m, used)
    return (low + high) / 2.0


def _reach(m: Measurement, chosen: Range) -> tuple[float, float]:
    """The values at both ends of a range, or the scale's own end."""
    values = m.relation.value([chosen.low, chosen.high]).tolist()
    low, high = m.span
    return (
        low if values[0] != values[0] else values[0],
        high if values[1] != values[1] else values[1],
    )


def _short(value: float) -> float:
    return float(f"{value:.2g}")
