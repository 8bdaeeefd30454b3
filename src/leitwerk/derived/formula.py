"""A formula for arrays, without a setup or a device."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.derived import types
from leitwerk.derived.graph import Graph
from leitwerk.derived.operations import Momentary, Remembering
from leitwerk.derived.reading import read_formula
from leitwerk.derived.runner import Runner
from leitwerk.derived.types import Form, Type, type_of
from leitwerk.derived.values import Terms
from leitwerk.errors import FormulaError, QuantityError
from leitwerk.parsing.frames import like
from leitwerk.parsing.quantities import parse_quantity
from leitwerk.parsing.units import Unit, parse_unit

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Share:
    """What one input adds to the uncertainty: ``sensitivity`` is the change of the result per unit of it."""

    name: str
    sensitivity: float
    standard: float


class Formula:
    """A formula of inputs with units, for arrays of NumPy and columns of pandas.

    Functions of time remember what they need from call to call; ``begin`` forgets it.

    Parameters
    ----------
    text : str
        The formula, as in a setup.
    units : mapping from name to unit
        The inputs, each with the unit in which its values come.
    unit : str
        The unit of the result; empty for a plain number or a condition.
    constants : mapping from name to quantity, optional
    terms : Terms, optional

    Raises
    ------
    FormulaError
        It cannot be read, or its parts do not fit.
    UnitError
        A unit is not known.

    Examples
    --------
    >>> pressure = Formula("0.5 * rho * v**2", {"v": "km/h"}, "Pa", {"rho": "1.2 kg/m³"})
    >>> pressure(v=[36.0, 72.0])
    array([ 60., 240.])

    """

    def __init__(
        self,
        text: str,
        units: Mapping[str, str],
        unit: str = "",
        constants: Mapping[str, str] | None = None,
        terms: Terms | None = None,
    ) -> None:
        self.text = text
        self.units = {name: parse_unit(symbol) for name, symbol in units.items()}
        self.unit = parse_unit(unit)
        self._graph = Graph()
        known = known_constants(constants or {}, self._graph)
        for name, one in self.units.items():
            known[name] = (self._graph.input(name), type_of(one))
        value = read_formula(text, known, self._graph, terms)
        require_unit(value.type, self.unit)
        self._node = value.node
        self._runner = Runner(self._graph, [self._node])

    def __call__(self, *, times_s: ArrayLike | None = None, **inputs: ArrayLike) -> Array:
        """The values of the formula; for a Series of pandas, a Series with its index.

        Parameters
        ----------
        times_s : array_like of shape (n,), in s, optional
            When the samples were taken; needed for functions of time.
        **inputs : array_like of shape (n,)
            In the units that were given; NaN where there is no value.

        """
        if times_s is None and self._runner.remembers:
            raise QuantityError(
                f"{self.text!r} has functions of time, and no times are given",
                valid="times_s, in s",
            )
        given = {name: np.asarray(inputs[name], dtype=np.float64) for name in self._runner.inputs}
        size = max((np.size(x) for x in inputs.values()), default=1)
        t = np.broadcast_to(0.0, size) if times_s is None else np.asarray(times_s, np.float64)
        si = {
            name: to_si(np.broadcast_to(x, t.shape), self.units[name]) for name, x in given.items()
        }
        result: Any = from_si(self._runner.run(t, si)[:, 0], self.unit)
        for name in self._runner.inputs:
            result = like(inputs[name], result)
        return result  # type: ignore[no-any-return]

    def begin(self) -> None:
        """Forget what functions of time remember."""
        self._runner.begin()

    def uncertainty(
        self, values: Mapping[str, float], standard: Mapping[str, float]
    ) -> tuple[Share, ...]:
        """What the uncertainty of each input does to the result, which does not change with time.

        See ``shares``. Values and standard uncertainties are in the units of the inputs.
        """
        return shares(self._graph, self._node, self.unit, self.units, values, standard)

    def __repr__(self) -> str:
        return f"<Formula {self.text!r}{f' in {self.unit}' if self.unit.symbol else ''}>"


def work_out(text: str, values: Mapping[str, float]) -> float:
    """The value of a formula of plain numbers, such as those of a limit set.

    Raises
    ------
    FormulaError
        It is not a formula, names something unknown, or has no finite value.

    Examples
    --------
    >>> work_out("2.4 * cells", {"cells": 6})
    14.399999999999999

    """
    graph = Graph()
    known = {name: (graph.constant(value), types.PLAIN) for name, value in values.items()}
    found = read_formula(text, known, graph)
    node = graph.nodes[found.node]
    if not found.type.is_plain or not node.is_constant:
        raise FormulaError(f"{text[:40]!r} is {found}, and no plain number", valid="2.4 * cells")
    return node.value


def known_constants(constants: Mapping[str, str], graph: Graph) -> dict[str, tuple[int, Type]]:
    """Named constants, as formulas know them.

    Raises
    ------
    QuantityError
        One is not a quantity.

    """
    known = {}
    for name, text in constants.items():
        quantity = parse_quantity(text)
        unit = quantity.unit or parse_unit("")
        known[name] = (graph.constant(quantity.value * unit.factor + unit.offset), type_of(unit))
    return known


def require_unit(kind: Type, unit: Unit) -> None:
    """Refuse a unit that does not fit what a formula gives.

    Raises
    ------
    FormulaError
        It does not.

    """
    if kind.form in {Form.LOGICAL, Form.STATE}:
        if unit.symbol:
            raise FormulaError(f"the formula gives {kind}, which has no unit", valid="no unit")
        return
    wanted = type_of(unit)
    if (kind.powers, kind.form) != (wanted.powers, wanted.form):
        hint = "K" if kind == types.KELVIN else ""
        raise FormulaError(
            f"the formula gives {kind}, the unit {unit.symbol or '(none)'} is for {wanted}",
            valid=f"a unit for {kind}{f', such as {hint}' if hint else ''}",
        )


def to_si(values: Array, unit: Unit) -> Array:
    """Values in a unit, in SI base units."""
    if unit.factor == 1.0 and not unit.offset:
        return values
    return values * unit.factor + unit.offset


def from_si(values: Array, unit: Unit) -> Array:
    """Values in SI base units, in a unit."""
    if unit.factor == 1.0 and not unit.offset:
        return values
    return (values - unit.offset) / unit.factor


def shares(
    graph: Graph,
    node: int,
    unit: Unit,
    units: Mapping[str, Unit],
    values: Mapping[str, float],
    standard: Mapping[str, float],
) -> tuple[Share, ...]:
    """What the uncertainty of each input adds to that of a node, by numeric derivatives.

    The sensitivity is that over one standard uncertainty to either side, as the GUM suggests. Functions
    of time are taken for an input that stays: an error of calibration does not average out.

    Parameters
    ----------
    graph, node : Graph and int
    unit : Unit
        In which the result is given.
    units, values, standard : mappings from the name of an input
        Its unit, its value, and its standard uncertainty, both in the unit.

    Raises
    ------
    QuantityError
        The result depends on the time that passes, or has no value here.

    References
    ----------
    JCGM 100:2008, clause 5.1.3, note 2.

    """
    names = graph.inputs_of(node)
    steps = [standard.get(name, 0.0) or 1e-6 * max(1.0, abs(values[name])) for name in names]
    columns = {
        name: to_si(np.full(2 * len(names) + 1, values[name]), units[name]) for name in names
    }
    for k, (name, step) in enumerate(zip(names, steps, strict=True)):
        columns[name][2 * k + 1] += step * units[name].factor
        columns[name][2 * k + 2] -= step * units[name].factor
    found = from_si(steady(graph, node, columns), unit)
    if not np.all(np.isfinite(found)):
        raise QuantityError("there is no value here, or none within one uncertainty of it")
    slopes = (found[1::2] - found[2::2]) / (2.0 * np.array(steps))
    return tuple(
        Share(name, slope, abs(slope) * standard.get(name, 0.0))
        for name, slope in zip(names, slopes.tolist(), strict=True)
    )


def steady(graph: Graph, node: int, columns: Mapping[str, Array]) -> Array:
    """The value of a node, in SI base units, for inputs that stay as they are.

    Raises
    ------
    QuantityError
        It depends on the time that passes.

    """
    size = next((x.size for x in columns.values()), 1)
    rows: dict[int, Array] = {}
    for k in graph.beneath(node):
        part = graph.nodes[k]
        if part.operation is None:
            rows[k] = columns[part.name] if part.name else np.full(size, part.value)
            continue
        out = np.empty(size)
        work = part.operation.work if isinstance(part.operation, Momentary) else None
        if isinstance(part.operation, Remembering):
            work = part.operation.steady
        if work is None:
            raise QuantityError(
                f"{part.operation.name}() depends on the time that passes: its uncertainty cannot be stated",
                valid="formulas without totals, counts and durations",
            )
        with np.errstate(all="ignore"):
            work(*(rows[a] for a in part.arguments), out=out)
        rows[k] = out
    return rows[node]
