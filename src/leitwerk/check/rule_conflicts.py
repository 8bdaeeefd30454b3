"""Checking rules against each other: outputs they fight over, and rings of rules that set each other off."""

from __future__ import annotations

import graphlib
from collections import defaultdict
from collections.abc import Iterator, Sequence
from itertools import islice, product

from leitwerk.alarms.conditions import AllOf, Compared, Condition, Not, Stated, sentences
from leitwerk.findings import Findings
from leitwerk.rules.definition import Pulse, Rule, SwitchOutput

_MOST_PAIRS = 20_000  # of rules about one output, that are held against each other
_MOST_TOLD = 3


def _switched(rule: Rule) -> Iterator[SwitchOutput]:
    escalated = rule.escalation.actions if rule.escalation else ()
    for action in (*rule.actions, *escalated):
        if isinstance(action, SwitchOutput):
            yield action


def check_fights(rules: Sequence[Rule], findings: Findings) -> None:
    """Rules that want an output on and off, and of which both may hold at the same time."""
    wishes: dict[str, dict[str, list[Rule]]] = defaultdict(lambda: defaultdict(list))
    for rule in rules:
        for action in _switched(rule):
            wishes[action.output][action.state].append(rule)
    for output, by_state in wishes.items():
        # Each output by its first pairs only: thousands of rules would take hours.
        pairs = islice(product(by_state.get("on", []), by_state.get("off", [])), _MOST_PAIRS)
        fights = ((one, other) for one, other in pairs if not _exclude(one, other))
        for first, second in islice(fights, _MOST_TOLD):
            findings.warning(
                "outputs-fight",
                ("rules", second.name),
                f"{first.name} wants {output} on, {second.name} off, and both can hold at the same "
                f"time; the later one wins",
                at_key=True,
                remedy="let one hold only while the other does not",
            )
        lonely = [r for r in by_state.get("on", []) if not by_state.get("off")]
        for rule in lonely[:1]:
            findings.note(
                "never-switched-back",
                ("rules", rule.name),
                f"nothing switches {output} off again but its limit, or the end of the run",
                at_key=True,
            )


def _exclude(first: Rule, second: Rule) -> bool:
    """Whether two rules can never hold together, as far as their conditions show."""
    ours, theirs = (list(_facts(rule)) for rule in (first, second))
    for mine in ours:
        for other in theirs:
            if mine == Not(other) or other == Not(mine):
                return True
            if (
                isinstance(mine, Stated)
                and isinstance(other, Stated)
                and mine.subject == other.subject
                and mine.state != other.state
                and "active" not in {mine.state, other.state}
            ):
                return True
            if {type(mine), type(other)} == {Stated, Stated} and _normal_and_active(mine, other):
                return True
            if isinstance(mine, Compared) and isinstance(other, Compared) and _apart(mine, other):
                return True
    return False


def _facts(rule: Rule) -> Iterator[Condition]:
    """What must hold for a rule to act, each by itself."""
    for condition in (rule.trigger.condition, rule.only_if):
        if isinstance(condition, AllOf):
            yield from condition.parts
        elif condition is not None:
            yield condition


def _normal_and_active(one: Condition, other: Condition) -> bool:
    assert isinstance(one, Stated)
    assert isinstance(other, Stated)
    states = {one.state, other.state}
    return (
        one.subject == other.subject
        and "active" in states
        and bool(states & {"normal", "pending", "shelved", "suppressed"})
    )


def _apart(one: Compared, other: Compared) -> bool:
    if one.channel != other.channel or one.above == other.above:
        return False
    above, below = (one, other) if one.above else (other, one)
    return above.limit.value >= below.limit.value


def check_rings(rules: Sequence[Rule], findings: Findings) -> None:
    """Rules that set off each other in a ring: outputs that switch what switches them."""
    reads: dict[str, list[str]] = defaultdict(list)
    for rule in rules:
        for condition in (rule.trigger.condition, rule.only_if):
            if condition is not None:
                for sentence in sentences(condition):
                    # That an operator acknowledges an alarm does not make it active.
                    if isinstance(sentence, Stated) and sentence.state != "active":
                        reads[sentence.subject].append(rule.name)
    graph: dict[str, set[str]] = {rule.name: set() for rule in rules}
    for rule in rules:
        for subject in _touched(rule):
            for reader in reads.get(subject, []):
                graph[reader].add(rule.name)
    try:
        graphlib.TopologicalSorter(graph).prepare()
    except graphlib.CycleError as error:
        ring = error.args[1]
        message = f"these rules set each other off in a ring: {' → '.join(reversed(ring[:8]))}"
        findings.error(
            "rule-ring", ("rules", ring[0]), message, at_key=True, remedy="break it with a condition "
            "on something that none of them switches",
        )  # fmt: skip


def _touched(rule: Rule) -> Iterator[str]:
    escalated = rule.escalation.actions if rule.escalation else ()
    for action in (*rule.actions, *escalated):
        if isinstance(action, SwitchOutput | Pulse):
            yield action.output
