"""What readings say of themselves, without a reference: what never moves, or cannot move so fast."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.check.channels import CheckedChannel, SignalChannel
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.quantities import format_number

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

ENOUGH = 60  # readings, below which nothing is said
_FINE = 1e-4  # of a span: a converter with finer steps never stands still
_SAME = 0.02  # of how far two channels move: they differ by less
_NEWEST, _CORRELATED = 4096, 0.99  # of so many readings, pairs to look at
_PAIRED = 100  # channels off their expectation that are held against each other
_CLEAR = 20.0  # steps that a channel has to move before it is compared with another


def doubts(
    channels: Sequence[CheckedChannel],
    times_s: Array,
    values: Array,
    resolutions: Sequence[float],
    time_constants: Sequence[float | None],
) -> list[str]:
    """What is odd about readings, in words.

    Parameters
    ----------
    channels : sequence of CheckedChannel
    times_s : array of shape (n,), in s
    values : array of shape (n, n_channels)
        In the channels' units, NaN where there is no value.
    resolutions : sequence of float
        The smallest step of each channel, in its unit; 0 if it is not known.
    time_constants : sequence of float, in s
        What the setup says of each sensor; None if nothing.

    """
    found = []
    moved: list[tuple[CheckedChannel, Array, float]] = []
    for channel, column, step, constant in zip(
        channels, values.T, resolutions, time_constants, strict=True
    ):
        good = np.isfinite(column)
        if not isinstance(channel, SignalChannel) or good.sum() < ENOUGH:
            continue
        x, t = column[good], times_s[good]
        low, high = channel.span
        if float(np.ptp(x)) == 0.0:
            if 0.0 < step < _FINE * (high - low):
                shown = channel.words(float(x[0]))
                found.append(
                    f"{channel.name} has not moved from {shown} in {x.size} readings: is the sensor alive?"
                )
            continue
        if good.all() and np.ptp(x) > _CLEAR * step:
            moved.append((channel, x, step))
        if constant:
            rate = np.abs(np.diff(x)) / np.maximum(np.diff(t), 1e-9)
            most = (high - low) / constant
            if rate.size and float(rate.max()) > most:
                shown = f"{format_number(float(rate.max()), 3)} {channel.symbol}"
                within = duration_text(constant)
                found.append(
                    f"{channel.name} moves by {shown} a second: a sensor that follows within {within} cannot"
                )
    found += _alike(moved)
    return found + _swapped(channels, values)


def _swapped(channels: Sequence[CheckedChannel], values: Array) -> list[str]:
    """Two channels of one unit that each miss their expectation, and meet that of the other."""
    off: list[tuple[CheckedChannel, float, tuple[float, float]]] = []
    for channel, column in zip(channels, values.T, strict=True):
        good = column[np.isfinite(column)]
        if channel.expected is None or channel.states is not None or good.size < ENOUGH:
            continue
        mean = float(good.mean())
        if not _meets(mean, channel.expected):
            off.append((channel, mean, channel.expected))
    off = off[:_PAIRED]
    return [
        f"{one.name} and {other.name} each show what is expected of the other: are they swapped?"
        for k, (one, shown, expected) in enumerate(off)
        for other, other_shown, other_expected in off[k + 1 :]
        if one.unit == other.unit
        and _meets(shown, other_expected)
        and _meets(other_shown, expected)
    ]


def _meets(value: float, expected: tuple[float, float]) -> bool:
    return abs(value - expected[0]) <= expected[1]


def _alike(moved: Sequence[tuple[CheckedChannel, Array, float]]) -> list[str]:
    """Channels of one unit that show the same course: two terminals on one sensor, or a short circuit."""
    if len(moved) < 2:
        return []
    every = np.array([x[-_NEWEST:] for _, x, _ in moved])
    # All pairs at once; only those that may be alike are looked at one by one.
    with np.errstate(invalid="ignore", divide="ignore"):  # one may stand still of late
        near = np.triu(np.corrcoef(every) > _CORRELATED, 1)
    found = []
    for k, m in np.argwhere(near).tolist():
        (one, x, step), (other, y, _) = moved[k], moved[m]
        apart = float(np.ptp(x - y))
        if one.unit == other.unit and apart <= max(_SAME * float(np.ptp(x)), step):
            found.append(
                f"{one.name} and {other.name} move exactly alike: are both on one sensor, or connected?"
            )
    return found
