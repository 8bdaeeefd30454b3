"""What a device model is capable of, as the rest of the library asks for it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

from leitwerk.datasheet.points import Point, PointFamily
from leitwerk.datasheet.text_points import Replies
from leitwerk.datasheet.vocabulary import (
    ALARM_TRIP,
    CHANNEL_SENSOR,
    COMMAND,
    COMMANDS,
    INPUT_ALARM_HIGH,
    INPUT_ALARM_LOW,
    KnownPoint,
)
from leitwerk.findings import Finding
from leitwerk.parsing.quantities import Span, bytes_text
from leitwerk.parsing.units import Unit
from leitwerk.signals.sensors import SENSORS
from leitwerk.wireless.ids import IdForm
from leitwerk.wireless.telegrams import TelegramFormat

if TYPE_CHECKING:
    from leitwerk.exchange.definition import Exchange
    from leitwerk.parsing.address import LinkAddress


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

    ``noise_free_bits`` are those that stand still when the signal does. Bits of 0 are not known: steps
    of 0. ``ends`` are the signals that the settings for the low and the high value stand for, where a
    model has no settings for the signals.
    """

    quantity: str
    unit: Unit
    ranges: tuple[Range, ...] = ()
    bits: int = 0
    noise_free_bits: int = 0
    ends: tuple[float, float] | None = None

    def step(self, chosen: Range) -> float:
        """The smallest signal that the converter resolves in a range; 0 when it is not known."""
        return chosen.width / float(2**self.bits) if self.bits else 0.0

    def noise_free_step(self, chosen: Range) -> float:
        """The smallest step of the signal that stands out of the noise; 0 when it is not known."""
        bits = self.noise_free_bits or self.bits
        return chosen.width / float(2**bits) if bits else 0.0

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

    ``span`` is that of an analog signal, None for a relay; ``ends`` are the signals that its
    settings for the low and the high value stand for; ``compliance_v`` what an analog output
    needs of the supply for itself, in V.
    """

    name: str
    slot: int
    span: Span | None
    ends: Span | None = None
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
    response_s: float = 0.0


@dataclass(frozen=True, slots=True)
class Store:
    """The memory in bytes, or in rows: in all, for each row, and for each value in it.

    Where it is counted in rows of any size, a row takes 1 and a value 0.
    """

    capacity: float
    row: float = 0.0
    value: float = 0.0
    unit: str = "B"

    def rows_of(self, values: int) -> float:
        """How many rows with this number of values it holds."""
        each = self.row + values * self.value
        return self.capacity / each if each else 0.0

    def amount(self, count: float) -> str:
        """An amount of memory for people."""
        return bytes_text(count) if self.unit == "B" else f"{count:,.0f} {self.unit}"


@dataclass(frozen=True, slots=True)
class Supply:
    """The battery of a device: energy in J, power in W."""

    capacity_j: float
    idle_w: float = 0.0
    sample_j: float = 0.0
    report_j: float = 0.0


@dataclass(frozen=True, slots=True)
class DeviceLimits:
    """How much a device can do. ``interval_s`` is None where it has no sampling interval to set."""

    interval_s: tuple[float, float] | None = None
    channels: int = 1_000_000  # a device that measures by itself does not count them
    alarms: int = 0


@dataclass(frozen=True, slots=True)
class WritingTerms:
    """What writing settings takes.

    ``roles`` may write, by their passwords; each may do all that those before it may. ``minimum``
    holds for points of the status, each with its unit. ``log_out`` is what is written to the login to
    end it, None where nothing is. A login lapses after ``login_lasts_s`` or ``login_writes`` write
    requests; 0: it lasts.
    """

    roles: tuple[str, ...] = ()
    requires_stopped: bool = False
    minimum: Mapping[str, tuple[float, str]] = field(default_factory=dict)
    log_out: str | None = None
    login_lasts_s: float = 0.0
    login_writes: int = 0


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What surroundings a device stands: temperatures in °C, and its degree of protection."""

    temperature_c: tuple[float, float] | None = None
    protection: str = ""


@dataclass(frozen=True, slots=True)
class RecordTable:
    """A table that setups fill: what each row in use holds besides, and what one that is not holds."""

    used: Mapping[str, str]
    cleared: Mapping[str, str]


@dataclass(frozen=True)
class ReceivedTelegrams:
    """How a receiver passes on what its transmitters send, and the lines that turn that on and off.

    ``weak`` is the strength, in ``unit``, below which one is weak; None where that is not known.
    """

    form: TelegramFormat
    ids: IdForm
    listen_on: str
    listen_off: str
    weak: float | None
    unit: str


@dataclass(frozen=True, slots=True)
class HeardExchange:
    """An exchange in which Leitwerk is an end, and the port where it is that."""

    exchange: Exchange
    at: LinkAddress


@dataclass(frozen=True)
class Datasheet:
    """A device model: what it is capable of, and where each point lives.

    ``doubts`` are the warnings of its reader: what looks like a slip, and what a group of points lacks.
    ``wirings`` are the ways in which it can be wired to a net: what goes to each terminal.
    ``campaigns`` are what it stores by itself, with the rows of memory that a row or an event takes.
    ``telegrams`` are those of wireless transmitters, where it is a receiver of such.
    ``exchange`` is what this end says and understands, for a device that is known by that alone. ``heard``
    are exchanges of a setup whose values are readings beside the device's own, by name.
    """

    model: str
    maker: str
    summary: str
    link: str
    inputs: Mapping[str, Input]
    terminals: Mapping[str, Terminal]
    output_terminals: Mapping[str, OutputTerminal]
    outputs: Mapping[str, int]
    limits: DeviceLimits
    surroundings: Surroundings
    writing: WritingTerms
    timing: ScanTiming
    memory: Store | None
    battery: Supply | None
    report_bytes: tuple[int, int] | None
    clock_is_utc: bool
    junction_inside: bool
    max_gap: int
    refusals: Mapping[int, str]
    replies: Replies
    program: ProgramLayout | None
    groups: Mapping[str, Mapping[str, PointFamily[Point]]] = field(repr=False)
    doubts: tuple[Finding, ...] = field(default=(), repr=False)
    records: Mapping[str, RecordTable] = field(default_factory=dict, repr=False)
    wirings: Mapping[str, Mapping[str, str]] = field(default_factory=dict, repr=False)
    campaigns: Mapping[str, int] = field(default_factory=dict, repr=False)
    telegrams: ReceivedTelegrams | None = field(default=None, repr=False)
    exchange: Exchange | None = field(default=None, repr=False)
    heard: Mapping[str, HeardExchange] = field(default_factory=dict, repr=False)
    _points: dict[str, tuple[Point, ...]] = field(
        default_factory=dict, init=False, repr=False, compare=False
    )

    def __repr__(self) -> str:
        counts = ", ".join(f"{len(self.points(g))} {g}" for g in self.groups if self.groups[g])
        return f"<Datasheet of {self.model}: {counts}>"

    @cached_property
    def sensors(self) -> tuple[str, ...]:
        """The sensors whose curve the device has itself: choices of its setting for them."""
        return tuple(name for name in self.choices(CHANNEL_SENSOR) if name in SENSORS)

    @property
    def alarms_by_input(self) -> bool:
        """Whether each input has alarms of its own, in place of a list of alarms."""
        return not self.has(ALARM_TRIP) and (
            self.has(INPUT_ALARM_HIGH) or self.has(INPUT_ALARM_LOW)
        )

    @cached_property
    def commands(self) -> tuple[str, ...]:
        """The commands of the device: choices of one point, or points of their own."""
        own = tuple(name for name, known in COMMANDS.items() if self.has(known))
        return (*self.choices(COMMAND), *own)

    def command_point(self, name: str) -> Point:
        """The point by which a command is given.

        Raises
        ------
        KeyError
            The model has no such command.

        """
        known = COMMANDS.get(name)
        return self.point(known if known is not None and self.has(known) else COMMAND)

    def input_for(self, dimension: str) -> Input | None:
        """The kind of input that takes signals of a dimension, or None."""
        return next(
            (i for i in self.inputs.values() if i.ranges and i.unit.dimension == dimension), None
        )

    def has(self, known: KnownPoint) -> bool:
        """Whether the model has a point of the vocabulary."""
        return known.name in self.groups[known.group]

    def family(self, known: KnownPoint) -> PointFamily[Point] | None:
        """The model's points of a name of the vocabulary, or None when it has none."""
        return self.groups[known.group].get(known.name)

    def point(self, known: KnownPoint, index: int | None = None) -> Point:
        """One point of this model.

        Raises
        ------
        KeyError
            The model has no such point.

        """
        return self.groups[known.group][known.name].point(index)

    def choices(self, known: KnownPoint) -> tuple[str, ...]:
        """What a point may be, by name; empty when the model lacks it, or it has no choices."""
        family = self.family(known)
        return family.template.choice_names if family else ()

    def points(self, group: str) -> tuple[Point, ...]:
        """All points of a group, in the order of the datasheet."""
        if group not in self._points:
            families = self.groups[group].values()
            self._points[group] = tuple(point for family in families for point in family.points())
        return self._points[group]

    @cached_property
    def settings(self) -> dict[str, Point]:
        """All settings by name."""
        return {point.name: point for point in self.points("settings")}

    @cached_property
    def secrets(self) -> dict[str, Point]:
        """Settings that are written and never read, by name."""
        return {point.name: point for point in self.points("secrets")}

    @cached_property
    def setting_places(self) -> dict[str, tuple[str, int | None]]:
        """For each setting, the name of its family and its index there."""
        return {
            family.point(index).name: (name, index)
            for name, family in self.groups["settings"].items()
            for index in (family.indices or (None,))
        }

    @cached_property
    def own_readings(self) -> dict[str, Point]:
        """What the device measures by itself: readings that belong to no terminal."""
        return {
            point.name: point
            for point in self.points("readings")
            if not point.name.startswith("channel.")
        }

    @property
    def role(self) -> str:
        """The role whose password is needed to write settings; empty when none is."""
        return self.writing.roles[0] if self.writing.roles else ""

    def takes_while_recording(self, settings: Iterable[str]) -> bool:
        """Whether these settings may be written while the device records."""
        points = self.settings | self.secrets
        return not any(
            self.writing.requires_stopped or points[s].needs == "stopped" for s in settings
        )

    def role_for(self, settings: Iterable[str]) -> str:
        """The role whose password is needed to write these settings: the highest of theirs."""
        points = self.settings | self.secrets
        needed = {points[name].role or self.role for name in settings} - {""}
        rank = {role: k for k, role in enumerate(self.writing.roles)}
        return max(needed, key=lambda role: rank.get(role, -1), default=self.role)

    def may_act_as(self, logged_in: str, role: str) -> bool:
        """Whether who is logged in has the rights of a role."""
        roles = self.writing.roles
        if logged_in == role:
            return True
        return logged_in in roles and role in roles and roles.index(logged_in) > roles.index(role)
