"""The whole chain of a channel with numbers: from the terminal to the value, and what it is held to."""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from leitwerk.alarms.definition import Watch
from leitwerk.calibration.correction import Correction
from leitwerk.calibration.tare import TareStage
from leitwerk.check.assignment import judged_values
from leitwerk.check.channel_uncertainty import USUAL_JUNCTION_C, budget_at
from leitwerk.check.channels import CheckedChannel, ContactChannel, SignalChannel
from leitwerk.check.ranges import ranging
from leitwerk.datasheet.model import Range
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import Quantity, format_number
from leitwerk.parsing.units import Unit, convert, parse_unit
from leitwerk.signals.quality import Quality
from leitwerk.signals.scale import Chain, Scale

_RULER = 64  # characters of the line on which alarms and expectation stand
_TIGHT = 0.005  # headroom, as a part of a range, that is none


@dataclass(frozen=True, slots=True)
class ChainStep:
    """One stage of the chain: who works it, what it does, and what comes out."""

    who: str
    what: str
    value: float | None
    unit: str


@dataclass(frozen=True, slots=True)
class Mark:
    """A point on the channel's line: an alarm's trip or clear point, an end of the expectation.

    ``signal`` is what has to be put on the terminal, in ``signal_unit``, for the channel to show
    ``value``; None where no single signal does.
    """

    name: str
    what: str
    value: float
    signal: float | None


@dataclass(frozen=True)
class Explanation:
    """A channel explained for one signal. Values in ``unit``, signals in ``signal_unit``."""

    channel: str
    label: str
    terminal: str
    signal: float
    signal_unit: str
    value: float | None
    unit: str
    quality: str
    expanded_uncertainty: float | None
    steps: tuple[ChainStep, ...]
    marks: tuple[Mark, ...]
    ranges: tuple[dict[str, Any], ...]
    budget: tuple[dict[str, Any], ...]
    standard_uncertainty: float
    coverage: float
    bias: float
    span: tuple[float, float]

    def to_dict(self) -> dict[str, Any]:
        """The explanation as plain data for JSON."""
        return asdict(self)

    def __str__(self) -> str:
        return "\n".join([*self._head(), *self._marks(), *self._ranges(), *self._budget()])

    def _shown(self, value: float | None) -> str:
        if value is None:
            return "no value"
        return format_number(value) + (f" {self.unit}" if self.unit else "")

    def _head(self) -> list[str]:
        lines = [f"{self.channel} ({self.label}), terminal {self.terminal}"]
        width = max(len(step.who) for step in self.steps)
        texts = [f"{step.who:{width}}  {step.what}" for step in self.steps]
        far = min(72, max(map(len, texts)))
        for step, text in zip(self.steps, texts, strict=True):
            unit = f" {step.unit}" if step.unit else ""
            result = "no value" if step.value is None else f"{format_number(step.value, 7)}{unit}"
            lines.append(f"  {text:{far}}  {result}")
        uncertainty = ""
        if self.value is not None and self.expanded_uncertainty is not None:
            uncertainty = f" ± {self.expanded_uncertainty:.2g}"
            places = max(0, 1 - math.floor(math.log10(self.expanded_uncertainty or 1.0)))
            value = f"{self.value:.{min(places, 9)}f}{uncertainty} {self.unit}".rstrip()
        else:
            value = self._shown(self.value)
        return [*lines, f"  {'value':{width}}  {value}, {self.quality}"]

    def _marks(self) -> list[str]:
        if not self.marks:
            return []
        rows = [
            (
                mark.name,
                f"{mark.what} {self._shown(mark.value)}",
                "at no single signal"
                if mark.signal is None
                else f"at {format_number(mark.signal, 5)} {self.signal_unit}",
            )
            for mark in self.marks
        ]
        widths = [max(len(row[k]) for row in rows) for k in range(2)]
        lines = ["", *self._ruler(), ""]
        return lines + [f"  {a:{widths[0]}}  {b:{widths[1]}}  {c}" for a, b, c in rows]

    def _ruler(self) -> list[str]:
        """The channel's span as a line: ! trips, o clears, = expected, * the present value."""
        points = [mark.value for mark in self.marks]
        if self.value is not None:
            points.append(self.value)
        low, high = _rounded_span(points, self.span)

        def place(value: float) -> int:
            part = (value - low) / (high - low)
            return round(min(max(part, 0.0), 1.0) * (_RULER - 1))

        line = ["-"] * _RULER
        ends = [mark.value for mark in self.marks if mark.what in {"from", "to"}]
        if ends:
            for k in range(place(min(ends)), place(max(ends)) + 1):
                line[k] = "="
        for mark in self.marks:
            if mark.what.startswith(("trips", "clears")):
                line[place(mark.value)] = "!" if mark.what.startswith("trips") else "o"
        if self.value is not None:
            line[place(self.value)] = "*"
        left, right = self._shown(low), self._shown(high)
        legend = "= expected   ! trips   o clears   * now"
        return [f"  {left} {''.join(line)} {right}", f"  {'':{len(left)}} {legend}"]

    def _ranges(self) -> list[str]:
        if not self.ranges:
            return []
        lines = ["", "  ranges of this input"]
        width = max(len(str(fit["range"])) for fit in self.ranges)
        for fit in self.ranges:
            mark = "->" if fit["chosen"] else "  "
            if fit["clips"]:
                text = "clips"
            else:
                text = (
                    f"one step {fit['resolution']:.2g} {self.unit}, noise-free "
                    f"{fit['noise_free']:.2g} {self.unit}"
                    if fit["resolution"]
                    else "resolution not known"
                )
                text += f", headroom {fit['headroom']:.0%}"
                if fit["recommended"]:
                    text += ", recommended"
                    text += " (the signal reaches its end)" if fit["headroom"] < _TIGHT else ""
                text += ", wastes a decade" if fit["wasteful"] else ""
            lines.append(f"  {mark} {fit['range']:{width}}  {text}")
        return lines

    def _budget(self) -> list[str]:
        if not (self.budget or self.bias):
            return []
        lines = ["", "  uncertainty, standard"]
        lines += [
            f"     {row['name']:34} {row['standard']:.2g} {self.unit} ({row['share']:.0%})"
            for row in self.budget
        ]
        lines.append(
            f"     combined {self.standard_uncertainty:.2g} {self.unit}, k = {self.coverage:.2f}, expanded "
            f"{self.expanded_uncertainty or 0.0:.2g} {self.unit}"
        )
        if self.bias:
            lines.append(
                f"     with the known error of {self.bias:+.2g} {self.unit}, which is not corrected"
            )
        return lines


def explain_channel(
    channel: CheckedChannel,
    *,
    signal: Quantity | None = None,
    shown: float | None = None,
    value: float | None = None,
    cold_junction: float | None = None,
) -> Explanation:
    """A channel's chain, worked for one signal.

    Parameters
    ----------
    channel : CheckedChannel
        A channel of a checked setup.
    signal : Quantity, optional
        What is on the terminal. Without it, and without ``shown``, the signal that the expectation
        stands for.
    shown : float, optional
        What the device shows; the signal is worked out backwards from it.
    value : float, in the channel's unit, optional
        The value of the channel; the signal is worked out backwards from it, where that is possible.
    cold_junction : float, in °C, optional
        Temperature of the terminals, for thermocouples.

    Raises
    ------
    QuantityError
        The channel is a contact, or the signal is of another kind than its input.

    """
    if not isinstance(channel, SignalChannel):
        what = "is measured by the device itself"
        if isinstance(channel, ContactChannel):
            what = "is a contact"
        raise QuantityError(
            f"channel {channel.name} {what}: it has no scale to explain",
            valid="a channel with a sensor, a signal or a scale",
        )
    m = channel.measurement
    junction = USUAL_JUNCTION_C if cold_junction is None else cold_junction
    on_device = m.shown_at(junction)
    whole = Chain.of(on_device, m.host)
    at_input = _signal_at_input(channel, whole, on_device, signal, shown, value)
    steps, value, quality = _steps(channel, on_device, at_input)
    budget = budget_at(channel, at_input, junction)
    typed = m.axis.typed if m.axis else m.input.unit
    per = m.axis.per_typed if m.axis else 1.0
    return Explanation(
        channel=channel.name,
        label=channel.label,
        terminal=channel.terminal.name,
        signal=at_input / per,
        signal_unit=typed.symbol,
        value=value,
        unit=m.unit.symbol,
        quality=quality.reason,
        expanded_uncertainty=budget.expanded if value is not None else None,
        steps=tuple(steps),
        marks=tuple(_marks(channel, whole, per)),
        ranges=tuple(_range_rows(channel)),
        budget=tuple(budget.lines()),
        standard_uncertainty=budget.standard,
        coverage=budget.k,
        bias=budget.bias,
        span=m.span,
    )


def _signal_at_input(
    channel: SignalChannel,
    whole: Chain,
    on_device: Scale,
    signal: Quantity | None,
    shown: float | None,
    value: float | None,
) -> float:
    m = channel.measurement
    if signal is not None:
        if m.axis is not None:
            return m.axis.of(signal)
        return signal.value_in(m.input.unit)
    if shown is not None:
        return float(on_device.signal(shown))
    if value is None and channel.expected is not None:
        value = channel.expected[0]
    if value is not None and whole.has_inverse:
        found = float(whole.signal(value))
        if math.isfinite(found):
            return found
    return sum(m.ends) / 2.0


def _steps(
    channel: SignalChannel, on_device: Scale, at_input: float
) -> tuple[list[ChainStep], float | None, Quality]:
    m, chosen = channel.measurement, channel.range
    steps = []
    if m.axis is not None and m.axis.per_typed != 1.0:
        typed = at_input / m.axis.per_typed
        steps.append(ChainStep("terminal", "current of the loop", typed, m.axis.typed.symbol))
        ohm = m.axis.per_typed * convert(1000.0, m.input.unit, _volt())
        steps.append(ChainStep("shunt", f"{ohm:.6g} Ω", at_input, m.input.unit.symbol))
    else:
        steps.append(ChainStep("terminal", "signal", at_input, m.input.unit.symbol))
    x, quality = at_input, Quality.GOOD
    if chosen is not None:
        x, quality = _converted(at_input, chosen, m.input.step(chosen))
        text = f"range {chosen}" + (f", {m.input.bits} bits" if m.input.bits else "")
        steps.append(ChainStep("converter", text, x, m.input.unit.symbol))
    for who, stage, unit in _stages(channel, on_device):
        values, qualities = stage.convert([x], [quality])
        x, quality = float(values[0]), Quality(int(qualities[0]))
        value = x if math.isfinite(x) else None
        steps.append(ChainStep(who, str(stage), value, unit.symbol))
    return steps, (x if math.isfinite(x) else None), quality


def _volt() -> Unit:
    return parse_unit("V")


def _converted(signal: float, chosen: Range, step: float) -> tuple[float, Quality]:
    if not chosen.holds(signal, signal):
        quality = Quality.BELOW_RANGE if signal < chosen.low else Quality.ABOVE_RANGE
        return signal, quality
    if not step:
        return signal, Quality.GOOD  # the converter is not known
    return chosen.low + round((signal - chosen.low) / step) * step, Quality.GOOD


def _stages(channel: SignalChannel, on_device: Scale) -> list[tuple[str, Scale, Unit]]:
    """The stages that a person thinks of: on the device, then the host's, helpers joined."""
    m = channel.measurement
    stages: list[tuple[str, Scale, Unit]] = [("device", on_device, m.shown_unit)]
    helpers: list[Scale] = []
    for stage in m.host.stages:
        if isinstance(stage, Correction):
            stages.append(("calibration", stage, m.unit))
        elif isinstance(stage, TareStage):
            stages.append(("tare", stage, m.unit))
        else:
            helpers.append(stage)
    if helpers:
        stages.insert(1, ("Leitwerk", Chain(tuple(helpers)), m.unit))
    return stages


def _marks(channel: SignalChannel, whole: Chain, per: float) -> list[Mark]:
    marks = []
    for alarm in channel.alarms:
        name = f"alarm {alarm.name}"
        if alarm.watch is not Watch.VALUE:
            continue  # it belongs to no signal
        for value, back, side in zip(alarm.trip, alarm.clear, ("below", "above"), strict=True):
            if math.isinf(value):
                continue
            what = f"trips from {value:g}" if alarm.inside else f"trips {side}"
            marks.append(Mark(name, what, value, _signal_of(whole, value, per)))
            if back != value:
                marks.append(Mark(name, "clears at", back, _signal_of(whole, back, per)))
    if channel.expected is not None:
        value, tolerance = channel.expected
        for what, end in (("from", value - tolerance), ("to", value + tolerance)):
            marks.append(Mark("expectation", what, end, _signal_of(whole, end, per)))
    return marks


def _signal_of(whole: Chain, value: float, per: float) -> float | None:
    if not whole.has_inverse:
        return None
    found = float(whole.signal(value)) / per
    return found if math.isfinite(found) else None


def _range_rows(channel: SignalChannel) -> list[dict[str, Any]]:
    if channel.range is None:
        return []
    found = ranging(channel.measurement, judged_values(channel.expected, channel.alarms))
    return [
        {
            "range": fit.range.name,
            "chosen": fit.range == channel.range,
            "clips": fit.clips,
            "resolution": fit.resolution,
            "noise_free": fit.noise_free,
            "headroom": fit.headroom,
            "recommended": fit is found.recommended,
            "wasteful": fit.wasteful,
        }
        for fit in found.fits
    ]


def _rounded_span(points: list[float], span: tuple[float, float]) -> tuple[float, float]:
    """The part of the span to draw: all of it, unless what matters fills less than a quarter."""
    low, high = span
    if points and (max(points) - min(points)) < 0.25 * (high - low):
        margin = 0.2 * (max(points) - min(points)) or 0.05 * (high - low)
        low, high = max(low, min(points) - margin), min(high, max(points) + margin)
    if not high > low:
        low, high = low - 1.0, low + 1.0
    return float(f"{low:.3g}"), float(f"{high:.3g}")


def curve_points(channel: SignalChannel, explanation: Explanation) -> tuple[Any, Any]:
    """Signals (in the typed unit) and values of a channel's scale, for drawing, shape (400,)."""
    m = channel.measurement
    per = m.axis.per_typed if m.axis else 1.0
    junction = None if m.sensor is None else USUAL_JUNCTION_C
    whole = Chain.of(m.shown_at(junction), m.host)
    chosen = channel.range
    ends = (chosen.low, chosen.high) if chosen is not None else m.ends
    low = min(ends[0], explanation.signal * per)
    high = max(ends[1], explanation.signal * per)
    signals = np.linspace(low, high, 400)
    return signals / per, whole.value(signals)
