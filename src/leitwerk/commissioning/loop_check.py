"""Proving outputs: drive a loop to known signals and compare; pulse a relay."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import numpy as np

from leitwerk.check.outputs import LOOP_POINTS, AnalogOutput, CheckedOutput, Loop, RelayOutput
from leitwerk.datasheet.points import Point
from leitwerk.datasheet.vocabulary import DRIVE_OUTPUT, DRIVE_RELAY, RELAY_STATE, KnownPoint
from leitwerk.devices.device import Device
from leitwerk.devices.driving import drive, release
from leitwerk.errors import DeviceRefused, OutputNotSafe, QuantityError
from leitwerk.parsing.quantities import format_number, parse_quantity
from leitwerk.parsing.units import Unit
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.project.driven import DrivenNote, driving
from leitwerk.project.held_signals import signals_held
from leitwerk.results import Outcome, overall

_SETTLES_S = 1.0
TOLERANCE = 0.005  # of the signal's span: what an output and a good meter leave together
_FLAT = 0.02  # of the span: points that differ by less although they were asked to
# The other end: given the signal that was asked for, what was measured there, None for nothing.
Measure = Callable[[float], float | None]


def parse_measured(text: str, unit: Unit) -> Measure:
    """What was measured at each signal of a loop, in their order, with commas between: ``4.01, 8 mA``.

    Raises
    ------
    QuantityError
        A part of it is no number, or in a unit of another kind.

    """
    numbers = iter([parse_quantity(part).value_in(unit) for part in text.split(",")])
    return lambda asked: next(numbers, None)


@dataclass(frozen=True, slots=True)
class LoopPoint:
    """One signal: asked, as the device says it gives, as measured at the other end."""

    asked: float
    own: float | None
    measured: float | None
    tolerance: float

    @property
    def error(self) -> float | None:
        """Measured less asked."""
        return None if self.measured is None else self.measured - self.asked

    @property
    def outcome(self) -> Outcome:
        """Passed when it was measured and near enough; unknown when it was not measured."""
        if self.error is None:
            return Outcome.UNKNOWN
        return Outcome.PASSED if abs(self.error) <= self.tolerance else Outcome.FAILED

    @property
    def ok(self) -> bool:
        """Whether it was measured, and near enough."""
        return self.outcome is Outcome.PASSED


@dataclass(frozen=True)
class LoopCheck:
    """The check of one loop. Signals are in ``unit``."""

    output: str
    unit: str
    points: tuple[LoopPoint, ...]
    reserve_v: float | None
    cause: str

    @property
    def outcome(self) -> Outcome:
        """Passed when every point was near enough; unknown when one was not measured."""
        return overall(point.outcome for point in self.points)

    @property
    def reasons(self) -> tuple[str, ...]:
        """The points that are off or were not measured, and what explains that."""
        points = tuple(
            f"{format_number(p.asked)} {self.unit}: "
            + ("not measured" if p.measured is None else f"measured {format_number(p.measured)}")
            for p in self.points
            if not p.ok
        )
        return (*points, self.cause) if self.cause else points

    def to_dict(self) -> dict[str, Any]:
        """The check as plain data for JSON."""
        return {
            "output": self.output,
            "unit": self.unit,
            "outcome": self.outcome.value,
            "points": [
                {
                    "asked": p.asked,
                    "own": p.own,
                    "measured": p.measured,
                    "error": p.error,
                    "ok": p.ok,
                }
                for p in self.points
            ],
            "voltage_left": self.reserve_v,
            "cause": self.cause,
        }

    def __repr__(self) -> str:
        return f"<LoopCheck of {self.output}: {self.outcome.value}>"

    def __str__(self) -> str:
        lines = [
            f"{self.output}: loop check, in {self.unit}",
            "  asked    device   measured  error",
        ]
        for p in self.points:
            own, measured, error = (
                "–" if x is None else format_number(float(f"{x:.5g}"))
                for x in (p.own, p.measured, p.error)
            )
            verdict = {Outcome.PASSED: "ok", Outcome.FAILED: "FAIL"}.get(p.outcome, "not measured")
            lines.append(
                f"  {format_number(p.asked):7}  {own:7}  {measured:8}  {error:8}  {verdict}"
            )
        if self.reserve_v is not None:
            lines.append(f"  voltage left for the loop at its highest: {self.reserve_v:.3g} V")
        if self.cause:
            lines.append(f"  likely cause: {self.cause}")
        lines.append(self.outcome.value.upper())
        return "\n".join(lines)


def check_loop(
    output: CheckedOutput,
    device: Device,
    measure: Measure,
    *,
    passwords: Mapping[str, str],
    tolerance: float | None = None,
    settle_s: float = _SETTLES_S,
    on_point: Callable[[LoopPoint], None] = lambda point: None,
    clock: Clock = REAL_TIME,
) -> LoopCheck:
    """Drive an analog output to 4, 8, 12, 16 and 20 mA (or fifths of its signal) and compare.

    In any case, the output is given back to its channel at the end.

    Parameters
    ----------
    measure : callable
        Gives what was measured at the other end.
    tolerance : float, in mA or V, optional
        0.5 % of the signal's span if not given.
    settle_s : float, in s
        How long the loop takes to settle.

    Raises
    ------
    QuantityError
        It is not an analog output, or the device cannot be made to drive it.
    LinkError, DeviceRefused
        The device was not reached, or refused.

    """
    family = device.datasheet.family(DRIVE_OUTPUT)
    if not isinstance(output, AnalogOutput) or family is None:
        what = "is a relay" if isinstance(output, RelayOutput) else "cannot be driven over its link"
        raise QuantityError(f"output {output.name} {what}", valid="an analog output")
    loop = output.loop
    point = family.point(output.terminal.slot)
    own = device.datasheet.own_readings.get(f"output.{output.terminal.slot}")
    low, high = loop.signal
    asked = (
        LOOP_POINTS if loop.unit == "mA" else tuple(low + k * (high - low) / 4 for k in range(5))
    )
    near = tolerance if tolerance is not None else TOLERANCE * abs(high - low)
    points = []
    if device.datasheet.role:
        device.log_in_with(device.datasheet.role, passwords)
    with _driven(device, point, 0.0, output, DRIVE_OUTPUT):
        for signal in asked:
            drive(device, point, signal, output.name)
            clock.wait(settle_s)
            shown = None
            if own is not None:
                shown = float(device.read_points([own])[own.name])
            points.append(LoopPoint(signal, shown, measure(signal), near))
            on_point(points[-1])
    return LoopCheck(output.name, loop.unit, tuple(points), _reserve(loop), _cause(loop, points))


@contextmanager
def _driven(
    device: Device, point: Point, value: str | float, output: CheckedOutput, known: KnownPoint
) -> Iterator[None]:
    """A ``with`` block in which an output may be driven: noted on disk, and released at the end."""
    with driving(device.identify()) as note:
        note.driven(output.name, known.name, output.terminal.slot, value)
        try:
            yield
        except OutputNotSafe:
            raise  # another device answers: it is left alone, and the note stays for the right one
        except BaseException:
            _give_back(device, point, value, output, note)
            raise
        _give_back(device, point, value, output, note)


def _give_back(
    device: Device, point: Point, value: str | float, output: CheckedOutput, note: DrivenNote
) -> None:
    with signals_held():
        release(device, point, value, output.name)
        note.released(output.name)


def _reserve(loop: Loop) -> float | None:
    """What is left of the supply at the highest current, in V."""
    if loop.unit != "mA" or loop.load_ohm is None or loop.supply_v is None:
        return None
    most = max(*loop.signal, loop.bad or 0.0)
    return loop.supply_v - loop.compliance_v - most * 1e-3 * loop.load_ohm


def _cause(loop: Loop, points: Sequence[LoopPoint]) -> str:
    """What explains the errors, as far as they show it."""
    found = [(p.asked, p.measured) for p in points if p.measured is not None]
    if len(found) < 3 or all(p.ok for p in points if p.measured is not None):
        return ""
    asked, measured = (np.array(column) for column in zip(*found, strict=True))
    span = abs(asked[-1] - asked[0])
    if np.ptp(measured) < _FLAT * span:
        return "it does not follow at all: is this the loop of another output?"
    if abs(measured[-1] - measured[-2]) < _FLAT * span and measured[-1] < asked[-1]:
        return (
            f"it goes no higher than {measured[-1]:.3g} {loop.unit}: the supply is too low for the "
            f"resistance in the loop"
        )
    slope, offset = np.polyfit(asked, measured, 1)
    if np.abs(measured - (slope * asked + offset)).max() > TOLERANCE * span:
        return "the errors follow no line: is a contact loose?"
    if slope < 0.0:
        return "it falls where it should rise: are the two wires swapped?"
    if math.isclose(slope, 1.0, abs_tol=0.005):
        return f"an offset of {offset:+.3g} {loop.unit}, the same everywhere"
    if abs(offset) < TOLERANCE * span:
        return f"a factor of {slope:.4g}: is the resistor at the other end another one?"
    return f"offset {offset:+.3g} {loop.unit} and factor {slope:.4g}"


def pulse(
    output: CheckedOutput,
    device: Device,
    lasts_s: float,
    *,
    passwords: Mapping[str, str],
    clock: Clock = REAL_TIME,
) -> tuple[str, str]:
    """Switch a relay on for a while, and give it back; what the device said it was meanwhile, and after.

    Raises
    ------
    QuantityError
        It is not a relay, or the time is shorter than it may be on.
    DeviceRefused
        The device says that it did not switch.

    """
    family = device.datasheet.family(DRIVE_RELAY)
    if not isinstance(output, RelayOutput) or family is None:
        what = "cannot be driven over its link" if family is None else "is not a relay"
        raise QuantityError(f"output {output.name} {what}", valid="a relay that can be driven")
    least = output.switch.least_on_s
    if lasts_s < least:
        message = f"{output.name} stays on for {least:g} s at least"
        raise QuantityError(message, valid=f"{least:g} s or more")
    point = family.point(output.terminal.slot)
    shown = device.datasheet.point(RELAY_STATE, output.terminal.slot)
    if device.datasheet.role:
        device.log_in_with(device.datasheet.role, passwords)
    with _driven(device, point, "released", output, DRIVE_RELAY):
        drive(device, point, "on", output.name)
        during = str(device.read_points([shown])[shown.name])
        clock.wait(lasts_s)
    after = str(device.read_points([shown])[shown.name])
    if during != "on":
        raise DeviceRefused(
            f"relay {output.name} was switched on but reports {during}",
            remedy="was it off for long enough before?",
        )
    return during, after
