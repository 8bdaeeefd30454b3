"""Checked channels: what a channel of a setup is on one device, in the units that are used there.

Measured are a signal at a terminal, a contact at a terminal, and what the device measures by itself;
derived are those that are computed from other channels.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from leitwerk.alarms.bands import Bands
from leitwerk.alarms.definition import AlarmDefinition
from leitwerk.calibration.record import Uncorrected
from leitwerk.check.measurement import Measurement
from leitwerk.datasheet.model import Datasheet, Range, Terminal
from leitwerk.datasheet.points import Point
from leitwerk.datasheet.vocabulary import CHANNEL_QUALITY, CHANNEL_VALUE
from leitwerk.parsing.quantities import format_value
from leitwerk.parsing.units import Unit
from leitwerk.setup.model import Pulses
from leitwerk.signals.scale import Chain
from leitwerk.signals.states import StateNames

if TYPE_CHECKING:
    from leitwerk.derived.graph import Graph
    from leitwerk.derived.open_channel import OpenChannel


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class CheckedChannel(ABC):
    """What all kinds of channels have in common. Numbers are in ``unit``.

    ``kind`` is the device's word for what it measures there, ``host`` what Leitwerk works behind the
    value that the device shows, ``span`` the values that the channel can have. ``states`` are the
    names of the values where they are states, None where they are numbers; ``turn`` is a full turn where
    they are angles that begin again, else 0. ``device_alarms`` are
    those alarms that the device watches itself, in terms of what it shows.
    """

    name: str
    label: str
    kind: str
    unit: Unit
    span: tuple[float, float]
    host: Chain
    states: StateNames | None
    expected: tuple[float, float] | None
    alarms: tuple[AlarmDefinition, ...]
    device_alarms: tuple[AlarmDefinition, ...]
    bands: Bands | None
    turn: float = 0.0

    def __repr__(self) -> str:
        shown = f" in {self.symbol}" if self.symbol else ""
        return f"<{type(self).__name__} {self.name}: {self.where}, {self.kind}{shown}>"

    @property
    def symbol(self) -> str:
        """The unit's symbol, empty for a state."""
        return "" if self.states is not None else self.unit.symbol

    @property
    def difference_symbol(self) -> str:
        """The symbol for a difference of two values, empty for a state."""
        return "" if self.states is not None else self.unit.difference

    @property
    def counts(self) -> bool:
        """Whether it only adds up, as a counter does: its mean means nothing, its increase does."""
        return False

    @property
    @abstractmethod
    def where(self) -> str:
        """Where its values come from, for people."""

    @abstractmethod
    def owns(self, setting: str) -> bool:
        """Whether a setting of the device belongs to this channel."""

    def named_alarms(self) -> Iterator[tuple[str, AlarmDefinition]]:
        """Each alarm with its full name, ``air_top.too_hot``."""
        return ((f"{self.name}.{alarm.name}", alarm) for alarm in self.alarms)

    def words(self, value: float | None) -> str:
        """A value of this channel for people: with its unit, or as its state."""
        if value is None or math.isnan(value):
            return "no reading"
        if self.states is not None:
            return self.states.name(value)
        # A counter keeps all of its digits in front of the point.
        digits = f"{value:.5g}" if abs(value) < 1e5 else f"{value:.1f}"
        return format_value(float(digits), self.unit)


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class MeasuredChannel(CheckedChannel):
    """A channel whose value the device shows."""

    @abstractmethod
    def value_point(self, datasheet: Datasheet) -> Point:
        """The reading that shows its value."""

    @abstractmethod
    def quality_point(self, datasheet: Datasheet) -> Point | None:
        """The reading that says what the value is worth, None where the value itself must."""


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class WiredChannel(MeasuredChannel):
    """A channel at a terminal. ``pulses`` says how an input for pulses counts them, None for others."""

    terminal: Terminal
    pulses: Pulses | None = None

    @property
    def slot(self) -> int:
        """The index of its settings and readings in the device."""
        return self.terminal.slot

    @property
    def where(self) -> str:
        """Where its values come from, for people."""
        return f"terminal {self.terminal.name}"

    def value_point(self, datasheet: Datasheet) -> Point:
        """The reading that shows its value."""
        return datasheet.point(CHANNEL_VALUE, self.slot)

    def quality_point(self, datasheet: Datasheet) -> Point | None:
        """The reading that says what the value is worth."""
        return (
            datasheet.point(CHANNEL_QUALITY, self.slot) if datasheet.has(CHANNEL_QUALITY) else None
        )

    def owns(self, setting: str) -> bool:
        """Whether a setting of the device belongs to this channel."""
        return setting.startswith((f"channel.{self.slot}.", f"pulse.{self.slot}."))


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class SignalChannel(WiredChannel):
    """A sensor or a signal at a terminal: its values are numbers.

    ``sensor_uncertainty`` is the expanded uncertainty (k = 2) of the sensor, 0 where it is not known;
    ``uncorrected`` what a calibration found that is not corrected for.
    """

    measurement: Measurement
    range: Range | None
    sensor_uncertainty: float = 0.0
    uncorrected: Uncorrected | None = None


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class ContactChannel(WiredChannel):
    """A contact at a terminal: its values are states."""


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class CounterChannel(WiredChannel):
    """A counter at a terminal: its values are pulses since it was at 0, and roll over."""

    @property
    def counts(self) -> bool:
        """Always."""
        return True


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class ReadingChannel(MeasuredChannel):
    """What the device measures by itself: it belongs to no terminal and has no settings.

    ``law`` is that of a flow which the device computes by a formula of the setup.
    """

    point: Point
    law: OpenChannel | None = None

    @property
    def where(self) -> str:
        """Where its values come from, for people."""
        return f"reading {self.point.name}"

    def value_point(self, datasheet: Datasheet) -> Point:
        """The reading itself."""
        del datasheet
        return self.point

    def quality_point(self, datasheet: Datasheet) -> Point | None:
        """None: the value says itself what it is worth."""
        del datasheet
        return None

    def owns(self, setting: str) -> bool:
        """No setting belongs to it."""
        del setting
        return False


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class DerivedChannel(CheckedChannel):
    """What Leitwerk computes from other channels: ``node`` of ``graph``, which all of a setup share.

    ``formula`` is what people read. ``units`` are those of the inputs that it is computed from, by name;
    ``notes`` say more about its functions.
    """

    graph: Graph = field(compare=False)
    node: int
    formula: str
    units: Mapping[str, Unit] = field(compare=False)
    notes: tuple[str, ...]

    @property
    def counts(self) -> bool:
        """Whether its formula is a total, a cost, a count, or what a counter increases by."""
        operation = self.graph.nodes[self.node].operation
        return operation is not None and operation.counts

    @property
    def inputs(self) -> tuple[str, ...]:
        """The measured channels that it is computed from in the end."""
        return tuple(self.graph.inputs_of(self.node))

    @property
    def where(self) -> str:
        """Where its values come from, for people."""
        return f"computed: {self.formula}"

    def owns(self, setting: str) -> bool:
        """No setting belongs to it."""
        del setting
        return False


def measured(channels: Iterable[CheckedChannel]) -> tuple[MeasuredChannel, ...]:
    """Those whose values the device shows."""
    return tuple(c for c in channels if isinstance(c, MeasuredChannel))
