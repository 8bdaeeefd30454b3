"""A derived channel with numbers: what goes in, what comes out, and whose uncertainty counts."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.check.channels import CheckedChannel, DerivedChannel, MeasuredChannel, SignalChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.derived.formula import from_si, shares, steady, to_si
from leitwerk.derived.runner import Runner
from leitwerk.errors import QuantityError
from leitwerk.evaluation.signal_chain import explain_channel
from leitwerk.parsing.quantities import format_number
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class InputPart:
    """One input: its value, its standard uncertainty (None if not known), and what that adds to the result.

    ``unit`` is that of the uncertainty, ``sensitivity`` is the change of the result per unit of the
    input, ``share`` the part of the variance.
    """

    channel: str
    value: float | None
    shown: str
    unit: str
    standard: float | None
    sensitivity: float | None
    share: float | None

    def cells(self) -> tuple[str, str, str, str, str]:
        """The input as a row of a table."""
        return (
            self.channel,
            self.shown,
            "not known" if self.standard is None else _number(self.standard, self.unit, 2),
            "" if self.sensitivity is None else format_number(self.sensitivity, 4),
            "" if self.share is None else f"{self.share:.0%}",
        )


@dataclass(frozen=True)
class DerivedExplanation:
    """A derived channel explained for one value of each input. ``remark`` says what is not known."""

    channel: str
    label: str
    formula: str
    value: float | None
    shown: str
    quality: str
    unit: str
    expanded_uncertainty: float | None
    inputs: tuple[InputPart, ...]
    remark: str
    notes: tuple[str, ...]

    def to_dict(self) -> dict[str, Any]:
        """The explanation as plain data for JSON."""
        return asdict(self)

    def __str__(self) -> str:
        lines = [f"{self.channel} ({self.label}), computed by Leitwerk", f"  {self.formula}", ""]
        rows = [
            ("input", "value", "standard uncertainty", "per unit", "share"),
            *(part.cells() for part in self.inputs),
        ]
        widths = [max(len(row[k]) for row in rows) for k in range(5)]
        lines += ["  " + _padded(row, widths) for row in rows]
        value = self.shown
        if self.value is not None and self.expanded_uncertainty:
            doubt = _number(self.expanded_uncertainty, self.unit, 2)
            value = f"{_number(self.value, '')} ± {doubt} (k = 2)"
        remark = "" if self.quality == Quality.GOOD.reason else f", {self.quality}"
        lines += ["", f"  value  {value}{remark}"]
        remarks = [self.remark] if self.remark else []
        return "\n".join([*lines, *(f"  {text}" for text in [*remarks, *self.notes])])


def _quality(channel: DerivedChannel, columns: Mapping[str, NDArray[np.float64]]) -> Quality:
    """What the value is worth: by one sample of the same formula, with inputs that are good."""
    runner = Runner(channel.graph, [channel.node])
    if runner.remembers:
        return Quality.GOOD
    runner.run([0.0], columns)
    good = {name: np.zeros(1, np.uint8) for name in columns}
    return Quality(int(runner.reasons(channel.node, good)[0]))


def _padded(row: Sequence[str], widths: Sequence[int]) -> str:
    return "  ".join(f"{cell:{width}}" for cell, width in zip(row, widths, strict=True)).rstrip()


def _number(value: float, unit: str, digits: int = 5) -> str:
    return format_number(value, digits) + (f" {unit}" if unit else "")


def explain_derived(
    setup: CheckedSetup, channel: DerivedChannel, values: Mapping[str, float | None] | None = None
) -> DerivedExplanation:
    """A derived channel, worked for one value of each input.

    Parameters
    ----------
    setup : CheckedSetup
    channel : DerivedChannel
    values : mapping from channel to value in its unit, optional
        Without them, the expectation of each input.

    """
    inputs = [setup.measured(name) for name in channel.inputs]
    found = {c.name: _value_of(c, values) for c in inputs}
    units = {c.name: c.unit for c in inputs}
    columns = {name: to_si(np.array([value]), units[name]) for name, value in found.items()}
    standard = {c.name: _standard(c, found[c.name]) for c in inputs}
    remark, parts, result, expanded = "", {}, None, None
    missing = [name for name, value in found.items() if math.isnan(value)]
    if missing:
        where = "; add a line 'expect: …', or use --live" if values is None else ""
        remark = f"no value to compute from: {', '.join(missing)}{where}"
    try:
        result = float(from_si(steady(channel.graph, channel.node, columns), channel.unit)[0])
        known = {name: u for name, u in standard.items() if u is not None}
        if channel.states is None and not missing:
            every = shares(channel.graph, channel.node, channel.unit, units, found, known)
            parts = {part.name: part for part in every}
            variance = math.fsum(part.standard**2 for part in every)
            expanded = 2.0 * math.sqrt(variance)
    except QuantityError as error:
        remark = remark or error.message
    unknown = [name for name, u in standard.items() if u is None]
    if unknown and parts:
        remark = f"without the uncertainty of {', '.join(unknown)}, which is not known"
    total = (expanded or 0.0) / 2.0
    value = result if result is not None and math.isfinite(result) else None
    return DerivedExplanation(
        channel=channel.name,
        label=channel.label,
        formula=channel.formula,
        value=value,
        shown="no value" if value is None else channel.words(value),
        quality=_quality(channel, columns).reason,
        unit=channel.symbol,
        expanded_uncertainty=expanded,
        inputs=tuple(
            InputPart(
                c.name,
                None if math.isnan(found[c.name]) else found[c.name],
                c.words(found[c.name]),
                c.difference_symbol,
                standard[c.name],
                parts[c.name].sensitivity if c.name in parts else None,
                (parts[c.name].standard / total) ** 2 if c.name in parts and total else None,
            )
            for c in inputs
        ),
        remark=remark,
        notes=channel.notes,
    )


def _value_of(channel: CheckedChannel, values: Mapping[str, float | None] | None) -> float:
    """The value that is given or expected, NaN without one."""
    found = channel.expected[0] if channel.expected is not None else None
    if values is not None:
        found = values.get(channel.name)
    return math.nan if found is None else found


def _standard(channel: MeasuredChannel, value: float) -> float | None:
    """The standard uncertainty of a measured channel at a value, None where nothing is known of it."""
    if channel.states is not None:
        return 0.0
    if not isinstance(channel, SignalChannel) or math.isnan(value):
        return None
    explained = explain_channel(channel, value=value)
    return None if not explained.budget else (explained.expanded_uncertainty or 0.0) / 2.0
