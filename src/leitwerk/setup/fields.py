"""How the texts of a setup become values: one field type for each way of writing.

Each type carries its part of the JSON Schema, so that editors complete and check the same texts.
"""

from __future__ import annotations

import re
from typing import Annotated, Any

from pydantic import Field, WithJsonSchema

from leitwerk.errors import QuantityError
from leitwerk.parsing.address import DeviceName, LinkAddress, Where, parse_where
from leitwerk.parsing.durations import parse_duration
from leitwerk.parsing.models import reader, text_of
from leitwerk.parsing.quantities import (
    Expected,
    Quantity,
    Span,
    parse_expected,
    parse_quantity,
    parse_span,
)
from leitwerk.parsing.units import Unit, parse_unit
from leitwerk.parsing.yaml_text import EMPTY
from leitwerk.setup.inputs import InputRule, parse_input_rule
from leitwerk.setup.scales import (
    DataSheetFigures,
    Factor,
    Logarithm,
    Pairs,
    Root,
    ScaleText,
    parse_scale,
)
from leitwerk.signals.pulse_inputs import PERIOD, PULSE_WIDTH
from leitwerk.signals.sensors import SENSORS, Sensor, find_sensor
from leitwerk.signals.transformer import Transformer

VERSION = 1
CONTACT, COUNTER = "contact", "counter"
_SIGNALS = (CONTACT, COUNTER, PERIOD, PULSE_WIDTH)


def _version(value: object) -> int:
    text = text_of(value, "the version of the file format")
    if text != str(VERSION):
        remedy = "is a newer Leitwerk needed to read this file?"
        raise QuantityError(f"version {text!r} is not known", valid=f"{VERSION}", remedy=remedy)
    return VERSION


def _quantity(value: object) -> Quantity:
    return parse_quantity(text_of(value, "a number with a unit"))


def _duration(value: object) -> Quantity:
    return parse_duration(text_of(value, "a duration such as 30 s"))


def _interval(value: object) -> Quantity:
    text = text_of(value, "an interval such as every 10 s")
    interval = _duration(text.strip().removeprefix("every ").strip())
    if interval.seconds <= 0:
        raise QuantityError(f"{text!r} is not an interval", valid="more than 0 s: every 10 s")
    return interval


def _span(value: object) -> Span:
    return parse_span(text_of(value, "a span such as 4..20 mA"))


def _signal(value: object) -> Span | str:
    text = text_of(value, f"a span such as 4..20 mA, or {', '.join(_SIGNALS)}").strip()
    return text if text in _SIGNALS else parse_span(text)


def _expected(value: object) -> Expected | str:
    text = text_of(value, "value ± tolerance, or the name of a state").strip()
    # A state of a contact is a word; everything that begins like a number is meant as one.
    return text if text[:1].isalpha() else parse_expected(text)


def _sensor(value: object) -> Sensor:
    return find_sensor(text_of(value, "a sensor's name"))


def _unit(value: object) -> Unit:
    return parse_unit(text_of(value, "a unit's symbol").strip())


def _terminal(value: object) -> str:
    return text_of(value, "a terminal's name").strip()


def _address(value: object) -> Where:
    return parse_where(text_of(value, "an address"))


def whole_number(most: int, what: str, *, least: int = 0) -> Any:
    """A reader of whole numbers."""

    def read(value: object) -> int:
        text = text_of(value, what).strip()
        fits = text.isascii() and text.isdigit() and len(text) <= 6
        if not fits or not least <= int(text) <= most:
            raise QuantityError(f"{text[:20]!r} is not {what}", valid=f"{least} to {most}")
        return int(text)

    return reader(int, read)


def text_schema(description: str, *examples: str, numbers: bool = False) -> WithJsonSchema:
    """The JSON Schema of a text; where ``numbers`` may stand bare, an editor takes them for numbers."""
    return WithJsonSchema(
        {
            "type": ["string", "number"] if numbers else "string",
            "description": description,
            "examples": list(examples),
        }
    )


QuantityField = Annotated[
    Quantity,
    reader(Quantity, _quantity),
    text_schema("A number, with a unit or in the channel's unit", "78 °C", "0.5 bar", numbers=True),
]
DurationField = Annotated[
    Quantity, reader(Quantity, _duration), text_schema("A time with its unit", "30 s", "5 min")
]
IntervalField = Annotated[
    Quantity,
    reader(Quantity, _interval),
    text_schema("The time between two samples", "every 10 s", "every 1 min"),
]
RangeField = Annotated[
    Span, reader(Span, _span), text_schema("The span that the input takes", "0..400 Ω", "±1 V")
]
SignalField = Annotated[
    Span | str,
    reader(Span, _signal),
    text_schema("The electrical signal at the terminal", "4..20 mA", "0..1 V", *_SIGNALS),
]
ExpectedField = Annotated[
    Expected | str,
    reader(Expected, _expected),
    text_schema(
        "What the channel should show, with its tolerance; for a contact, the name of a state",
        "21.5 ± 0.5 °C",
        "21.5 +/- 0.5",
        "closed",
    ),
]
SensorField = Annotated[
    Sensor,
    reader(Sensor, _sensor),
    WithJsonSchema(
        {
            "type": "string",
            "description": "The sensor at the terminal",
            "anyOf": [{"enum": list(SENSORS)}, {"type": "string"}],
        }
    ),
]
VersionField = Annotated[
    int,
    reader(int, _version),
    WithJsonSchema({"const": VERSION, "description": "Version of this file format"}),
]
UnitField = Annotated[
    Unit, reader(Unit, _unit), text_schema("The channel's unit", "°C", "%", "kg", "l/s")
]
TerminalField = Annotated[
    str,
    reader((), _terminal),
    text_schema("The terminal the sensor is wired to", "1", "D1", numbers=True),
]
AddressField = Annotated[
    Where,
    reader((LinkAddress, DeviceName), _address),
    text_schema(
        "How the device is reached: an address, or the name of a device that was seen before",
        "modbus+tcp://127.0.0.1:502?unit=1",
        "kiln",
    ),
]
_VALUES = {"type": ["string", "number"]}
ScaleField = Annotated[
    ScaleText,
    reader((Pairs, Factor, DataSheetFigures, Root, Logarithm, Transformer), parse_scale),
    WithJsonSchema(
        {
            "description": "From signal to value: pairs such as {4 mA: 0 %, 20 mA: 100 %}, a "
            "factor, a sensor's data sheet figures, a root, a logarithm, or a transformer's ratio",
            "anyOf": [
                {"type": "string", "examples": ["0.5 kN/mV", "200/5 A"]},
                {"type": "object", "minProperties": 2, "additionalProperties": _VALUES},
                {"type": "object", "required": ["factor"], "additionalProperties": _VALUES},
                {"type": "object", "required": ["sensitivity"], "additionalProperties": _VALUES},
            ],
        }
    ),
]
SettingField = Annotated[
    str,
    reader((), lambda v: "" if v is EMPTY else text_of(v, "a setting's value").strip()),
    WithJsonSchema(
        {
            # YAML 1.1, which many editors follow, makes a truth value of a bare no.
            "type": ["string", "number", "boolean"],
            "description": "A setting's value, with its unit; two quotes empty a text",
            "examples": ["14.2 V", "lithium"],
        }
    ),
]
Line = Annotated[str, Field(min_length=1, max_length=200)]
InputsField = Annotated[
    InputRule,
    reader(InputRule, parse_input_rule),
    text_schema(
        "Which values of its inputs a formula takes",
        "same moment", "newest within 10 s", "linear within 10 s", "at the slowest",
    ),
]  # fmt: skip
CellField = Annotated[
    str,
    reader((), lambda v: text_of(v, "a value").strip()),
    text_schema("One side of a row of a table", "12 l/s", "43/15", numbers=True),
]
FormulaField = Annotated[
    str,
    reader((), lambda v: text_of(v, "a formula").strip()),
    text_schema(
        "A formula of other channels", "air_top - air_bottom", "moving_mean(flow, '10 min')"
    ),
]
# An editor takes 4711 for a number; nothing is lost by that, since every text stays as it was typed.
SerialField = Annotated[
    Line,
    WithJsonSchema(
        {
            "type": ["string", "number"],
            "description": "The serial number; any other device is refused",
            "examples": ["K2-00417"],
        }
    ),
]


def _format_version(value: object) -> str:
    if value != str(VERSION):
        remedy = "is a newer Leitwerk needed to read this file?"
        raise QuantityError(f"version {value!r} is not known", valid=str(VERSION), remedy=remedy)
    return str(VERSION)


# Of files beside a setup: their first key, which also says what kind of file it is.
FormatVersion = Annotated[
    str,
    reader((), _format_version),
    WithJsonSchema({"const": VERSION, "description": "Version of this file format"}),
]


def secret_variable(name: str) -> str:
    """The variable of the environment in which the value of a secret is looked for.

    Examples
    --------
    >>> secret_variable("wifi.password")
    'LEITWERK_SECRET_WIFI_PASSWORD'

    """
    return "LEITWERK_SECRET_" + re.sub(r"[^A-Z0-9]", "_", name.upper())
