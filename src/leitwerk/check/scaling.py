"""A typed scale as it is used: from the signal in an input's unit to a value in the channel's."""

from __future__ import annotations

from dataclasses import dataclass
from typing import assert_never

from leitwerk.errors import DomainError, QuantityError, UnitError
from leitwerk.parsing.quantities import Quantity, Span
from leitwerk.parsing.units import Unit, convert, gain_between, parse_unit
from leitwerk.setup.scales import DataSheetFigures, Factor, Logarithm, Pairs, Root, ScaleText
from leitwerk.signals.bridge import load_cell
from leitwerk.signals.linear import Linear, TwoPoint
from leitwerk.signals.scale import Scale
from leitwerk.signals.square_root import Logarithmic, SquareRoot
from leitwerk.signals.table import PointTable
from leitwerk.signals.transformer import Transformer


@dataclass(frozen=True, slots=True)
class SignalAxis:
    """Signals as they are typed, in terms of the input they arrive at.

    ``typed`` is the unit a technician thinks in; behind a shunt that is mA, while the input, in
    ``unit``, sees a voltage. ``per_typed`` is how much one of it is there.
    """

    unit: Unit
    typed: Unit
    per_typed: float = 1.0

    @classmethod
    def behind(cls, unit: Unit, shunt_ohm: float | None) -> SignalAxis:
        """The axis of an input, with or without a shunt across it."""
        if shunt_ohm is None:
            return cls(unit, unit)
        milliampere = parse_unit("mA")
        volts = shunt_ohm / 1000.0
        return cls(unit, milliampere, convert(volts, parse_unit("V"), unit))

    def of(self, signal: Quantity) -> float:
        """A typed signal at the input."""
        return signal.value_in(self.typed) * self.per_typed

    def ends(self, signal: Span) -> tuple[float, float]:
        """A typed span at the input."""
        low, high = signal.ends_in(self.typed)
        return low * self.per_typed, high * self.per_typed


def signal_unit(spec: ScaleText) -> Unit | None:
    """The unit of the signal that a typed scale begins with, None when it does not say."""
    match spec:
        case Pairs(points=points):
            return points[-1][0].unit or points[0][0].unit
        case Root(signal=signal) | Logarithm(signal=signal):
            return signal.unit
        case DataSheetFigures(sensitivity=sensitivity, full_scale=Quantity()):
            return sensitivity.unit
        case DataSheetFigures() | Factor() | Transformer():
            return None
    assert_never(spec)


def value_unit(spec: ScaleText) -> Unit | None:
    """The unit that a typed scale leads to, None when it does not say."""
    match spec:
        case Pairs(points=points):
            return points[-1][1].unit or points[0][1].unit
        case Root(full_flow=full_flow):
            return full_flow.unit
        case Logarithm(gives=gives):
            return gives.unit
        case DataSheetFigures(full_scale=full_scale):
            return full_scale.unit if full_scale else None
        case Transformer(unit=unit):
            return parse_unit(unit)
        case Factor(factor=factor):
            return _numerator(factor.unit)
    assert_never(spec)


def _numerator(unit: Unit | None) -> Unit | None:
    """What a factor leads to: kN for kN/mV; None when its unit does not say it."""
    value, slash, per = (unit.symbol if unit else "").partition("/")
    if not slash or "/" in per:
        return None
    try:
        return parse_unit(value)
    except QuantityError:
        return None


def build_scale(spec: ScaleText, axis: SignalAxis, unit: Unit) -> Scale:
    """The scale from the input's unit to the channel's ``unit``.

    Raises
    ------
    UnitError
        The scale leads to another unit than the channel's; both are named.
    QuantityError, DomainError
        The numbers make no scale.

    """
    match spec:
        case Pairs():
            return _from_pairs(spec, axis, unit)
        case Factor():
            return _from_factor(spec, axis, unit)
        case DataSheetFigures():
            return _from_figures(spec, axis, unit)
        case Root():
            low, high = axis.ends(spec.signal)
            full = spec.full_flow.value_in(unit)
            return SquareRoot(low, high, full, _part(spec.cut_off, full, unit))
        case Logarithm():
            (low, high), (first, last) = axis.ends(spec.signal), spec.gives.ends_in(unit)
            return Logarithmic(low, high, first, last)
        case Transformer():
            return _from_transformer(spec, axis, unit)
    assert_never(spec)


def _from_transformer(spec: Transformer, axis: SignalAxis, unit: Unit) -> Scale:
    side = parse_unit(spec.unit)
    for what, found in (("signal", axis.typed), ("channel", unit)):
        if found.dimension != side.dimension:
            raise UnitError(
                f"the transformer {spec} is one of {side.dimension}, the {what} is in {found}",
                valid=f"a {what} in {spec.unit}",
            )
    signal = convert(1.0, axis.typed, side) / axis.per_typed
    return Linear(spec.ratio * signal * convert(1.0, side, unit))


def _from_pairs(spec: Pairs, axis: SignalAxis, unit: Unit) -> Scale:
    points = [(axis.of(signal), value.value_in(unit)) for signal, value in spec.points]
    if len(points) == 2 and spec.between == "linear":
        (first, low), (last, high) = points
        return TwoPoint(first, last, low, high)
    if points[0][0] > points[-1][0]:
        points.reverse()  # a table may be typed from the top down
    return PointTable(tuple(points), spec.between, spec.extrapolate)


def _from_factor(spec: Factor, axis: SignalAxis, unit: Unit) -> Scale:
    assert spec.factor.unit is not None
    gain = gain_between(spec.factor.value, spec.factor.unit, axis.typed, unit) / axis.per_typed
    return Linear(gain, spec.offset.value_in(unit) if spec.offset else 0.0)


def _from_figures(spec: DataSheetFigures, axis: SignalAxis, unit: Unit) -> Scale:
    zero = axis.of(spec.zero) if spec.zero else 0.0
    if spec.full_scale is not None:
        return load_cell(axis.of(spec.sensitivity), spec.full_scale.value_in(unit), zero)
    per = spec.sensitivity.unit
    if per is None or spec.sensitivity.value == 0:
        raise QuantityError(
            "a sensitivity needs its unit, and is not 0", valid="10 mV/g; 2 mV/V with a full scale"
        )
    try:
        signal_per_value = gain_between(spec.sensitivity.value, per, unit, axis.typed)
    except UnitError:
        raise UnitError(
            f"a sensitivity in {per} does not lead from {axis.typed} to {unit or '1'}",
            valid=f"a sensitivity in {axis.typed}/({unit}), or a full scale in {unit} beside it",
        ) from None
    return load_cell(signal_per_value * axis.per_typed, 1.0, zero)


def _part(cut_off: Quantity | None, full: float, unit: Unit) -> float:
    """A cut-off as a part of the full flow."""
    if cut_off is None:
        return 0.0
    if cut_off.unit is not None and not cut_off.unit.powers:
        return cut_off.value_in(parse_unit(""))
    if full == 0.0:
        raise DomainError("the full flow must not be 0")
    return cut_off.value_in(unit) / full
