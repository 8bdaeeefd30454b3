"""How sound is evaluated, as a setup file says it: evaluations with names, the range, the calibrator."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from leitwerk.errors import QuantityError
from leitwerk.parsing.local_time import LocalTime, parse_local
from leitwerk.parsing.models import Model, YesNo, reader, text_of
from leitwerk.parsing.quantities import Quantity, parse_quantity
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
    stores: Literal["equivalent", "all"] = Field(
        "all", description="What a recording of the meter holds of it: the equivalent level, or all"
    )
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


_ABOVE = re.compile(r"above +(\S.*)")
_STARTS = "at once; 2026-03-02 06:00; above 80 dB"


@dataclass(frozen=True, slots=True)
class StartOfSound:
    """When a recording begins that was started: at a local time, above a level in dB, or at once."""

    at: LocalTime | None = None
    above_db: float | None = None

    def __str__(self) -> str:
        if self.at is not None:
            return str(self.at)
        return "at once" if self.above_db is None else f"above {self.above_db:g} dB"


def _start(value: object) -> StartOfSound:
    text = text_of(value, _STARTS).strip()
    if text == "at once":
        return StartOfSound()
    if match := _ABOVE.fullmatch(text):
        level = parse_quantity(match[1])
        if str(level.unit) != "dB":
            raise QuantityError(f"{match[1][:40]!r} is no level", valid="above 80 dB")
        return StartOfSound(above_db=level.value)
    if text[:1].isdigit():
        return StartOfSound(at=parse_local(text))
    raise QuantityError(f"{text[:60]!r} is not a start of a recording", valid=_STARTS)


StartOfSoundField = Annotated[
    StartOfSound,
    reader(StartOfSound, _start),
    text_schema("When a recording begins that was started", *_STARTS.split("; ")),
]


class Sound(Model):
    """How a sound level meter, or a recording of sound, is evaluated."""

    integration: DurationField = Field(
        default_factory=lambda: _quantity(1.0, "s"), description="For how long each level is made"
    )
    range: RangeField | None = Field(
        None, description="The measuring range: levels outside are marked"
    )
    evaluations: dict[str, EvaluationEntry] = Field(description="Evaluations by name")
    start: StartOfSoundField = Field(
        default_factory=StartOfSound, description="When a recording begins that was started"
    )
    audio: DurationField | None = Field(
        None, description="How much of a recording is kept as sound, from its start"
    )
    erase_back: DurationField | None = Field(
        None, description="How much 'leitwerk record SETUP erase-back' takes away"
    )
    corrections: dict[Line, dict[Line, QuantityField]] = Field(
        default_factory=dict,
        description="Levels that are added by frequency, of a windscreen or a microphone: {4 kHz: 0.3 dB}",
    )
    calibrator: CalibratorEntry | None = None
