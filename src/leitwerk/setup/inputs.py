"""Which values of its inputs a computed channel takes: how `inputs` is written."""

from __future__ import annotations

import re
from dataclasses import dataclass

from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import parse_duration
from leitwerk.parsing.models import text_of

SAME_MOMENT, NEWEST, LINEAR, SLOWEST = "same moment", "newest", "linear", "at the slowest"
_WITHIN = re.compile(r"(newest|linear) within +(\S.*)")
_LEAST_S = 1e-3


@dataclass(frozen=True, slots=True)
class InputRule:
    """A rule, and for *newest* and *linear* the time within which a sample counts."""

    rule: str = SAME_MOMENT
    within_s: float = 0.0


def parse_input_rule(value: object) -> InputRule:
    """The rule that a text stands for.

    Raises
    ------
    QuantityError
        There is no such rule, or its time is shorter than 1 ms.

    """
    text = text_of(value, "which values of the inputs are taken").strip()
    if text in {SAME_MOMENT, SLOWEST}:
        return InputRule(text)
    if (match := _WITHIN.fullmatch(text)) is None:
        raise QuantityError(
            f"{text!r} does not say which values of the inputs are taken",
            valid="same moment, newest within 10 s, linear within 10 s, at the slowest",
        )
    within_s = parse_duration(match[2]).seconds
    if within_s < _LEAST_S:
        raise QuantityError(f"{match[2]} is too short for that", valid="1 ms or longer")
    return InputRule(match[1], within_s)
