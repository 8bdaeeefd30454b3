"""What begins an event of an analyzer of power, as a setup file says it."""

from __future__ import annotations

from pydantic import Field

from leitwerk.parsing.models import Model
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.setup.fields import DurationField, QuantityField


def _percent(value: float) -> Quantity:
    return Quantity(value, parse_unit("%"))


def _milliseconds(value: float) -> Quantity:
    return Quantity(value, parse_unit("ms"))


class Triggers(Model):
    """Thresholds in % of the nominal voltage; what is not typed is as the standards have it.

    References
    ----------
    EN 50160:2022, 3; IEC 61000-4-30:2015, 5.4.2, 5.5.1, 5.11 and annexes A.3, B.4.

    """

    dip: QuantityField = Field(
        default_factory=lambda: _percent(90.0), description="A voltage below it is a dip"
    )
    swell: QuantityField = Field(
        default_factory=lambda: _percent(110.0), description="A voltage above it is a swell"
    )
    interruption: QuantityField = Field(
        default_factory=lambda: _percent(5.0),
        description="All voltages below it are an interruption",
    )
    hysteresis: QuantityField = Field(
        default_factory=lambda: _percent(2.0),
        description="How far behind its threshold an event ends",
    )
    change: QuantityField = Field(
        default_factory=lambda: _percent(5.0), description="A rapid change is larger than this"
    )
    transient: QuantityField = Field(
        default_factory=lambda: _percent(30.0),
        description="A transient leaves the cycle before by this part of the nominal peak",
    )
    inrush: QuantityField | None = Field(None, description="A current above it is an inrush")
    power: QuantityField | None = Field(
        None, description="A mean power of a minute above it is an alarm"
    )
    before: DurationField = Field(
        default_factory=lambda: _milliseconds(200.0),
        description="How much of a waveform is kept before an event",
    )
    after: DurationField = Field(
        default_factory=lambda: _milliseconds(200.0),
        description="How much of it is kept after an event",
    )
