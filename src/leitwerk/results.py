"""What came of something that was tested: passed, not passed, or unknown, with the reasons."""

from __future__ import annotations

import enum
from collections.abc import Iterable
from typing import Protocol


class Outcome(enum.StrEnum):
    """How a test ended. What was not shown is unknown: it never counts as passed."""

    PASSED = "passed"
    FAILED = "not passed"
    UNKNOWN = "unknown"


class Result(Protocol):
    """Everything that ends in an outcome: a verdict, a loop check, a proof, a self-test, a budget."""

    @property
    def outcome(self) -> Outcome:
        """How it ended."""

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why it did not pass, or why that is unknown; empty when it passed."""


def overall(parts: Iterable[Outcome]) -> Outcome:
    """The outcome of several tests: one that failed decides, then one that is unknown.

    Of no test at all it is unknown.

    Examples
    --------
    >>> overall([Outcome.PASSED, Outcome.UNKNOWN]).value, overall([]).value
    ('unknown', 'unknown')

    """
    found = set(parts)
    if Outcome.FAILED in found:
        return Outcome.FAILED
    return Outcome.PASSED if found == {Outcome.PASSED} else Outcome.UNKNOWN
