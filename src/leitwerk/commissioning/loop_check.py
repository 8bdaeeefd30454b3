"""Proving outputs: drive a loop to known signals and compare; pulse a relay."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from leitwerk.check.outputs import LOOP_POINTS, AnalogOutput, CheckedOutput, Loop, RelayOutput
from leitwerk.datasheet.points import Point
from leitwerk.datasheet.settings import DeviceSettings, diff_settings
from leitwerk.datasheet.vocabulary import DRIVE_OUTPUT, DRIVE_RELAY, RELAY_STATE, KnownPoint
from leitwerk.devices.device import Device
from leitwerk.devices.driving import drive, release
from leitwerk.errors import DeviceRefused, OutputNotSafe, QuantityError
from leitwerk.evaluation.verdict import shown_decimals, shown_value
from leitwerk.parsing.quantities import format_number, format_span, parse_quantity
from leitwerk.parsing.units import Unit
from leitwerk.project.claims import Claim, claiming
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.project.held_signals import signals_held
from leitwerk.results import Outcome, overall

_SETTLES_S = 1.0
TOLERANCE = 0.005  # of the signal's span: what an output and a good meter leave together
_FLAT = 0.02  # of the span: points that differ by less although they were asked to
_NO_CURRENT_MA = 0.5  # less than this in a loop that is to carry 4 mA: it is open, or has no supply


@dataclass(frozen=True, slots=True)
class Received:
    """What was found at the other end of a loop.

    Attributes
    ----------
    signal : float, in the output's unit
        None where nothing was measured; ``why`` says the reason, if it is known.
    value : float, in the unit of the output's channel
        What the other end makes of the signal, None if it makes none.
    meaning : str
        What the other end is and takes the signal for, ``flow of K2-00417``. Empty where it shows the bare
        signal, as a meter does: then there is no value to compare.

    """

    signal: float | None = None
    value: float | None = None
    meaning: str = ""
    why: str = ""


# The other end: given the signal that was asked for, what was found there.
Measure = Callable[[float], Received]


def parse_measured(text: str, unit: Unit) -> Measure:
    """What was measured at each signal of a loop, in their order, with commas between: ``4.01, 8 mA``.

    Raises
    ------
    QuantityError
        A part of it is no number, or in a unit of another kind.

    """
    numbers = iter([parse_quantity(part).value_in(unit) for part in text.split(",")])
    return lambda asked: Received(next(numbers, None))


@dataclass(frozen=True, slots=True)
class LoopPoint:
    """One signal: asked, as the device says it gives, as received at the other end.

    ``meant`` is the value that the signal stands for at this end, ``tolerance`` is for the signal and
    ``value_tolerance`` for the value.
    """

    asked: float
    own: float | None
    meant: float
    received: Received
    tolerance: float
    value_tolerance: float

    @property
    def measured(self) -> float | None:
        """The signal at the other end."""
        return self.received.signal

    @property
    def error(self) -> float | None:
        """Measured less asked."""
        return None if self.measured is None else self.measured - self.asked

    @property
    def signal_agrees(self) -> bool:
        """Whether the signal was measured, and near enough."""
        return self.error is not None and abs(self.error) <= self.tolerance

    @property
    def value_agrees(self) -> bool:
        """Whether both ends mean the same by the signal; also where the other end shows the bare signal."""
        found = self.received
        if not found.meaning:
            return True
        return found.value is not None and abs(found.value - self.meant) <= self.value_tolerance

    @property
    def outcome(self) -> Outcome:
        """Passed when signal and value are near enough; unknown when nothing was measured."""
        if self.measured is None:
            return Outcome.UNKNOWN
        return Outcome.PASSED if self.signal_agrees and self.value_agrees else Outcome.FAILED

    @property
    def ok(self) -> bool:
        """Whether it was measured, and near enough."""
        return self.outcome is Outcome.PASSED


@dataclass(frozen=True)
class LoopCheck:
    """The check of one loop. Signals are in ``unit``, values in ``value_unit``.

    ``expected`` is how many points a whole check has: one that was broken off has fewer.
    """

    output: str
    unit: str
    value_unit: str
    points: tuple[LoopPoint, ...]
    reserve_v: float | None
    cause: str
    expected: int

    @property
    def outcome(self) -> Outcome:
        """Passed when every point was near enough; unknown when one was not measured."""
        found = overall(point.outcome for point in self.points)
        is_whole = len(self.points) == self.expected
        return found if is_whole or found is Outcome.FAILED else Outcome.UNKNOWN

    @property
    def reasons(self) -> tuple[str, ...]:
        """The points that are off or were not measured, and what explains that."""
        points = tuple(self._reason(p) for p in self.points if not p.ok)
        if len(self.points) < self.expected:
            points += (f"broken off after {len(self.points)} of {self.expected} signals",)
        return (*points, self.cause) if self.cause else points

    def _reason(self, point: LoopPoint) -> str:
        asked, found = f"{format_number(point.asked)} {self.unit}: ", point.received
        if point.measured is None:
            return asked + "not measured" + (f": {found.why}" if found.why else "")
        if not point.signal_agrees:
            return asked + f"measured {self._signal(point.measured, point)}"
        unit = f" {self.value_unit}" if self.value_unit else ""
        meant = f"stands for {self._value(point.meant, point)}{unit} here"
        if found.value is None:
            return asked + f"{meant}, {found.meaning} shows no such value: {found.why}"
        return asked + f"{meant}, {found.meaning} shows {self._value(found.value, point)}{unit}"

    def _signal(self, value: float | None, point: LoopPoint) -> str:
        return shown_value(value, None, shown_decimals(point.tolerance, 0.0))

    def _value(self, value: float | None, point: LoopPoint) -> str:
        return shown_value(value, None, shown_decimals(point.value_tolerance, 0.0))

    def to_dict(self) -> dict[str, Any]:
        """The check as plain data for JSON."""
        return {
            "output": self.output,
            "unit": self.unit,
            "value_unit": self.value_unit,
            "outcome": self.outcome.value,
            "points": [
                {
                    "asked": p.asked,
                    "own": p.own,
                    "measured": p.measured,
                    "error": p.error,
                    "meant": p.meant,
                    "value": p.received.value,
                    "other_end": p.received.meaning,
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
        compares = any(p.received.meaning for p in self.points)
        values = f", values in {self.value_unit or 'no unit'}" if compares else ""
        head = ["asked", "device", "measured", "error"]
        head += ["means", "other end"] if compares else []
        rows = []
        for p in self.points:
            row = [
                format_number(p.asked),
                *(self._signal(x, p) for x in (p.own, p.measured, p.error)),
            ]
            row += [self._value(x, p) for x in (p.meant, p.received.value)] if compares else []
            verdict = {Outcome.PASSED: "ok", Outcome.FAILED: "FAIL"}.get(p.outcome, "not measured")
            rows.append([*row, verdict])
        lines = [f"{self.output}: loop check, in {self.unit}{values}"]
        for row in [[*head, ""], *rows]:
            cells = "  ".join(f"{cell:9}" for cell in row[:-1])
            lines.append(f"  {cells}  {row[-1]}".rstrip())
        if self.reserve_v is not None:
            lines.append(f"  voltage left for the loop at its highest: {self.reserve_v:.3g} V")
        if len(self.points) < self.expected:
            lines.append(f"  broken off after {len(self.points)} of {self.expected} signals")
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
    wanted: DeviceSettings | None = None,
    tolerance: float | None = None,
    settle_s: float = _SETTLES_S,
    on_interrupt: Callable[[LoopCheck], None] = lambda check: None,
    clock: Clock = REAL_TIME,
) -> LoopCheck:
    """Drive an analog output to 4, 8, 12, 16 and 20 mA (or fifths of its signal) and compare.

    The signals are compared, and where the other end makes a value of them, the values, too. In any case,
    the output is given back to its channel at the end.

    Parameters
    ----------
    measure : callable
        Gives what was found at the other end.
    wanted : DeviceSettings, optional
        Those of the setup: where the device holds others for this output, its values mean something else, and
        the loop is not passed.
    tolerance : float, in mA or V, optional
        0.5 % of the signal's span if not given.
    settle_s : float, in s
        How long the loop takes to settle.
    on_interrupt : callable
        Called with the check so far when it is broken off by KeyboardInterrupt, which is raised again.

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
    loop, slot = output.loop, output.terminal.slot
    point = family.point(slot)
    own = device.datasheet.own_readings.get(f"output.{slot}")
    low, high = loop.signal
    asked = (
        LOOP_POINTS if loop.unit == "mA" else tuple(low + k * (high - low) / 4 for k in range(5))
    )
    near = tolerance if tolerance is not None else TOLERANCE * abs(high - low)
    differing = "" if wanted is None else _differing(device, wanted, f"output.{slot}.")
    points: list[LoopPoint] = []

    def checked() -> LoopCheck:
        cause = _cause(loop, points, differing)
        return LoopCheck(
            output.name, loop.unit, loop.value_unit.symbol, tuple(points), _reserve(loop), cause,
            len(asked),
        )  # fmt: skip

    if device.datasheet.role:
        device.log_in_with(device.datasheet.role, passwords)
    try:
        with _driven(device, point, 0.0, output, DRIVE_OUTPUT):
            for signal in asked:
                drive(device, point, signal, output.name)
                clock.wait(settle_s)
                shown = None
                if own is not None:
                    shown = float(device.read_points([own])[own.name])
                meant, per = loop.value_at(signal), abs(loop.value_per_signal)
                received = measure(signal)
                if differing and received.meaning:
                    received = replace(received, value=None, why=differing)
                points.append(LoopPoint(signal, shown, meant, received, near, near * per))
    except KeyboardInterrupt:
        on_interrupt(checked())
        raise
    return checked()


def _differing(device: Device, wanted: DeviceSettings, prefix: str) -> str:
    """What of an output the device holds otherwise than its setup says, in words."""
    changes = [
        str(change)
        for change in diff_settings(device.read_settings(), wanted, device.datasheet)
        if change.setting.startswith(prefix)
    ]
    return f"this device is not set up like its setup ({changes[0]}): upload it" if changes else ""


@contextmanager
def _driven(
    device: Device, point: Point, value: str | float, output: CheckedOutput, known: KnownPoint
) -> Iterator[None]:
    """A ``with`` block in which an output may be driven: noted on disk, and released at the end."""
    act = "loop check" if known is DRIVE_OUTPUT else "pulse"
    with claiming(device.identify(), act, address=device.address, alone=True) as note:
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
    device: Device, point: Point, value: str | float, output: CheckedOutput, note: Claim
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


def _cause(loop: Loop, points: Sequence[LoopPoint], differing: str) -> str:
    """What explains the errors, as far as they show it: first of the signals, then of what they mean."""
    if all(p.ok for p in points if p.measured is not None):
        return ""
    wrong = [p for p in points if p.own is not None and abs(p.own - p.asked) > p.tolerance]
    if wrong:
        gives = f"{wrong[0].own:.4g} {loop.unit} when asked for {format_number(wrong[0].asked)}"
        return f"this end: the device itself says that it gives {gives}"
    if all(p.signal_agrees for p in points if p.measured is not None):
        return _cause_of_values(loop, points, differing)
    return _cause_of_signals(loop, points)


def _cause_of_values(loop: Loop, points: Sequence[LoopPoint], differing: str) -> str:
    """Why values differ although the signals agree: both ends do not mean the same by them."""
    if differing:
        return differing
    found = [(p.asked, p.received.value) for p in points if p.received.value is not None]
    whys = [p.received.why for p in points if p.received.why]
    other = next(p.received.meaning for p in points if p.received.meaning)
    if len(found) < 2:
        return whys[0] if whys else f"{other} makes no value of the signal"
    asked, values = (np.array(column) for column in zip(*found, strict=True))
    slope, offset = np.polyfit(asked, values, 1)
    ends = [float(slope * signal + offset) for signal in loop.signal]
    decimals = shown_decimals(points[0].value_tolerance, 0.0) or 0
    here, there = (
        format_span(round(low, decimals) + 0.0, round(high, decimals) + 0.0, loop.value_unit)
        for low, high in ((loop.low, loop.high), ends)
    )
    signals = f"{format_number(loop.signal[0])}..{format_number(loop.signal[1])} {loop.unit}"
    what = "is reversed" if slope * loop.value_per_signal < 0.0 else "is wrong"
    return (
        f"the signals agree, their meaning does not: for {signals} this output gives {here}, {other} "
        f"shows {there}; the span at one of the two ends {what}"
    )


def _cause_of_signals(loop: Loop, points: Sequence[LoopPoint]) -> str:
    found = [(p.asked, p.measured) for p in points if p.measured is not None]
    if len(found) < 3:
        return ""
    asked, measured = (np.array(column) for column in zip(*found, strict=True))
    span = abs(asked[-1] - asked[0])
    if loop.unit == "mA" and np.abs(measured).max() < _NO_CURRENT_MA:
        return "no current: a wire is off, the loop has no supply, or its polarity is reversed"
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
