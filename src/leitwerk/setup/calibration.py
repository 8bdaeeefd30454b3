"""What is known of a channel beside its wiring: its calibration and its tares."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Annotated

from pydantic import Field, WithJsonSchema

from leitwerk.errors import QuantityError
from leitwerk.parsing.models import Model, reader, shown, text_of
from leitwerk.parsing.quantities import Quantity, parse_expected, parse_quantity
from leitwerk.setup.fields import Line, QuantityField


@dataclass(frozen=True, slots=True)
class AsFoundPoints:
    """Pairs of reading and reference, as found at a calibration.

    ``expanded`` has the expanded uncertainty (k = 2) of each pair, None where it is not given.
    """

    points: tuple[tuple[Quantity, Quantity], ...]
    expanded: tuple[Quantity | None, ...]


def _date(value: object) -> dt.date:
    text = text_of(value, "a date such as 2026-03-02")
    try:
        return dt.date.fromisoformat(text)
    except ValueError:
        raise QuantityError(
            f"{text[:40]!r} is not a date", valid="year-month-day, 2026-03-02"
        ) from None


def _found(value: object) -> AsFoundPoints:
    valid = "pairs of reading and reference, such as {20.1 °C: 20.0 °C, 80.3 °C: 80.0 °C}"
    if not isinstance(value, dict) or not value:
        raise QuantityError(f"{shown(value)} are not calibration points", valid=valid)
    points: list[tuple[Quantity, Quantity]] = []
    expanded: list[Quantity | None] = []
    for reading, text in value.items():
        written = text_of(text, valid)
        if "±" in written or "+-" in written or "+/-" in written:
            both = parse_expected(written)
            reference, wide = Quantity(both.value, both.unit), Quantity(both.tolerance, both.unit)
            points.append((parse_quantity(reading), reference))
            expanded.append(wide)
        else:
            points.append((parse_quantity(reading), parse_quantity(written)))
            expanded.append(None)
    return AsFoundPoints(tuple(points), tuple(expanded))


def _kind(value: object) -> str:
    text = text_of(value, "a kind of correction")
    known = ("none", "offset", "gain", "offset and gain", "table")
    if text not in known and not (text.startswith("polynomial ") and text[11:] in set("23456789")):
        message = f"{text[:40]!r} is not a kind of correction"
        raise QuantityError(message, valid=", ".join((*known, "polynomial 2")))
    return text


DateField = Annotated[
    dt.date,
    reader(dt.date, _date),
    WithJsonSchema({"type": "string", "format": "date", "description": "Year-month-day"}),
]
FoundField = Annotated[
    AsFoundPoints,
    reader(AsFoundPoints, _found),
    WithJsonSchema(
        {
            "type": "object",
            "description": "Pairs of reading and reference: {20.1 °C: 20.0 °C}; the reference may have its "
            "expanded uncertainty, k = 2: {20.1 °C: 20.0 ± 0.1 °C}",
            "minProperties": 1,
            "additionalProperties": {"type": ["string", "number"]},
        }
    ),
]
KindField = Annotated[
    str,
    reader((), _kind),
    WithJsonSchema(
        {
            "type": "string",
            "description": "Which correction is made of the points",
            "examples": ["offset", "gain", "offset and gain", "polynomial 2", "table", "none"],
        }
    ),
]


# No key is called "on": YAML 1.1, which many editors follow, takes that for a truth value.
class Calibration(Model):
    """A calibration: when, with what, what was found, and what is made of it."""

    date: DateField = Field(description="The day of the calibration")
    due: DateField = Field(description="The day by which it has to be repeated")
    reference: Line = Field(description="The instrument it was compared with")
    found: FoundField = Field(description="Pairs of reading and reference")
    correct: KindField = Field("offset and gain", description="Which correction is applied")
    uncertainty: QuantityField | None = Field(None, description="Expanded uncertainty, k = 2")
    before: FoundField | None = Field(
        None, description="Pairs before the sensor was adjusted; 'found' are those behind it"
    )
    left: FoundField | None = Field(
        None, description="Pairs of reading and reference as left, with the correction in force"
    )
    certificate: Line | None = Field(None, description="The number of its certificate")
    conditions: dict[str, QuantityField] = Field(
        default_factory=dict, description="What prevailed, such as the temperature"
    )


class TareEntry(Model):
    """A tare: what is taken off, and since when."""

    offset: QuantityField = Field(description="What is taken off")
    taken: Line = Field(description="When it was taken")
