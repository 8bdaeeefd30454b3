"""Outputs that are switched: kept for their shortest times, and brought back to safety."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

ON, OFF = "on", "off"


@dataclass(frozen=True, slots=True)
class Switch:
    """A digital output: its normal and its safe state, and the shortest times in s.

    ``limit_s`` is how long a state other than the safe one may last without being asked for again.
    """

    name: str
    normal: str = OFF
    safe: str = OFF
    least_on_s: float = 0.0
    least_off_s: float = 0.0
    limit_s: float | None = None


@dataclass(slots=True)
class _Standing:
    state: str
    since_s: float
    asked_s: float
    wish: str | None = None
    until_s: float | None = None


class Switches:
    """What each output is to be, moment by moment. Knows no device: ``due`` says what to switch.

    Examples
    --------
    >>> switches = Switches([Switch("fan", least_on_s=5.0)])
    >>> switches.ask("fan", "on", 0.0); switches.due(0.0)
    [('fan', 'on')]
    >>> switches.ask("fan", "off", 1.0); switches.due(1.0), switches.due(5.0)
    ([], [('fan', 'off')])

    """

    def __init__(self, switches: Sequence[Switch], now_s: float = 0.0) -> None:
        self.switches = {switch.name: switch for switch in switches}
        # Nobody knows for how long they have been as they are: as if for ever.
        self._now = {s.name: _Standing(s.normal, float("-inf"), now_s) for s in switches}

    @property
    def states(self) -> Mapping[str, str]:
        """What each output is now."""
        return {name: standing.state for name, standing in self._now.items()}

    def ask(self, name: str, state: str, now_s: float, *, lasts_s: float | None = None) -> None:
        """Ask for a state, for good or for a while; a later wish replaces an earlier one."""
        standing = self._now[name]
        standing.wish, standing.asked_s = state, now_s
        standing.until_s = None if lasts_s is None else now_s + lasts_s

    def due(self, now_s: float) -> list[tuple[str, str]]:
        """The outputs to switch now, and to what. They count as switched from here on."""
        found = []
        for name, standing in self._now.items():
            switch = self.switches[name]
            if standing.until_s is not None and now_s >= standing.until_s:
                standing.wish, standing.until_s = switch.normal, None
            if (
                switch.limit_s is not None
                and standing.state != switch.safe
                and standing.wish in {None, standing.state}
                and now_s - max(standing.asked_s, standing.since_s) >= switch.limit_s
            ):
                standing.wish = switch.safe
            if standing.wish is None:
                continue
            if standing.wish == standing.state:
                standing.wish = None
                continue
            least = switch.least_on_s if standing.state == ON else switch.least_off_s
            if now_s - standing.since_s >= least:
                standing.state, standing.since_s, standing.wish = standing.wish, now_s, None
                found.append((name, standing.state))
        return found

    def to_safety(self) -> list[tuple[str, str]]:
        """Every output that is not in its safe state, and that state; shortest times do not count."""
        found = []
        for name, standing in self._now.items():
            safe = self.switches[name].safe
            if standing.state != safe:
                standing.state, standing.wish, standing.until_s = safe, None, None
                found.append((name, safe))
        return found

    def to_dict(self) -> dict[str, Any]:
        """What each output is, for JSON."""
        return dict(self.states)
