"""The ways in which a scale is typed in, as plain values; their meaning is worked out later.

=====================================================================  =========================
written                                                                means
=====================================================================  =========================
``{4 mA: 0 %, 20 mA: 100 %}``                                          two pairs: a line
``{0 mV: 0 m, 10 mV: 0.5 m, 40 mV: 1.2 m, between: cubic}``            more pairs: a table
``0.5 kN/mV``, ``{factor: 0.5 kN/mV, offset: -2 kN}``                  a factor
``{sensitivity: 2 mV/V, full scale: 500 kg, zero: 0.02 mV/V}``         a sensor's data sheet
``{root of: 4..20 mA, full flow: 120 m^3/h, cut off: 2 %}``            a square root
``{logarithm of: 0..10 V, gives: 0.001..1000 mbar}``                   a logarithm
``200/5 A``, ``20 kV/100 V``                                           a transformer
=====================================================================  =========================
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeAlias

from leitwerk.errors import QuantityError
from leitwerk.parsing.models import shown, text_of
from leitwerk.parsing.quantities import Quantity, Span, parse_quantity, parse_span
from leitwerk.signals.table import Between
from leitwerk.signals.transformer import Transformer, parse_transformer


@dataclass(frozen=True, slots=True)
class Pairs:
    """Pairs of signal and value, as typed in."""

    points: tuple[tuple[Quantity, Quantity], ...]
    between: Between = "linear"
    extrapolate: bool = False


@dataclass(frozen=True, slots=True)
class Factor:
    """Value per signal, and what is added."""

    factor: Quantity
    offset: Quantity | None = None


@dataclass(frozen=True, slots=True)
class DataSheetFigures:
    """What a sensor's data sheet gives: its sensitivity, full scale, and output at zero."""

    sensitivity: Quantity
    full_scale: Quantity | None = None
    zero: Quantity | None = None


@dataclass(frozen=True, slots=True)
class Root:
    """Flow by the square root of a signal."""

    signal: Span
    full_flow: Quantity
    cut_off: Quantity | None = None


@dataclass(frozen=True, slots=True)
class Logarithm:
    """A sensor with a logarithmic output."""

    signal: Span
    gives: Span


ScaleText: TypeAlias = Pairs | Factor | DataSheetFigures | Root | Logarithm | Transformer

_PAIRS = "pairs, such as {4 mA: 0 %, 20 mA: 100 %}"
_BETWEEN = ("linear", "logarithmic", "cubic")


def parse_scale(value: object) -> ScaleText:
    """A scale as it stands in a setup.

    Raises
    ------
    QuantityError
        It has none of the forms above.

    """
    if isinstance(value, str):
        return _parse_text(value)
    if not isinstance(value, dict):
        raise QuantityError(f"{shown(value)} is not a scale", valid=f"{_PAIRS}; 0.5 kN/mV; 200/5 A")
    for form in _FORMS:
        if form.first in value:
            return form.read(value)
    return _parse_pairs(value)


def _parse_text(text: str) -> Factor | Transformer:
    if text.count("/") == 1 and text.split("/")[1].strip()[:1].isdigit():
        return parse_transformer(text)
    factor = parse_quantity(text)
    if factor.unit is None:
        message = f"the factor {text!r} has no unit"
        raise QuantityError(message, valid="value unit / signal unit, such as 0.5 kN/mV")
    return Factor(factor)


def _parse_pairs(value: dict[str, Any]) -> Pairs:
    entries = dict(value)
    between = entries.pop("between", "linear")
    beyond = entries.pop("beyond", "nothing")
    if between not in _BETWEEN:
        raise QuantityError(f"between: {shown(between)} is not known", valid=", ".join(_BETWEEN))
    if beyond not in {"nothing", "extrapolate"}:
        raise QuantityError(f"beyond: {shown(beyond)} is not known", valid="nothing, extrapolate")
    if len(entries) < 2:
        message = (
            f"a scale of {len(entries)} pair{'' if len(entries) == 1 else 's'} is not complete"
        )
        raise QuantityError(message, valid=f"two or more {_PAIRS}")
    points = tuple(
        (_signal(key), parse_quantity(text_of(v, "a value"))) for key, v in entries.items()
    )
    return Pairs(points, between, beyond == "extrapolate")


def _signal(key: str) -> Quantity:
    try:
        return parse_quantity(key)
    except QuantityError as error:
        words = ", ".join(form.first for form in _FORMS)
        valid = f"{_PAIRS}, with 'between' and 'beyond'; or one of: {words}"
        raise QuantityError(error.message, valid=valid, remedy=error.remedy) from None


@dataclass(frozen=True, slots=True)
class _Form:
    """A form with named entries; ``first`` is the one that identifies it."""

    first: str
    make: Callable[..., ScaleText]
    entries: dict[str, tuple[str, Callable[[str], Any], bool]]

    def read(self, value: dict[str, Any]) -> ScaleText:
        for key in value:
            if key not in self.entries:
                valid = ", ".join(self.entries)
                raise QuantityError(f"{key[:60]!r} is not a part of this scale", valid=valid)
        found = {}
        for key, (name, parse, required) in self.entries.items():
            if key in value:
                found[name] = parse(text_of(value[key], f"a quantity for {key!r}"))
            elif required:
                raise QuantityError(f"the scale lacks {key!r}", valid=", ".join(self.entries))
        return self.make(**found)


_FORMS = (
    _Form(
        "factor",
        Factor,
        {"factor": ("factor", parse_quantity, True), "offset": ("offset", parse_quantity, False)},
    ),
    _Form(
        "sensitivity",
        DataSheetFigures,
        {
            "sensitivity": ("sensitivity", parse_quantity, True),
            "full scale": ("full_scale", parse_quantity, False),
            "zero": ("zero", parse_quantity, False),
        },
    ),
    _Form(
        "root of",
        Root,
        {
            "root of": ("signal", parse_span, True),
            "full flow": ("full_flow", parse_quantity, True),
            "cut off": ("cut_off", parse_quantity, False),
        },
    ),
    _Form(
        "logarithm of",
        Logarithm,
        {"logarithm of": ("signal", parse_span, True), "gives": ("gives", parse_span, True)},
    ),
)
