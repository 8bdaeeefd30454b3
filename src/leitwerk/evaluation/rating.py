"""A table of what a computed channel shows for values of its input: to print, and to hold against a sheet."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.check.channels import CheckedChannel, DerivedChannel, ReadingChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.derived.formula import from_si, to_si
from leitwerk.derived.open_channel import OpenChannel
from leitwerk.derived.runner import Runner
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import Unit, parse_unit
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

_MOST = 10_000
_STEPS = 20  # rows, where no step is given


@dataclass(frozen=True, slots=True)
class RatingRow:
    """One line: input, value (None without one), its change for 1 mm of the input, and its quality."""

    input: float
    value: float | None
    per_millimetre: float | None
    quality: str


@dataclass(frozen=True)
class Rating:
    """The table of a channel. ``per_millimetre`` is known where the input is a length."""

    title: str
    channel: str
    input: str
    input_unit: str
    unit: str
    law: str
    rows: tuple[RatingRow, ...]

    def to_dict(self) -> dict[str, Any]:
        """The table as plain data for JSON."""
        return asdict(self)

    def cells(self) -> tuple[tuple[str, ...], list[tuple[str, ...]]]:
        """The table as texts: its head, and its rows; the numbers of a column have as many decimals."""
        inputs = _column([row.input for row in self.rows], 5)
        while all("." in text and text[-1] in "0." for text in inputs):
            inputs = [text[:-1] for text in inputs]  # no more digits than the steps have
        columns = [(f"{self.input} [{self.input_unit}]", inputs)]
        columns += [(f"{self.channel} [{self.unit}]", _column([row.value for row in self.rows], 4))]
        slopes = [row.per_millimetre for row in self.rows]
        if any(slope is not None for slope in slopes):
            columns += [(f"{self.unit} per mm", _column(slopes, 3))]
        remarks = ["" if row.quality == Quality.GOOD.reason else row.quality for row in self.rows]
        if any(remarks):
            columns += [("remark", remarks)]
        head = tuple(name for name, _ in columns)
        return head, list(zip(*(cells for _, cells in columns), strict=True))


def _column(values: Sequence[float | None], digits: int) -> list[str]:
    """Numbers of one column, the largest with so many digits, all with their points below each other."""
    largest = max((abs(value) for value in values if value), default=1.0)
    decimals = max(0, digits - 1 - math.floor(math.log10(largest)))
    texts = ["–" if value is None else f"{value:.{decimals}f}" for value in values]
    width = max(map(len, texts), default=0)
    return [text.rjust(width) for text in texts]


def rate_channel(
    setup: CheckedSetup,
    name: str,
    *,
    low: Quantity | None = None,
    high: Quantity | None = None,
    every: Quantity | None = None,
) -> Rating:
    """The table of a channel that is computed from one other, by Leitwerk or by the device.

    Parameters
    ----------
    setup : CheckedSetup
    name : str
        The channel.
    low, high, every : Quantity, optional
        The inputs; for a flow, those for which its law is valid, in 20 steps.

    Raises
    ------
    QuantityError
        The channel is not computed from one other, or depends on time; or the inputs cannot be used.

    """
    channel = setup.channel(name)
    law = _law_of(channel)
    inputs = channel.inputs if isinstance(channel, DerivedChannel) else ("level",) * bool(law)
    if len(inputs) != 1:
        raise QuantityError(
            f"channel {name} is {channel.where}: it has no table of one input",
            valid="a channel that is computed from one other",
        )
    unit = setup.channel(inputs[0]).unit if isinstance(channel, DerivedChannel) else parse_unit("m")
    ends = _ends(law, unit, low, high)
    x = _inputs(ends, unit, every)
    values, qualities = _worked(channel, law, inputs[0], x, unit)
    slopes = np.full(x.shape, np.nan)
    if unit.dimension == "length":
        half = 0.0005 / unit.factor
        above, _ = _worked(channel, law, inputs[0], x + half, unit)
        below, _ = _worked(channel, law, inputs[0], x - half, unit)
        slopes = above - below
    return Rating(
        title=setup.setup.title,
        channel=name,
        input=inputs[0],
        input_unit=unit.symbol,
        unit=channel.symbol,
        law=str(law) if law else channel.where.removeprefix("computed: "),
        rows=tuple(
            RatingRow(float(a), _or_none(b), _or_none(c), Quality(int(q)).reason)
            for a, b, c, q in zip(x, values, slopes, qualities, strict=True)
        ),
    )


def _or_none(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def _law_of(channel: CheckedChannel) -> OpenChannel | None:
    """The law of a flow, whoever computes it."""
    if isinstance(channel, ReadingChannel):
        return channel.law
    if isinstance(channel, DerivedChannel):
        operation = channel.graph.nodes[channel.node].operation
        found = operation.parameters[0] if operation is not None and operation.parameters else None
        arguments = channel.graph.nodes[channel.node].arguments
        is_direct = len(arguments) == 1 and bool(channel.graph.nodes[arguments[0]].name)
        return found if isinstance(found, OpenChannel) and is_direct else None
    return None


def _ends(
    law: OpenChannel | None, unit: Unit, low: Quantity | None, high: Quantity | None
) -> tuple[float, float]:
    if law is not None:
        first, last = (end / unit.factor for end in law.valid)
    elif low is None or high is None:
        raise QuantityError("it is not known for which inputs", valid="--from and --to")
    first = first if low is None else low.value_in(unit)
    last = last if high is None else high.value_in(unit)
    if not first < last:
        raise QuantityError(
            f"from {first:g} to {last:g} {unit} is no span", valid="from less than to"
        )
    return first, last


def _inputs(ends: tuple[float, float], unit: Unit, every: Quantity | None) -> NDArray[np.float64]:
    first, last = ends
    step = (last - first) / _STEPS if every is None else every.value_in(unit)
    if every is not None and step > 0.0:  # whole steps read better than those from an odd beginning
        first = math.ceil(first / step - 1e-9) * step
    if not (step > 0.0 and (last - first) / step < _MOST):
        raise QuantityError(
            f"a step of {step:g} {unit} cannot be used", valid=f"at most {_MOST:,} rows"
        )
    count = int((last - first) / step + 1e-9) + 1
    found: NDArray[np.float64] = first + step * np.arange(count, dtype=np.float64)
    return found


def _worked(
    channel: CheckedChannel, law: OpenChannel | None, name: str, x: NDArray[np.float64], unit: Unit
) -> tuple[NDArray[np.float64], NDArray[np.uint8]]:
    si = to_si(x, unit)
    if law is not None:
        values, qualities = law.convert(si)
        flow: NDArray[np.float64] = from_si(values, channel.unit)
        return flow, qualities
    assert isinstance(channel, DerivedChannel)
    runner = Runner(channel.graph, [channel.node])
    if runner.remembers:
        raise QuantityError(
            f"channel {channel.name} depends on the time that passes: it has no table"
        )
    found, codes = np.empty(x.shape), np.zeros(x.shape, np.uint8)
    good = {name: np.zeros(x.shape, np.uint8)}
    for piece, worked in runner.pieces(np.zeros(x.shape), [si]):
        found[piece] = from_si(worked[0], channel.unit)
        codes[piece] = runner.reasons(channel.node, {name: good[name][piece]})
    return found, codes
