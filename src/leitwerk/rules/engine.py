"""Which rules act now: conditions, timers, repeats, quiet hours, escalations. Does nothing itself."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from leitwerk.alarms.conditions import Facts, Not, Stated, holds, sentences
from leitwerk.alarms.states import State
from leitwerk.rules.definition import Action, Happening, Notify, Rule

UNACKNOWLEDGED = State.UNACKNOWLEDGED.words


@dataclass(frozen=True, slots=True)
class Due:
    """An action that is due, and why."""

    rule: str
    action: Action
    why: str


@dataclass(slots=True)
class _RuleState:
    held: bool | None = None
    acted_s: float = -math.inf
    day: int | None = None
    escalates_s: float | None = None
    kept_back: list[tuple[Notify, str]] = field(default_factory=list)


class Engine:
    """Follows rules as samples come. ``step`` gives what is due, in the order of the rules.

    A rule with a condition acts when all of it becomes true, and not again before it has become false,
    unless it says so. What is true at the very start counts as having become true, but not that
    something is *not* so. What is unknown neither begins nor ends anything.

    Parameters
    ----------
    rules : sequence of Rule
    now_s : float, in s
        When it begins: timers run from here.

    """

    def __init__(self, rules: Sequence[Rule], now_s: float = 0.0) -> None:
        self.rules = tuple(rules)
        self._standing = [_RuleState() for _ in rules]
        self._timers = [now_s] * len(self.rules)

    def step(
        self,
        now_s: float,
        day: int,
        facts: Facts,
        happenings: Iterable[Happening] = (),
    ) -> list[Due]:
        """What is due at a moment.

        Parameters
        ----------
        now_s : float, in s
            On a clock that does not go back.
        day : int
            The number of the local day; ``facts`` knows the time within it.
        facts : Facts
        happenings : iterable of Happening
            Messages received and events since the last step.

        """
        happened = tuple(happenings)
        due: list[Due] = []
        for number, (rule, standing) in enumerate(zip(self.rules, self._standing, strict=True)):
            why = self._acts(number, rule, standing, now_s, day, facts, happened)
            if why:
                due += self._do(rule, standing, why, now_s, facts)
            due += self._escalate(rule, standing, now_s, facts)
            due += self._let_go(rule, standing, facts)
        return due

    def _acts(
        self,
        number: int,
        rule: Rule,
        standing: _RuleState,
        now_s: float,
        day: int,
        facts: Facts,
        happened: tuple[Happening, ...],
    ) -> str:
        """Why a rule acts now; empty when it does not."""
        trigger = rule.trigger
        why = ""
        allowed = True if rule.only_if is None else holds(rule.only_if, facts)
        if trigger.condition is not None:
            found = holds(trigger.condition, facts)
            # Kleene's "and": one that is false decides, else one unknown leaves it as it was.
            now = (
                False if False in (found, allowed) else (None if None in (found, allowed) else True)
            )
            if now is None:
                return ""
            # What is true from the start has become true; that something is *not* so has not.
            before = isinstance(trigger.condition, Not) if standing.held is None else standing.held
            began, standing.held = now and not before, now
            if began:
                why = str(trigger.condition)
            elif now and rule.again_s is not None and now_s - standing.acted_s >= rule.again_s:
                why = f"{trigger.condition}, still"
        elif trigger.every_s is not None:
            if now_s - self._timers[number] >= trigger.every_s:
                passed = math.floor((now_s - self._timers[number]) / trigger.every_s)
                self._timers[number] += passed * trigger.every_s
                why = f"every {trigger.every_s:g} s" if allowed else ""
        elif trigger.daily_s is not None:
            first, standing.day = standing.day is None, (standing.day or 0)
            reached = day if facts.time_of_day_s >= trigger.daily_s else day - 1
            if not first and reached > standing.day and allowed:
                why = str(trigger)
            standing.day = reached
        elif allowed:
            why = next(
                (_told(h) for h in happened if _matches(trigger.message, trigger.event, h)), ""
            )
        return why if now_s - standing.acted_s >= rule.pause_s else ""

    def _do(
        self, rule: Rule, standing: _RuleState, why: str, now_s: float, facts: Facts
    ) -> list[Due]:
        standing.acted_s = now_s
        if rule.escalation is not None:
            standing.escalates_s = now_s + rule.escalation.after_s
        quiet = rule.quiet is not None and bool(holds(rule.quiet, facts))
        due = []
        for action in rule.actions:
            if quiet and isinstance(action, Notify):
                standing.kept_back.append((action, why))
            else:
                due.append(Due(rule.name, action, why))
        return due

    def _escalate(self, rule: Rule, standing: _RuleState, now_s: float, facts: Facts) -> list[Due]:
        if rule.escalation is None or standing.escalates_s is None:
            return []
        alarms = [s.subject for s in _alarms(rule)]
        states = [facts.states(alarm) for alarm in alarms]
        if not any(found is not None and UNACKNOWLEDGED in found for found in states):
            standing.escalates_s = None  # an operator has seen it, or it is over
            return []
        if now_s < standing.escalates_s:
            return []
        standing.escalates_s = None
        why = f"not acknowledged within {rule.escalation.after_s:g} s"
        return [Due(rule.name, action, why) for action in rule.escalation.actions]

    def _let_go(self, rule: Rule, standing: _RuleState, facts: Facts) -> list[Due]:
        """Notifications that were kept back in quiet hours, when these are over."""
        if not standing.kept_back or (rule.quiet is not None and holds(rule.quiet, facts)):
            return []
        kept, standing.kept_back = standing.kept_back, []
        return [Due(rule.name, action, f"{why}, kept back in quiet hours") for action, why in kept]

    # ------------------------------------------------------------------ kept and taken up again

    def to_dict(self, now_s: float) -> dict[str, Any]:
        """Where every rule stands, for JSON; times are given as how long ago, or in how long."""
        return {"rules": [rule.name for rule in self.rules],
                "standing": [_kept(standing, now_s) for standing in self._standing],
                "timers": [now_s - timer for timer in self._timers]}  # fmt: skip

    def resume(self, kept: Mapping[str, Any], now_s: float, away_s: float = 0.0) -> None:
        """Go on where another engine of the same rules stood: nothing is sent twice, or forgotten.

        Parameters
        ----------
        now_s : float, in s
            On this engine's clock.
        away_s : float, in s
            How long ago that was.

        Raises
        ------
        ValueError
            It stood for other rules.

        """
        if kept.get("rules") != [rule.name for rule in self.rules]:
            raise ValueError("this state belongs to other rules")
        then_s = now_s - max(0.0, away_s)
        self._standing = [_taken_up(entry, then_s) for entry in kept["standing"]]
        self._timers = [then_s - ago for ago in kept["timers"]]


def _kept(standing: _RuleState, now_s: float) -> dict[str, Any]:
    acted = standing.acted_s
    return {
        "held": standing.held,
        "acted_ago_s": None if math.isinf(acted) else now_s - acted,
        "day": standing.day,
        "escalates_in_s": None if standing.escalates_s is None else standing.escalates_s - now_s,
        "kept_back": [[list(n.contacts), n.text, why] for n, why in standing.kept_back],
    }


def _taken_up(entry: Mapping[str, Any], then_s: float) -> _RuleState:
    ago, coming = entry["acted_ago_s"], entry["escalates_in_s"]
    return _RuleState(
        entry["held"],
        -math.inf if ago is None else then_s - ago,
        entry["day"],
        None if coming is None else then_s + coming,
        [(Notify(tuple(to), text), why) for to, text, why in entry["kept_back"]],
    )


def _alarms(rule: Rule) -> list[Stated]:
    """The alarms that a rule's condition is about."""
    if rule.trigger.condition is None:
        return []
    every = sentences(rule.trigger.condition)
    return [s for s in every if isinstance(s, Stated) and "." in s.subject]


def _matches(message: str, event: str, happening: Happening) -> bool:
    if message:
        return happening.message.casefold() == message.casefold()
    return bool(event) and happening.event == event


def _told(happening: Happening) -> str:
    if happening.event:
        return f"device {happening.event}"
    return f"message {happening.message} from {happening.sender}"
