"""How an analyzer is wired to a net, as a setup file says it: system, transformers, what is nominal."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field, WithJsonSchema

from leitwerk.errors import QuantityError
from leitwerk.parsing.models import Model, reader, text_of
from leitwerk.parsing.quantities import Quantity, parse_quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.power.system import ROTATIONS, SYSTEMS, Rotation, System
from leitwerk.setup.fields import text_schema
from leitwerk.signals.transformer import Transformer, parse_transformer

DIRECT = "direct"


@dataclass(frozen=True, slots=True)
class Sensitivity:
    """A current sensor that gives a voltage: so many mV at 1 A."""

    mv_per_a: float

    def __str__(self) -> str:
        return f"{self.mv_per_a:g} mV/A"


def _system(value: object) -> System:
    valid = "; ".join(SYSTEMS)
    text = text_of(value, f"how the net is wired: {valid}").strip()
    if text not in SYSTEMS:
        raise QuantityError(f"{text[:40]!r} is no kind of wiring", valid=valid)
    return SYSTEMS[text]


def _voltages(value: object) -> Transformer | str:
    valid = "direct, or a transformer such as 20000/100 V"
    text = text_of(value, valid).strip()
    if text == DIRECT:
        return DIRECT
    found = parse_transformer(text)
    if found.unit != "V":
        raise QuantityError(f"{text[:40]!r} is no voltage transformer", valid=valid)
    return found


def _currents(value: object) -> Transformer | Sensitivity | str:
    valid = "a transformer such as 200/5 A, a sensitivity such as 1 mV/A, or a sensor by its name"
    text = text_of(value, valid).strip()
    if "/" not in text or not text[:1].isdigit():
        return text
    try:
        found = parse_transformer(text)
    except QuantityError:
        if "V" not in text:  # a ratio of currents that cannot be, and no sensitivity
            raise
        return _sensitivity(text, valid)
    if found.unit != "A":
        raise QuantityError(f"{text[:40]!r} is no current transformer", valid=valid)
    return found


def _sensitivity(text: str, valid: str) -> Sensitivity:
    quantity = parse_quantity(text)
    if quantity.unit is None or quantity.unit.powers != parse_unit("mV/A").powers:
        raise QuantityError(f"{text[:40]!r} is no current sensor", valid=valid)
    amount = quantity.value_in(parse_unit("mV/A"))
    if not amount > 0.0:
        raise QuantityError(f"a sensor of {text[:40]} shows no current", valid=valid)
    return Sensitivity(amount)


def _amount(dimension: str, valid: str) -> Callable[[object], Quantity]:
    """A reader of quantities above 0 that have a unit of this dimension."""

    def read(value: object) -> Quantity:
        quantity = parse_quantity(text_of(value, valid))
        if quantity.unit is None or quantity.unit.dimension != dimension:
            raise QuantityError(f"{str(value)[:40]!r} is no {dimension}", valid=valid)
        if not quantity.value > 0.0:
            raise QuantityError(f"{quantity} is not above 0", valid=valid)
        return quantity

    return read


SystemField = Annotated[
    System,
    reader(System, _system),
    WithJsonSchema({"enum": list(SYSTEMS), "description": "How the net is wired"}),
]
VoltagesField = Annotated[
    Transformer | str,
    reader(Transformer, _voltages),
    text_schema("direct, or a voltage transformer", DIRECT, "20000/100 V"),
]
CurrentsField = Annotated[
    Transformer | Sensitivity | str,
    reader((Transformer, Sensitivity), _currents),
    text_schema("A current transformer, a sensitivity, or a sensor by name", "200/5 A", "1 mV/A"),
]
NominalField = Annotated[
    Quantity,
    reader(Quantity, _amount("voltage", "a voltage such as 230 V")),
    text_schema("A voltage", "230 V", "400 V"),
]
CurrentField = Annotated[
    Quantity,
    reader(Quantity, _amount("current", "a current such as 2 A")),
    text_schema("A current", "2 A"),
]


class WiringEntry(Model):
    """How the net is wired to the terminals, and what is expected of it."""

    system: SystemField
    nominal: NominalField = Field(
        description="The nominal voltage that it measures: to the neutral, or between phases"
    )
    voltages: VoltagesField = Field(DIRECT, description="How the voltages get to the terminals")
    currents: CurrentsField = Field(description="How the currents get to the terminals")
    rotation: Rotation = Field(
        ROTATIONS[0], description="The order in which the phases follow each other"
    )
    power: Literal["import", "export", "either"] = Field(
        "either", description="Where power flows: into the installation, out of it, or either way"
    )
    least_current: CurrentField | None = Field(
        None,
        description="Below this current an angle means nothing; 1 % of the primary if not given",
    )

    @property
    def voltage_names(self) -> tuple[str, ...]:
        """The channels with the voltages that it measures, by their standard names."""
        if self.system.between_phases:
            return ("u12", "u23", "u31")
        return tuple(f"u{k + 1}" for k in range(self.system.phases))
