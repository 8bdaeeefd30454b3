"""Alarms and bands as a setup file holds them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field, PrivateAttr, WithJsonSchema

from leitwerk.alarms.conditions import (
    AllOf,
    AnyOf,
    Compared,
    Condition,
    Not,
    Stated,
    TimeOfDay,
    parse_condition,
)
from leitwerk.parsing.models import Model, YesNo, reader, text_of
from leitwerk.parsing.quantities import Quantity, Span, format_number, parse_quantity, parse_span
from leitwerk.setup.fields import DurationField, Line, QuantityField, RangeField

_SHARE = re.compile(r"\s*([-+−]?\d+(?:\.\d+)?)\s*% +of +(span|expected)\s*")
NO_READING = "no reading"
EXPECTED = "expected"


@dataclass(frozen=True, slots=True)
class Share:
    """A limit given as a part of the channel's span, or of the value that is expected."""

    percent: float
    of: str

    def __str__(self) -> str:
        return f"{format_number(self.percent)} % of {self.of}"


def _limit(value: object) -> Quantity | Share:
    text = text_of(value, "a number with a unit, or 90 % of span")
    if match := _SHARE.fullmatch(text):
        return Share(float(match[1].replace("−", "-")), match[2])
    return parse_quantity(text)


def _clear(value: object) -> Quantity | Span | Share:
    text = text_of(value, "a number with a unit, or a span")
    return parse_span(text) if ".." in text or "±" in text else _limit(text)


_LIMIT_SHAPE = {
    "type": ["string", "number"],
    "description": "A value, or a part of the channel's span or of the expected value",
    "examples": ["78 °C", "90 % of span", "110 % of expected"],
}
LimitField = Annotated[
    Quantity | Share, reader((Quantity, Share), _limit), WithJsonSchema(_LIMIT_SHAPE)
]
ClearField = Annotated[
    Quantity | Span | Share, reader((Quantity, Span, Share), _clear), WithJsonSchema(_LIMIT_SHAPE)
]
ConditionField = Annotated[
    Condition,
    reader((Compared, Stated, TimeOfDay, Not, AllOf, AnyOf), parse_condition),
    WithJsonSchema(
        {
            "description": "What must hold: a sentence, a list of them, or a group of conditions",
            "anyOf": [{"type": "string"}, {"type": "array"}, {"type": "object"}],
            "examples": ["door is ajar", "air_top above 40 °C", "air_top.too_hot is active"],
        }
    ),
]


@dataclass(frozen=True, slots=True)
class Origin:
    """The limit set that an alarm comes from, and the keys that the setup gives itself."""

    set: str = ""
    own: tuple[str, ...] = ()


class Alarm(Model):
    """A condition on a channel: it trips at one point, and clears at another."""

    above: LimitField | None = Field(None, description="Trips when the value rises above this")
    below: LimitField | None = Field(None, description="Trips when the value falls below this")
    outside: RangeField | None = Field(None, description="Trips outside this span")
    inside: RangeField | None = Field(None, description="Trips inside this span")
    rises: QuantityField | None = Field(
        None, description="Trips when the value rises by more than this within 'within'"
    )
    falls: QuantityField | None = Field(
        None, description="Trips when the value falls by more than this within 'within'"
    )
    changes: QuantityField | None = Field(
        None, description="Trips when the value rises or falls by more than this within 'within'"
    )
    within: DurationField | None = Field(None, description="For rises, falls and changes")
    differs_from: Line | None = Field(
        None,
        description="Trips when the value is off by more than 'by' from another channel, or "
        "from what is expected",
    )
    by: QuantityField | None = Field(None, description="For differs_from")
    when: Line | None = Field(
        None, description="Trips in this state of a contact, or when there is 'no reading'"
    )
    clear: ClearField | None = Field(
        None, description="Clears when the value is back here; the trip point itself if not given"
    )
    hysteresis: QuantityField | None = Field(
        None, description="Instead of 'clear': so far on the safe side of the trip point"
    )
    after: DurationField | None = Field(
        None, description="Trips only when the condition has held for this time"
    )
    clears_after: DurationField | None = Field(
        None, description="Clears only when the value has been back for this time"
    )
    latch: YesNo = Field("no", description="Stays until it is acknowledged and reset")
    acknowledge: YesNo = Field("no", description="Stays until an operator has acknowledged it")
    severity: Literal["low", "medium", "high"] = Field("medium", description="How urgent it is")
    only_while: ConditionField | None = Field(
        None, description="The alarm is watched only while this holds"
    )

    _origin: Origin = PrivateAttr(default_factory=Origin)

    @property
    def origin(self) -> Origin:
        """The limit set that the alarm comes from, if any."""
        return self._origin


class Band(Model):
    """A named part of a channel's span, up to ``to``."""

    to: QuantityField | None = Field(
        None, description="Where the band ends, this value counted in; the last one may be open"
    )
    start: QuantityField | None = Field(
        None, description="Where the band begins; at the end of the one before if not given"
    )
    text: Line | None = Field(None, description="What is shown; the band's name if not given")
    color: Literal["green", "amber", "red", "blue", "grey"] | None = Field(
        None, description="In what colour"
    )
