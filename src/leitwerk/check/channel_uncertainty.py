"""What is known of a channel's uncertainty: converter, sensor, calibration, and errors left uncorrected."""

from __future__ import annotations

import math

import numpy as np

from leitwerk.calibration.correction import Correction
from leitwerk.calibration.uncertainty import Budget, Contribution
from leitwerk.check.channels import CheckedChannel, SignalChannel
from leitwerk.findings import Findings
from leitwerk.parsing.quantities import Expected, format_value
from leitwerk.parsing.units import Unit, convert_difference, parse_unit
from leitwerk.signals.scale import Chain

USUAL_JUNCTION_C = 23.0  # a device in a cabin, when nothing is known of its terminals


def budget_at(
    channel: SignalChannel, signal: float, junction_c: float | None = USUAL_JUNCTION_C
) -> Budget:
    """The budget of a channel at a signal, in its unit.

    Parameters
    ----------
    channel : SignalChannel
    signal : float
        At the terminal, in the unit of the input.
    junction_c : float, in °C, optional
        Temperature of the terminals, for thermocouples.

    """
    m, chosen = channel.measurement, channel.range
    whole = Chain.of(m.shown_at(junction_c), m.host)
    contributions = []
    if chosen is not None:
        contributions = [
            Contribution(name, _gain(whole, signal, step) * step / 2.0, "rectangular")
            for name, step in (
                ("one step of the converter", m.input.step(chosen)),
                ("noise of the converter", m.input.noise_free_step(chosen)),
            )
            if step
        ]
    correction = next((s for s in m.host.stages if isinstance(s, Correction)), None)
    if correction is not None:
        contributions += _of_correction(correction)
    bias = 0.0
    if (held := channel.uncorrected) is not None:
        if held.expanded:
            contributions.append(Contribution("calibration", held.expanded, "expanded"))
        bias = held.error_at(float(whole.value([signal])[0]))
    if channel.sensor_uncertainty:
        contributions.append(Contribution("sensor", channel.sensor_uncertainty, "expanded"))
    return Budget(tuple(contributions), bias)


def _of_correction(correction: Correction) -> list[Contribution]:
    """The calibration itself, and what its points differ from the correction that was fitted to them."""
    found = []
    if correction.expanded:
        found.append(Contribution("calibration", correction.expanded, "expanded"))
    off = max(map(abs, correction.residuals), default=0.0)
    if off > 1e-9 * max(1.0, *map(abs, correction.calibrated)):  # beyond rounding
        found.append(Contribution("residuals of the fit", off, "rectangular"))
    return found


def uncertainty_at(channel: CheckedChannel, value: float) -> float:
    """The expanded uncertainty (k = 2) of a channel at a value, in its unit; 0 where it has no scale."""
    if not isinstance(channel, SignalChannel):
        return 0.0
    m = channel.measurement
    whole = Chain.of(m.shown_at(USUAL_JUNCTION_C), m.host)
    signal = float(whole.signal(value)) if whole.has_inverse else math.nan
    if not math.isfinite(signal):
        signal = sum(m.ends) / 2.0
    found = budget_at(channel, signal)
    return found.expanded if math.isfinite(found.expanded) else 0.0


def _gain(whole: Chain, at: float, step: float) -> float:
    low, high = whole.value(np.array([at - 32 * step, at + 32 * step])).tolist()
    found = abs(high - low) / (64 * step)
    return found if math.isfinite(found) else 0.0


def check_expectation(channel: CheckedChannel, findings: Findings) -> None:
    """Whether an expectation is tighter than the channel is known: then no reading can prove it."""
    if channel.expected is None or channel.states is not None:
        return
    expected, tolerance = channel.expected
    known = uncertainty_at(channel, expected)
    if known <= tolerance:
        return
    findings.warning(
        "expectation-too-tight",
        ("channels", channel.name, "expect"),
        f"{Expected(expected, tolerance, channel.unit)} is tighter than {channel.name} is known: "
        f"± {_difference(known, channel.unit)} (k = 2)",
        valid=f"a tolerance of more than {_difference(known, channel.unit)}",
        remedy="widen it, or calibrate the channel; 'leitwerk explain' shows what its uncertainty comes from",
    )


def _difference(value: float, unit: Unit) -> str:
    kelvin = parse_unit("K")
    if unit.offset:
        return format_value(float(f"{convert_difference(value, unit, kelvin):.2g}"), kelvin)
    return format_value(float(f"{value:.2g}"), unit)
