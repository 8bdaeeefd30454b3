"""Outputs that are switched: kept for their shortest times, and brought back to safety."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from leitwerk.parsing.durations import CLOSE_S

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
class _OutputState:
    state: str
    since_s: float
    asked_s: float
    wish: str | None = None
    until_s: float | None = None
    is_sure: bool = True


class Switches:
    """What each output is to be, moment by moment. Knows no device: ``due`` says what to switch.

    What is due stays due until ``switched`` says that it was done: a link may be lost just then.

    Examples
    --------
    >>> switches = Switches([Switch("fan", least_on_s=5.0)])
    >>> switches.request("fan", "on", 0.0); switches.due(0.0)
    [('fan', 'on')]
    >>> switches.switched("fan", "on", 0.0); switches.request("fan", "off", 1.0)
    >>> switches.due(1.0), switches.due(5.0)
    ([], [('fan', 'off')])

    """

    def __init__(self, switches: Sequence[Switch], now_s: float = 0.0) -> None:
        self.switches = {switch.name: switch for switch in switches}
        # It is not known for how long they have been in their state: taken as for ever.
        self._now = {s.name: _OutputState(s.normal, float("-inf"), now_s) for s in switches}

    @property
    def states(self) -> Mapping[str, str]:
        """What each output is now, as far as is known."""
        return {name: standing.state for name, standing in self._now.items()}

    def request(self, name: str, state: str, now_s: float, *, lasts_s: float | None = None) -> None:
        """Ask for a state, for good or for a while; a later wish replaces an earlier one."""
        standing = self._now[name]
        standing.wish, standing.asked_s = state, now_s
        standing.until_s = None if lasts_s is None else now_s + lasts_s

    def due(self, now_s: float) -> list[tuple[str, str]]:
        """The outputs to switch now, and to what."""
        found = []
        for name, standing in self._now.items():
            switch = self.switches[name]
            if standing.until_s is not None and now_s >= standing.until_s - CLOSE_S:
                standing.wish, standing.until_s = switch.normal, None
            if (
                switch.limit_s is not None
                and standing.state != switch.safe
                and standing.wish in {None, standing.state}
                and now_s - max(standing.asked_s, standing.since_s) >= switch.limit_s - CLOSE_S
            ):
                standing.wish = switch.safe
            if standing.wish is None:
                continue
            if standing.wish == standing.state and standing.is_sure:
                standing.wish = None
                continue
            least = switch.least_on_s if standing.state == ON else switch.least_off_s
            if not standing.is_sure or now_s - standing.since_s >= least - CLOSE_S:
                found.append((name, standing.wish))
        return found

    def switched(self, name: str, state: str, now_s: float) -> None:
        """An output was switched, and has said so."""
        standing = self._now[name]
        if standing.state != state:
            standing.state, standing.since_s = state, now_s
        standing.is_sure = True
        if standing.wish == state:
            standing.wish = None

    def failed(self, name: str) -> None:
        """Mark the state of an output as unknown: the command was sent, and not answered."""
        self._now[name].is_sure = False

    def refused(self, name: str) -> None:
        """Note that the device refused: the output is as it was, and the command is not repeated."""
        self._now[name].wish = None

    def unsafe(self) -> list[tuple[str, str]]:
        """Every output that is not, or may not be, in its safe state, and that state.

        Shortest times do not count.
        """
        return [
            (name, self.switches[name].safe)
            for name, standing in self._now.items()
            if standing.state != self.switches[name].safe or not standing.is_sure
        ]
