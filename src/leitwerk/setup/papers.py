"""What reports of a recording hold, as a setup file says it: header fields, a logo, what is judged."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, WithJsonSchema

from leitwerk.errors import QuantityError
from leitwerk.parsing.durations import parse_duration
from leitwerk.parsing.models import Model, reader, text_of
from leitwerk.parsing.quantities import Quantity, parse_quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.fields import DurationField, Line, QuantityField, RangeField
from leitwerk.setup.limits import UsedLimitsField

_VALID = "a number of times outside (0, 2), or a time outside in all (30 min)"


def _at_most(value: object) -> int | Quantity:
    text = text_of(value, _VALID)
    if text.isdecimal() and len(text) < 7:
        return int(text)
    try:
        return parse_duration(text)
    except QuantityError as error:
        raise QuantityError(f"{text[:40]!r}: {error.message}", valid=_VALID) from None


def _share(value: object) -> Quantity:
    valid = "a share such as 95 %"
    text = text_of(value, valid)
    share = parse_quantity(text)
    if share.unit is None or share.unit.dimension != "ratio":
        raise QuantityError(f"{text[:40]!r} is no share", valid=valid)
    if not 0.0 < share.value_in(parse_unit("%")) <= 100.0:
        raise QuantityError(f"{text[:40]!r} is no share", valid="above 0 %, at most 100 %")
    return share


AtMostField = Annotated[
    int | Quantity,
    reader((int, Quantity), _at_most),
    WithJsonSchema({"type": ["string", "integer"], "description": _VALID}),
]
ShareField = Annotated[
    Quantity,
    reader(Quantity, _share),
    WithJsonSchema({"type": "string", "description": "A share", "examples": ["95 %", "100 %"]}),
]


class JudgedGroup(Model):
    """Alarms that are judged together: how often, or how long in all, values may lie outside."""

    alarms: list[Line] = Field(description="The alarms, by their full names: air_top.too_hot")
    at_most: AtMostField = Field(0, description="Times outside that are allowed, or a time in all")


class JudgedShare(Model):
    """Channels whose values of an interval are to lie within limits, in a share of all intervals."""

    channels: list[Line] = Field(description="The channels, each of which is judged")
    within: RangeField = Field(description="The limits, both of them allowed: 207..253 V")
    each: DurationField = Field(description="The interval: 10 min, from full hours of UTC")
    value: Literal["mean", "root mean square"] = Field(
        "mean", description="Which value of an interval counts"
    )
    at_least: ShareField = Field(description="Share of the intervals that lie within: 95 %")

    @property
    def share(self) -> float:
        """The share that is wanted, above 0 and at most 1."""
        return self.at_least.value_in(parse_unit("1"))


class Exposure(Model):
    """The daily noise exposure of a person, judged by what the recording of a shift holds."""

    level: Line = Field(description="The channel with the A-weighted equivalent level")
    peak: Line | None = Field(None, description="The channel with the C-weighted peak level")
    day: DurationField | None = Field(
        None, description="How long the shift lasts; as long as it was recorded, if not given"
    )
    at_most: QuantityField = Field(description="The daily exposure that is allowed: 85 dB")
    peak_at_most: QuantityField | None = Field(
        None, description="The peak level that is allowed: 137 dB"
    )
    uncertainty: QuantityField | None = Field(
        None, description="Standard uncertainty of the level; 1.22 dB if not given"
    )


class Totals(Model):
    """What is added up by the clock of the place: powers, flows, counters."""

    channels: list[Line] = Field(
        description="Powers and flows, which are integrated, and counters, whose increases count"
    )
    each: Literal["hour", "day", "month"] = Field("day", description="The period of one total")
    highest_mean: DurationField | None = Field(
        None, description="The interval whose highest mean is reported: 15 min"
    )
    tariffs: dict[Line, Line] = Field(
        default_factory=dict,
        description="Days and times that are added up apart, by name: Mo-Fr 06:00..22:00, other",
    )
    holidays: list[Line] = Field(
        default_factory=list, description="Dates that are a 'holiday' of the tariffs"
    )


class Papers(Model):
    """What reports of this setup's recordings hold."""

    header: dict[Line, Line] = Field(
        default_factory=dict, description="Header fields by their names: company, load, journey"
    )
    logo: Line | None = Field(None, description="A picture beside this file: PNG or JPEG")
    judged: dict[str, JudgedGroup] = Field(
        default_factory=dict, description="Groups of alarms that are judged, by name"
    )
    shares: dict[str, JudgedShare] = Field(
        default_factory=dict, description="Limits that hold in a share of all intervals, by name"
    )
    limits: UsedLimitsField | None = Field(
        None, description="A set that gives shares: supply-voltage, by the nominal voltage"
    )
    exposure: Exposure | None = Field(None, description="The daily noise exposure, judged")
    totals: Totals | None = Field(None, description="What is added up by the clock")
