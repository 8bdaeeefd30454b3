"""What each finding means and what to do, by the name of its rule: texts that ship with the package."""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from functools import cache
from importlib import resources

import yaml

from leitwerk.errors import QuantityError


@dataclass(frozen=True, slots=True)
class FindingHelp:
    """One rule: how much its finding weighs, what causes it, what to do."""

    rule: str
    severity: str
    cause: str
    remedy: str

    @property
    def page(self) -> str:
        """Its address in the built documentation."""
        return f"reference/findings.html#{self.rule}"  # as in Finding.to_dict


@cache
def finding_groups() -> dict[str, tuple[FindingHelp, ...]]:
    """All rules, by what they are about."""
    text = (resources.files("leitwerk") / "help" / "findings.yaml").read_text("utf-8")
    return {
        group: tuple(FindingHelp(rule, *entry) for rule, entry in rules.items())
        for group, rules in yaml.safe_load(text).items()
    }


def find_help(rule: str) -> FindingHelp:
    """What a rule means.

    Raises
    ------
    QuantityError
        There is no such rule; the nearest is named.

    """
    rule = str(rule)
    known = {one.rule: one for rules in finding_groups().values() for one in rules}
    if rule not in known:
        near = difflib.get_close_matches(rule[:60], known, n=1)
        raise QuantityError(
            f"no finding is called {rule[:60]!r}", valid="the name of a rule, as 'leitwerk check' shows it",
            remedy=f"did you mean {near[0]!r}?" if near else "",
        )  # fmt: skip
    return known[rule]
