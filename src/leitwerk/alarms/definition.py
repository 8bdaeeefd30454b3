"""What an alarm is: a plain value, in the unit of its channel."""

from __future__ import annotations

import enum
import math
from dataclasses import dataclass

from leitwerk.alarms.conditions import Condition
from leitwerk.parsing.quantities import format_number
from leitwerk.signals.states import StateNames

Ends = tuple[float, float]
_EVERYTHING = (-math.inf, math.inf)


class Watch(enum.StrEnum):
    """What of a channel an alarm looks at."""

    VALUE = "value"
    CHANGE = "change"  # the change within ``window_s``
    DIFFERENCE = "difference"  # from another channel, or from a number
    READING = "reading"  # 1 when there is no good reading, else 0


@dataclass(frozen=True, slots=True)
class AlarmDefinition:
    """An alarm: it trips outside ``trip``, or inside, and clears inside or outside ``clear``.

    Both are spans with their ends counted in, in the channel's unit. Above 78, clear at 75 is
    *outside* −∞..78 and clear inside −∞..75. ``inside`` turns both round.

    A sample that is bad neither trips nor clears; it ends a wait that has not run out, since it is not
    knows whether the condition held. So do a step back in time, and a gap.

    Attributes
    ----------
    delay_s, clear_delay_s : float, in s
        How long the condition must have held, from its first sample to the present one, before the
        alarm trips, and clears again (on-delay and off-delay of ISA-18.2).
    latch : bool
        Stays until it is acknowledged and reset, although the condition has gone.
    acknowledge : bool
        Stays until it is acknowledged, although the condition has gone.
    window_s : float, in s
        For ``Watch.CHANGE``: the time within which the change is measured.
    only_while : Condition, optional
        The alarm is watched only while this holds, and suppressed by design elsewhere. Where the
        condition is unknown, what was known last counts; at first, that it holds.
    other : str
        For ``Watch.DIFFERENCE``: the other channel. Empty: the difference from ``nominal``.
    turn : float
        A full turn where the channel is an angle: changes and differences are then on the shorter way round.

    """

    name: str
    trip: Ends
    clear: Ends
    inside: bool = False
    watch: Watch = Watch.VALUE
    delay_s: float = 0.0
    clear_delay_s: float = 0.0
    latch: bool = False
    acknowledge: bool = False
    severity: str = "medium"
    window_s: float = 0.0
    other: str = ""
    nominal: float = 0.0
    turn: float = 0.0
    only_while: Condition | None = None

    @classmethod
    def above(
        cls, name: str, trip: float, clear: float | None = None, **more: object
    ) -> AlarmDefinition:
        """Trips when the value rises above ``trip``, clears at ``clear`` or below it."""
        back = trip if clear is None else clear
        return cls(name, (-math.inf, trip), (-math.inf, back), **more)  # type: ignore[arg-type]

    @classmethod
    def below(
        cls, name: str, trip: float, clear: float | None = None, **more: object
    ) -> AlarmDefinition:
        """Trips when the value falls below ``trip``, clears at ``clear`` or above it."""
        back = trip if clear is None else clear
        return cls(name, (trip, math.inf), (back, math.inf), **more)  # type: ignore[arg-type]

    @property
    def side(self) -> str:
        """``above`` or ``below`` where the alarm has one trip point of the value, else nothing."""
        if self.inside or self.watch is not Watch.VALUE or self.trip == _EVERYTHING:
            return ""
        low, high = (math.isfinite(end) for end in self.trip)
        return "" if low and high else ("below" if low else "above")

    @property
    def point(self) -> Ends:
        """Trip and clear point of an alarm that has a ``side``."""
        end = 1 if self.side == "above" else 0
        return self.trip[end], self.clear[end]

    @property
    def points(self) -> tuple[float, ...]:
        """All numbers of trip and clear, the trip points first."""
        return tuple(end for ends in (self.trip, self.clear) for end in ends if math.isfinite(end))

    @property
    def clears(self) -> bool:
        """Whether every value that could clear the alarm is one that does not trip it."""
        wide, narrow = (self.clear, self.trip) if self.inside else (self.trip, self.clear)
        return wide[0] <= narrow[0] <= narrow[1] <= wide[1]

    def condition(self, unit: str = "", states: StateNames | None = None) -> str:
        """When it trips, in words: ``above 78 °C``; with ``states``, the name of one."""
        if states is not None and self.watch is Watch.VALUE:
            return states.name(self.trip[0])
        if unit == "°C" and self.watch in {Watch.CHANGE, Watch.DIFFERENCE}:
            unit = "K"
        space = f" {unit}" if unit else ""
        low, high = (format_number(end) for end in self.trip)
        if self.watch is Watch.READING:
            return "no reading"
        where = f"{'inside' if self.inside else 'outside'} {low}..{high}{space}"
        if not self.inside and math.isinf(self.trip[0]):
            where = f"above {high}{space}"
        elif not self.inside and math.isinf(self.trip[1]):
            where = f"below {low}{space}"
        elif self.inside and low == high:
            where = f"at {low}{space}"
        if self.watch is Watch.CHANGE:
            return f"change in {format_number(self.window_s)} s {where}"
        if self.watch is Watch.DIFFERENCE:
            return f"difference from {self.other or format_number(self.nominal)} {where}"
        return where
