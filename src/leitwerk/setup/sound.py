"""How sound is evaluated, as a setup file says it: evaluations with names, the range, the calibrator."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from leitwerk.parsing.models import Model, YesNo
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.fields import DurationField, Line, QuantityField, RangeField, text_schema


def _quantity(value: float, unit: str) -> Quantity:
    return Quantity(value, parse_unit(unit))


PercentField = Annotated[Line, text_schema("A part of the time in %", "10", "90", numbers=True)]


class EvaluationEntry(Model):
    """One way to evaluate the signal; several work at once."""

    weighting: Literal["A", "C", "Z"] = Field("A", description="The frequency weighting")
    time: Literal["fast", "slow", "impulse", "none"] = Field(
        "fast", description="The time weighting"
    )
    percentiles: list[PercentField] = Field(
        default_factory=list,
        description="Levels that are exceeded for a part of the time: 10 for L10",
    )
    peak: YesNo = Field("no", description="Whether with the peak level")
    bands: Literal["none", "octave", "third octave"] = Field(
        "none", description="The bands whose levels it has"
    )
    lowest: QuantityField = Field(
        default_factory=lambda: _quantity(25.0, "Hz"),
        description="Mid frequency of the lowest band",
    )
    highest: QuantityField = Field(
        default_factory=lambda: _quantity(16.0, "kHz"),
        description="Mid frequency of the highest band",
    )


class CalibratorEntry(Model):
    """The acoustic calibrator, and what the meter showed with it before and after the measurement."""

    level: QuantityField = Field(description="The level that it gives")
    frequency: QuantityField = Field(
        default_factory=lambda: _quantity(1.0, "kHz"), description="At this frequency"
    )
    correction: QuantityField = Field(
        default_factory=lambda: _quantity(0.0, "dB"),
        description="What the microphone shows of it more, by its data: from pressure to free field",
    )
    before: QuantityField | None = Field(None, description="What it showed before")
    after: QuantityField | None = Field(None, description="What it showed after")
    drift: QuantityField = Field(
        default_factory=lambda: _quantity(0.5, "dB"),
        description="How far these two may be apart, and each from the level",
    )


class Sound(Model):
    """How a sound level meter, or a recording of sound, is evaluated."""

    integration: DurationField = Field(
        default_factory=lambda: _quantity(1.0, "s"), description="For how long each level is made"
    )
    range: RangeField | None = Field(
        None, description="The measuring range: levels outside are marked"
    )
    evaluations: dict[str, EvaluationEntry] = Field(description="Evaluations by name")
    calibrator: CalibratorEntry | None = None
