"""What a device model is capable of, as the rest of the library asks for it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from leitwerk.datasheet.points import PointFamily
from leitwerk.datasheet.queries import Replies
from leitwerk.parsing.quantities import Span, bytes_text
from leitwerk.parsing.units import Unit
from leitwerk.signals.sensors import SENSORS


@dataclass(frozen=True, slots=True)
class Range:
    """A range of an input; ``name`` is what the device and the setup call it."""

    name: str
    low: float
    high: float

    @property
    def width(self) -> float:
        """High less low."""
        return self.high - self.low

    def __str__(self) -> str:
        return self.name

    def holds(self, low: float, high: float) -> bool:
        """Whether a signal from ``low`` to ``high`` passes without clipping."""
        slack = 1e-9 * self.width
        return self.low - slack <= min(low, high) and max(low, high) <= self.high + slack


@dataclass(frozen=True, slots=True)
class Input:
    """What a kind of input takes: its ranges, in ``unit``, smallest first, and converter bits.

    ``noise_free_bits`` are those that stand still when the signal does.
    """

    quantity: str
    unit: Unit
    ranges: tuple[Range, ...] = ()
    bits: int = 0
    noise_free_bits: int = 0

    def step(self, chosen: Range) -> float:
        """The smallest signal that the converter tells apart in a range."""
        return chosen.width / float(2**self.bits)

    def noise_free_step(self, chosen: Range) -> float:
        """The smallest step of the signal that stands out of the converter's noise."""
        return chosen.width / float(2 ** (self.noise_free_bits or self.bits))

    def smallest_range(self, low: float, high: float) -> Range | None:
        """The smallest range that holds a signal, or None."""
        return next((r for r in self.ranges if r.holds(low, high)), None)

    def find_range(self, span: Span) -> Range | None:
        """The range that a setup means, by its ends; None when the device has none like it."""
        low, high = span.ends_in(self.unit)
        near = 1e-6 * abs(high - low)
        for r in self.ranges:
            if abs(r.low - low) <= near and abs(r.high - high) <= near:
                return r
        return None

    @property
    def range_names(self) -> str:
        """All ranges, for messages."""
        return ", ".join(r.name for r in self.ranges)


@dataclass(frozen=True, slots=True)
class Terminal:
    """A terminal: the index of its settings and the kinds of input it can be."""

    name: str
    slot: int
    takes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class OutputTerminal:
    """A terminal that the device drives, and the index of its settings.

    ``span`` is that of an analog signal, None for a relay; ``between`` are the signals that its
    settings for the low and the high value stand for; ``compliance_v`` what an analog output
    needs of the supply for itself, in V.
    """

    name: str
    slot: int
    span: Span | None
    between: Span | None = None
    compliance_v: float = 0.0


@dataclass(frozen=True, slots=True)
class ProgramLayout:
    """Where the image of a board lies that is programmed by a file, and what it holds."""

    address: int
    registers: int
    version: int


@dataclass(frozen=True, slots=True)
class ScanTiming:
    """How long things take, in s: for each channel of a scan, and before an answer.

    ``integration_s`` are the times for which an input can be measured, the usual one first.
    """

    settling_s: float = 0.0
    integration_s: tuple[float, ...] = ()
    switching_s: float = 0.0
    answers_s: float = 0.0


@dataclass(frozen=True, slots=True)
class Store:
    """The memory in bytes, or in rows: in all, for each row, and for each value in it.

    Where it is counted in rows, whatever they hold, a row takes 1 and a value nothing.
    """

    capacity: float
    row: float = 0.0
    value: float = 0.0
    unit: str = "B"

    def rows_of(self, values: int) -> float:
        """How many rows of so many values it holds."""
        each = self.row + values * self.value
        return self.capacity / each if each else 0.0

    def amount(self, count: float) -> str:
        """An amount of memory for people."""
        return bytes_text(count) if self.unit == "B" else f"{count:,.0f} {self.unit}"


@dataclass(frozen=True)
class Datasheet:
    """A device model: what it is capable of, and where each point lives."""

    model: str
    maker: str
    summary: str
    link: str
    inputs: Mapping[str, Input]
    terminals: Mapping[str, Terminal]
    interval_s: tuple[float, float] | None
    channels_at_most: int
    alarms_at_most: int
    bridge: int
    role: str
    stopped: bool
    least: Mapping[str, tuple[float, str]]
    refusals: Mapping[int, str]
    replies: Replies
    environment_c: tuple[float, float] | None
    protection: str
    outputs: Mapping[str, int]
    drives: Mapping[str, OutputTerminal]
    memory: Store | None
    timing: ScanTiming
    battery: Supply | None
    report_bytes: tuple[int, int] | None
    clock_is_utc: bool
    program: ProgramLayout | None
    groups: Mapping[str, Mapping[str, PointFamily]] = field(repr=False)

    @cached_property
    def sensors(self) -> tuple[str, ...]:
        """The sensors whose curve the device has itself: choices of its setting for them."""
        family = self.family("settings", "channel.{n}.sensor")
        names = [name for name, _ in family.template.choices] if family else []
        return tuple(name for name in names if name in SENSORS)

    def input_for(self, dimension: str) -> Input | None:
        """The kind of input that takes signals of a dimension, or None."""
        return next(
            (i for i in self.inputs.values() if i.ranges and i.unit.dimension == dimension), None
        )

    def family(self, group: str, name: str) -> PointFamily | None:
        """A family of points by its name with ``{n}`` for an index, or None when there is none."""
        return self.groups[group].get(name)

    def point(self, group: str, name: str, index: int | None = None) -> Any:
        """One point of this model.

        Raises
        ------
        KeyError
            The model has no such point.

        """
        return self.groups[group][name].point(index)

    def points(self, group: str) -> list[Any]:
        """All points of a group, in the order of the datasheet."""
        return [point for family in self.groups[group].values() for point in family.points()]

    @cached_property
    def settings(self) -> dict[str, Any]:
        """All settings by name."""
        return {point.name: point for point in self.points("settings")}

    @cached_property
    def setting_families(self) -> dict[str, tuple[str, int | None]]:
        """For each setting, the name of its family and its index there."""
        return {
            family.point(index).name: (name, index)
            for name, family in self.groups["settings"].items()
            for index in (family.indices or (None,))
        }

    @cached_property
    def own_readings(self) -> dict[str, Any]:
        """What the device measures by itself: readings that belong to no terminal."""
        return {
            point.name: point
            for point in self.points("readings")
            if not point.name.startswith("channel.")
        }

    def takes_while_recording(self, settings: Iterable[str]) -> bool:
        """Whether these settings may be written while the device records."""
        return not any(self.stopped or self.settings[s].needs == "stopped" for s in settings)

    def role_for(self, settings: Iterable[str]) -> str:
        """The role whose password is needed to write these settings."""
        special = {self.settings[name].role for name in settings} - {""}
        if len(special) > 1:
            return "administrator"  # whoever has that password may do all of it
        return special.pop() if special else self.role


@dataclass(frozen=True, slots=True)
class Supply:
    """The battery of a device: energy in J, power in W."""

    capacity_j: float
    idle_w: float = 0.0
    sample_j: float = 0.0
    report_j: float = 0.0
