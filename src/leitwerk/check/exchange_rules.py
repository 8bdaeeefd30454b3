"""What the messages and keywords of exchanges ask for, in terms of rules; and their names."""

from __future__ import annotations

from collections.abc import Iterator

from leitwerk.findings import KeyPath
from leitwerk.rules.definition import Action, Say, Trigger
from leitwerk.setup.exchanges import MessageEntry
from leitwerk.setup.model import Setup
from leitwerk.setup.rules import RuleEntry


def exchange_rules(setup: Setup) -> Iterator[tuple[str, RuleEntry, KeyPath]]:
    """What messages and keywords ask for in terms of rules: the name, the rule, the way to its key."""
    for name, entry in setup.exchanges.items():
        for line, message in entry.says.messages.items():
            full, path = f"{name}.{line}", ("exchanges", name, "says", "messages", line)
            for trigger in message.when:
                yield full, _rule(trigger, (Say(full),), message), path
        for line, keyword in entry.understands.keywords.items():
            full, path = f"{name}.{line}", ("exchanges", name, "understands", "keywords", line)
            if keyword.do:
                yield full, _rule(Trigger(event=f"heard {full}"), keyword.do), path


def _rule(
    trigger: Trigger, actions: tuple[Action, ...], message: MessageEntry | None = None
) -> RuleEntry:
    return RuleEntry(when=trigger, do=actions, at_most=message.at_most if message else None)


def lines_of(setup: Setup) -> dict[str, str]:
    """Every message and keyword by its full name, as actions and events name them: which it is."""
    return {
        f"{name}.{line}": kind
        for name, entry in setup.exchanges.items()
        for group, kind in (
            (entry.says.messages, "message"),
            (entry.understands.keywords, "keyword"),
        )
        for line in group
    }
