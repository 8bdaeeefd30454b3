"""Which rules act now: conditions, timers, repeats, quiet hours, escalations. Does nothing itself."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from leitwerk.alarms.conditions import Condition, Facts, Not, Stated, holds, sentences
from leitwerk.alarms.states import State
from leitwerk.parsing.durations import CLOSE_S
from leitwerk.rules.definition import Action, Change, Happening, Notify, Rule, Trigger

UNACKNOWLEDGED = State.UNACKNOWLEDGED.words


@dataclass(frozen=True, slots=True)
class Due:
    """An action that is due, and why."""

    rule: str
    action: Action
    why: str


@dataclass(slots=True)
class _RuleState:
    """What has to be remembered of a rule: whether its condition held, when it acted last, since when
    its timer runs, the last local day on which its time of day was reached, the value that it acted at.
    """

    timer_s: float
    held: bool | None = None
    acted_s: float = -math.inf
    day: int | None = None
    escalates_s: float | None = None
    value: float | None = None
    kept_back: list[tuple[Notify, str]] = field(default_factory=list)


class _Moment(NamedTuple):
    """A moment at which rules are asked."""

    now_s: float
    day: int
    facts: Facts
    happened: tuple[Happening, ...]


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
        self._states = [_RuleState(now_s) for _ in rules]
        # A message that waits for several things is several rules with one name: they share their pause.
        self._acted_s = dict.fromkeys((rule.name for rule in rules), -math.inf)

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
        moment = _Moment(now_s, day, facts, tuple(happenings))
        due: list[Due] = []
        for rule, state in zip(self.rules, self._states, strict=True):
            why = self._reason(rule, state, moment)
            if why:
                due += self._act(rule, state, why, moment)
            due += self._escalate(rule, state, moment)
            due += self._release(rule, state, moment)
        return due

    def _reason(self, rule: Rule, state: _RuleState, moment: _Moment) -> str:
        """Why a rule acts now; empty when it does not. Its state takes note of the moment."""
        trigger = rule.trigger
        allowed = _is_allowed(rule, moment)
        if trigger.condition is not None:
            why = _by_condition(rule, trigger.condition, state, moment)
        elif trigger.every_s is not None:
            why = _by_timer(trigger.every_s, state, moment) if allowed else ""
            _restart_timer(trigger.every_s, state, moment)
        elif trigger.daily_s is not None:
            why = str(trigger) if _by_time_of_day(trigger.daily_s, state, moment) else ""
            why = why if allowed else ""
        elif trigger.change is not None:
            why = _by_change(trigger.change, state, moment) if allowed else ""
        else:
            why = _by_happening(trigger, moment) if allowed else ""
        return why if moment.now_s - self._acted_s[rule.name] >= rule.pause_s - CLOSE_S else ""

    def _act(self, rule: Rule, state: _RuleState, why: str, moment: _Moment) -> list[Due]:
        state.acted_s = self._acted_s[rule.name] = moment.now_s
        if rule.trigger.change is not None:
            state.value = moment.facts.value(rule.trigger.change.channel)
        if rule.escalation is not None:
            state.escalates_s = moment.now_s + rule.escalation.after_s
        quiet = rule.quiet is not None and bool(holds(rule.quiet, moment.facts))
        due = []
        for action in rule.actions:
            if quiet and isinstance(action, Notify):
                state.kept_back.append((action, why))
            else:
                due.append(Due(rule.name, action, why))
        return due

    def _escalate(self, rule: Rule, state: _RuleState, moment: _Moment) -> list[Due]:
        if rule.escalation is None or state.escalates_s is None:
            return []
        states = [moment.facts.states(alarm.subject) for alarm in _alarms(rule)]
        if not any(found is not None and UNACKNOWLEDGED in found for found in states):
            state.escalates_s = None  # an operator has seen it, or it is over
            return []
        if moment.now_s < state.escalates_s:
            return []
        state.escalates_s = None
        why = f"not acknowledged within {rule.escalation.after_s:g} s"
        return [Due(rule.name, action, why) for action in rule.escalation.actions]

    def _release(self, rule: Rule, state: _RuleState, moment: _Moment) -> list[Due]:
        """Notifications that were kept back in quiet hours, when these are over."""
        if not state.kept_back or (rule.quiet is not None and holds(rule.quiet, moment.facts)):
            return []
        kept, state.kept_back = state.kept_back, []
        return [Due(rule.name, action, f"{why}, kept back in quiet hours") for action, why in kept]

    # ------------------------------------------------------------------ kept and taken up again

    def to_dict(self, now_s: float) -> dict[str, Any]:
        """Where every rule stands, for JSON; times are given as how long ago, or in how long."""
        return {"rules": [rule.name for rule in self.rules],
                "states": [_kept(state, now_s) for state in self._states]}  # fmt: skip

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
        self._states = [_taken_up(entry, then_s) for entry in kept["states"]]
        for rule, state in zip(self.rules, self._states, strict=True):
            self._acted_s[rule.name] = max(self._acted_s[rule.name], state.acted_s)


def _kept(state: _RuleState, now_s: float) -> dict[str, Any]:
    acted = state.acted_s
    return {
        "timer_ago_s": now_s - state.timer_s,
        "held": state.held,
        "acted_ago_s": None if math.isinf(acted) else now_s - acted,
        "day": state.day,
        "escalates_in_s": None if state.escalates_s is None else state.escalates_s - now_s,
        "value": state.value,
        "kept_back": [[list(n.contacts), n.text, why] for n, why in state.kept_back],
    }


def _taken_up(entry: Mapping[str, Any], then_s: float) -> _RuleState:
    ago, coming = entry["acted_ago_s"], entry["escalates_in_s"]
    return _RuleState(
        then_s - entry["timer_ago_s"],
        entry["held"],
        -math.inf if ago is None else then_s - ago,
        entry["day"],
        None if coming is None else then_s + coming,
        entry.get("value"),
        [(Notify(tuple(to), text), why) for to, text, why in entry["kept_back"]],
    )


def _is_allowed(rule: Rule, moment: _Moment) -> bool | None:
    """Whether ``only_if`` holds; None when that is not known."""
    return True if rule.only_if is None else holds(rule.only_if, moment.facts)


def _by_condition(rule: Rule, condition: Condition, state: _RuleState, moment: _Moment) -> str:
    """Why a rule acts by its condition: it has become true, or is still true and repeats."""
    found, allowed = holds(condition, moment.facts), _is_allowed(rule, moment)
    # Kleene's "and": one that is false decides, else one unknown leaves it as it was.
    if False in (found, allowed):
        now = False
    elif None in (found, allowed):
        return ""
    else:
        now = True
    # What is true from the start has become true; that something is *not* so has not.
    before = isinstance(condition, Not) if state.held is None else state.held
    state.held = now
    if now and not before:
        return str(condition)
    is_due = rule.again_s is not None and moment.now_s - state.acted_s >= rule.again_s - CLOSE_S
    return f"{condition}, still" if now and is_due else ""


def _by_timer(every_s: float, state: _RuleState, moment: _Moment) -> str:
    return f"every {every_s:g} s" if moment.now_s - state.timer_s >= every_s - CLOSE_S else ""


def _restart_timer(every_s: float, state: _RuleState, moment: _Moment) -> None:
    """Let a timer that has run out run on from when it should have: late steps do not shift it."""
    if moment.now_s - state.timer_s >= every_s - CLOSE_S:
        state.timer_s += math.floor((moment.now_s - state.timer_s + CLOSE_S) / every_s) * every_s


def _by_time_of_day(daily_s: float, state: _RuleState, moment: _Moment) -> bool:
    """Whether a time of day has been reached since the last step; not at the very first."""
    reached = moment.day if moment.facts.time_of_day_s >= daily_s else moment.day - 1
    before, state.day = state.day, reached
    return before is not None and reached > before


def _by_change(change: Change, state: _RuleState, moment: _Moment) -> str:
    """Why a rule acts by a change; the first value that is known counts as one."""
    value = moment.facts.value(change.channel)
    if value is None or not math.isfinite(value):
        return ""
    if state.value is not None and abs(value - state.value) < change.band.value:
        return ""
    return str(change)


def _by_happening(trigger: Trigger, moment: _Moment) -> str:
    """Why a rule acts by a message or an event, empty when none has come."""
    return next(
        (_words(h) for h in moment.happened if _matches(trigger.message, trigger.event, h)), ""
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


def _words(happening: Happening) -> str:
    if happening.event:
        return happening.event
    return f"message {happening.message} from {happening.sender}"
