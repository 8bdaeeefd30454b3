"""The steps of a proof of a whole setup: what is to be applied, and what should be seen."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal, Protocol

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.calibration.correction import KINDS
from leitwerk.check.channels import CheckedChannel, ContactChannel, DerivedChannel, SignalChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.outputs import AnalogOutput, CheckedOutput
from leitwerk.commissioning.loop_check import Measure
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import format_number, format_span
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.scales import Logarithm, Pairs, Root
from leitwerk.signals.pulse_inputs import PULSED

_INSIDE = 0.01  # of a range: a signal at its very end, and a little noise, is out of it
_CLOSE = 1e-9  # of a span: points that are the same
TARE = "tare"
ADJUSTMENTS = (TARE, *KINDS)
AS_FOUND, AS_LEFT = "as found", "as left"


@dataclass(frozen=True, slots=True)
class PlannedStep:
    """One step. ``value`` is in the channel's unit; of an alarm it is the value behind which it trips.

    Attributes
    ----------
    key : str
        By which a script and a record name it: ``air_top at 21.5 °C``.
    channel : str
        The channel, or the output.
    kind : str
        ``point``, ``state``, ``alarm``, ``adjust``, ``loop`` or ``pulse``.
    request : str
        What a person is to do.
    alarm : str
        Of an alarm: its full name.
    correct : str
        Of an adjustment: ``tare``, or the kind of correction that is made of the points as found.
    stage : str
        Of a point before and after an adjustment: ``as found``, ``as left``.

    """

    key: str
    channel: str
    kind: Literal["point", "state", "alarm", "adjust", "loop", "pulse"]
    value: float
    request: str
    alarm: str = ""
    correct: str = ""
    stage: str = ""

    @property
    def found_key(self) -> str:
        """Of a point as left: the key of the same point as found."""
        return self.key.removesuffix(f" {AS_LEFT}")


@dataclass(frozen=True, slots=True)
class Applied:
    """What was applied at a step.

    Attributes
    ----------
    reference : float, optional
        In the channel's unit; None for what the step asks for, or what a reference channel reads.
    expanded_uncertainty : float
        Of the reference, k = 2.
    measure : callable, optional
        Of an output: given the signal that it is driven to, what was found at its other end.
    seen : callable, optional
        Of a relay: whether it was seen to switch, None where nobody knows.

    """

    reference: float | None = None
    expanded_uncertainty: float = 0.0
    measure: Measure | None = None
    seen: Callable[[], bool | None] | None = None


class Applier(Protocol):
    """Whoever applies what a step asks for: a person, a script, a stand-in."""

    def apply(self, step: PlannedStep) -> Applied | None:
        """What was applied; None to skip the step. KeyboardInterrupt breaks the proof off, to be resumed."""


def plan_proof(
    setup: CheckedSetup,
    points: Mapping[str, Sequence[float]] | None = None,
    adjust: Mapping[str, str] | None = None,
) -> tuple[PlannedStep, ...]:
    """The steps that prove a setup, channel by channel, then its outputs, in the order of the file.

    A signal with a scale of points is proven at both ends of it, every channel at its expectation and at the
    points that are named, a contact in both states, an alarm by its trip and its clear; an analog output at
    five signals, a relay by a pulse. A channel that is adjusted has its points as found and as left.

    Parameters
    ----------
    setup : CheckedSetup
    points : mapping from channel to values, optional
        Further points, in the channels' units.
    adjust : mapping from channel to what is done, optional
        ``tare``, or a kind of correction: ``offset``, ``gain``, ``offset and gain``, ``table``.

    Raises
    ------
    QuantityError
        There is no such channel, or it cannot be adjusted so.

    """
    names = [channel.name for channel in setup.channels]
    for name in (*(points or {}), *(adjust or {})):
        if name not in names:
            raise QuantityError(f"there is no channel {name!r}", valid=", ".join(names))
    for name, how in (adjust or {}).items():
        if how not in ADJUSTMENTS:
            raise QuantityError(
                f"{how[:40]!r} is not a way to adjust {name}", valid=", ".join(ADJUSTMENTS)
            )
        if setup.measured(name).states is not None:
            raise QuantityError(
                f"{name} has states, nothing to adjust", valid="a channel with numbers"
            )
    steps: list[PlannedStep] = []
    for channel in setup.channels:
        asked = (points or {}).get(channel.name, ())
        found = list(_steps(channel, asked))
        wanted = (adjust or {}).get(channel.name)
        steps += found if wanted is None else _adjusted(channel, found, wanted)
    return (*steps, *map(_output, setup.outputs))


def _steps(channel: CheckedChannel, further: Sequence[float]) -> Iterator[PlannedStep]:
    where = _place(channel)
    if isinstance(channel, ContactChannel) and channel.states is not None:
        for number in channel.states.numbers:
            name = channel.states.name(number)
            key, request = f"{channel.name} is {name}", f"bring {where} to {name}"
            yield PlannedStep(key, channel.name, "state", number, request)
    if channel.states is None:
        for value in _points(channel, further):
            shown = channel.words(value)
            request = f"bring {where} to {shown}{_signal(channel, value)}"
            if isinstance(channel, DerivedChannel):
                inputs = ", ".join(channel.inputs)
                request = f"bring {inputs} to where {where} has to be {shown}"
            yield PlannedStep(f"{channel.name} at {shown}", channel.name, "point", value, request)
    for alarm in channel.alarms:
        yield _alarm(channel, alarm, where)


def _place(channel: CheckedChannel) -> str:
    return f"{channel.name} ({channel.label}, {channel.where})"


def _adjusted(
    channel: CheckedChannel, steps: Sequence[PlannedStep], how: str
) -> Iterator[PlannedStep]:
    """The points as found, the adjustment, the points as left; alarms after that."""
    points = [step for step in steps if step.kind == "point"]
    if not points:
        raise QuantityError(
            f"{channel.name} has no point to adjust it by",
            valid=f"an expectation, or --point '{channel.name}=VALUE'",
        )
    if how == TARE:
        request = f"leave {_place(channel)} at rest: what it shows there is taken off"
    else:
        request = (
            f"a correction of {how} is made of the {len(points)} points as found of {channel.name}"
        )
    yield from (replace(step, stage=AS_FOUND) for step in points)
    yield PlannedStep(
        f"adjust {channel.name}: {how}", channel.name, "adjust", 0.0, request, correct=how
    )
    yield from (replace(step, key=f"{step.key} {AS_LEFT}", stage=AS_LEFT) for step in points)
    yield from (step for step in steps if step.kind != "point")


def _output(output: CheckedOutput) -> PlannedStep:
    where = f"{output.name} ({output.label}, output {output.terminal.name})"
    if isinstance(output, AnalogOutput):
        loop = output.loop
        span = format_span(*loop.signal, parse_unit(loop.unit))
        request = f"{where} is driven over {span}: measure at its other end"
        return PlannedStep(f"loop {output.name}", output.name, "loop", 0.0, request)
    request = f"{where} is switched on for a moment: see or hear that it works"
    return PlannedStep(f"pulse {output.name}", output.name, "pulse", 0.0, request)


def _points(channel: CheckedChannel, further: Sequence[float]) -> list[float]:
    wanted = list(further)
    if channel.expected is not None:
        wanted.append(channel.expected[0])
    # The ends of a factor are those of the input, and mean nothing for what is measured.
    typed = channel.measurement.typed if isinstance(channel, SignalChannel) else None
    if isinstance(typed, Pairs | Root | Logarithm):
        wanted += [_inside(channel, end) for end in channel.span if math.isfinite(end)]
    found: list[float] = []
    low, high = channel.span
    slack = _CLOSE * (high - low) if math.isfinite(high - low) else 0.0
    for value in sorted(wanted):
        if not found or value - found[-1] > slack:
            found.append(value)
    return found


def _inside(channel: CheckedChannel, end: float) -> float:
    """An end of a scale; where the range of the input ends there, too, a value a little inside it."""
    if not isinstance(channel, SignalChannel) or channel.range is None:
        return end
    if channel.measurement.input.quantity in PULSED:
        return end  # 0 is at rest, and no noise leads out of it
    chain, margin = channel.measurement.total, _INSIDE * channel.range.width
    if not chain.has_inverse:
        return end
    signal = float(chain.signal(end))
    moved = min(max(signal, channel.range.low + margin), channel.range.high - margin)
    return end if moved == signal or math.isnan(signal) else float(chain.value(moved))


def _signal(channel: CheckedChannel, value: float) -> str:
    """The signal of a value, for whoever has a calibrator in hand."""
    if not isinstance(channel, SignalChannel):
        return ""
    chain = channel.measurement.total
    if not chain.has_inverse:
        return ""
    signal = float(chain.signal(value))
    if math.isnan(signal):
        return ""
    return f", or apply {format_number(signal, 6)} {channel.measurement.input.unit}"


def _alarm(channel: CheckedChannel, alarm: AlarmDefinition, where: str) -> PlannedStep:
    low, high = alarm.trip
    trip = high if math.isfinite(high) else low
    ends = [end for end in alarm.clear if math.isfinite(end)]
    is_number = alarm.watch is Watch.VALUE and channel.states is None
    clears = f" past {channel.words(ends[0])}" if ends and is_number else ""
    request = (
        f"let {alarm.name} trip: {where} {alarm.condition(channel.symbol, channel.states)}; leave it there "
        f"until it has tripped, then bring it back{clears}"
    )
    name = f"{channel.name}.{alarm.name}"
    return PlannedStep(f"alarm {name}", channel.name, "alarm", trip, request, name)
