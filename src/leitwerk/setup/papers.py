"""What reports of a recording hold, as a setup file says it: header fields, a logo, what is judged."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, WithJsonSchema

from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import parse_duration
from leitwerk.parsing.models import Model, reader, text_of
from leitwerk.parsing.quantities import Quantity
from leitwerk.setup.fields import Line

_VALID = "a number of times outside (0, 2), or a time outside in all (30 min)"


def _at_most(value: object) -> int | Quantity:
    text = text_of(value, _VALID)
    if text.isdecimal() and len(text) < 7:
        return int(text)
    try:
        return parse_duration(text)
    except QuantityError as error:
        raise QuantityError(f"{text[:40]!r}: {error.message}", valid=_VALID) from None


AtMostField = Annotated[
    int | Quantity,
    reader((int, Quantity), _at_most),
    WithJsonSchema({"type": ["string", "integer"], "description": _VALID}),
]


class JudgedGroup(Model):
    """Alarms that are judged together: how often, or how long in all, values may lie outside."""

    alarms: list[Line] = Field(description="The alarms, by their full names: air_top.too_hot")
    at_most: AtMostField = Field(0, description="Times outside that are allowed, or a time in all")


class Papers(Model):
    """What reports of this setup's recordings hold."""

    header: dict[Line, Line] = Field(
        default_factory=dict, description="Header fields by their names: company, load, journey"
    )
    logo: Line | None = Field(None, description="A picture beside this file: PNG or JPEG")
    judged: dict[str, JudgedGroup] = Field(
        default_factory=dict, description="Groups of alarms that are judged, by name"
    )
