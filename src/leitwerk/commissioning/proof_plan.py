"""The steps of a proof of a whole setup: what is to be applied to each channel, and what should be seen."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.check.channels import CheckedChannel, ContactChannel, SignalChannel, WiredChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import format_number
from leitwerk.setup.scales import Logarithm, Pairs, Root

_CLOSE = 1e-9  # of a span: points that are the same


@dataclass(frozen=True, slots=True)
class PlannedStep:
    """One step. ``value`` is in the channel's unit; of an alarm it is the value behind which it trips.

    Attributes
    ----------
    key : str
        By which a script and a record name it: ``air_top at 21.5 °C``.
    kind : str
        ``point``, ``state`` or ``alarm``.
    request : str
        What a person is to do.

    """

    key: str
    channel: str
    kind: Literal["point", "state", "alarm"]
    value: float
    request: str
    alarm: str = ""


def plan_proof(
    setup: CheckedSetup, points: Mapping[str, Sequence[float]] | None = None
) -> tuple[PlannedStep, ...]:
    """The steps that prove a setup, channel by channel, in the order of the file.

    A signal with a scale of points is proven at both ends of it, every channel at its expectation and at the
    points that are named, a contact in both states, an alarm by its trip and its clear.

    Parameters
    ----------
    setup : CheckedSetup
    points : mapping from channel to values, optional
        Further points, in the channels' units.

    Raises
    ------
    QuantityError
        There is no such channel.

    """
    names = [channel.name for channel in setup.channels]
    for name in points or {}:
        if name not in names:
            raise QuantityError(f"there is no channel {name!r}", valid=", ".join(names))
    return tuple(
        step
        for channel in setup.channels
        for step in _steps(channel, (points or {}).get(channel.name, ()))
    )


def _steps(channel: CheckedChannel, further: Sequence[float]) -> Iterator[PlannedStep]:
    where = f"{channel.name} ({channel.label}, {channel.where})"
    if isinstance(channel, ContactChannel) and channel.states is not None:
        for number in channel.states.numbers:
            name = channel.states.name(number)
            yield PlannedStep(
                f"{channel.name} is {name}",
                channel.name,
                "state",
                number,
                f"bring {where} to {name}",
            )
        return
    if channel.states is not None:
        return
    for value in _points(channel, further):
        shown = channel.words(value)
        request = f"bring {where} to {shown}{_signal(channel, value)}"
        yield PlannedStep(f"{channel.name} at {shown}", channel.name, "point", value, request)
    if isinstance(channel, WiredChannel):
        for alarm in channel.alarms:
            if alarm.watch is Watch.VALUE:
                yield _alarm(channel, alarm, where)


def _points(channel: CheckedChannel, further: Sequence[float]) -> list[float]:
    wanted = list(further)
    if channel.expected is not None:
        wanted.append(channel.expected[0])
    # The ends of a factor are those of the input, and mean nothing for what is measured.
    typed = channel.measurement.typed if isinstance(channel, SignalChannel) else None
    if isinstance(typed, Pairs | Root | Logarithm):
        wanted += [end for end in channel.span if math.isfinite(end)]
    found: list[float] = []
    low, high = channel.span
    slack = _CLOSE * (high - low) if math.isfinite(high - low) else 0.0
    for value in sorted(wanted):
        if not found or value - found[-1] > slack:
            found.append(value)
    return found


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
    side = "above" if math.isfinite(high) else "below"
    back = next((end for end in alarm.clear if math.isfinite(end)), trip)
    request = (
        f"bring {where} {side} {channel.words(trip)}, leave it there until {alarm.name} has tripped, "
        f"and bring it back past {channel.words(back)}"
    )
    name = f"{channel.name}.{alarm.name}"
    return PlannedStep(f"alarm {name}", channel.name, "alarm", trip, request, name)
