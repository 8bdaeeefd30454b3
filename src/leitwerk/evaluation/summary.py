"""The summary of a recording by its setup: numbers of each channel, times in bands and in alarm, gaps."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import chain
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.analysis.series import Series, utc_text
from leitwerk.analysis.steps import Steps, flags_of
from leitwerk.analysis.summary import (
    JUDGED_ROWS,
    PERCENTILES,
    ColumnNumbers,
    ColumnSummary,
    Gap,
    exact_percentiles,
    gaps,
    usual_interval,
    weights,
)
from leitwerk.check.channels import CheckedChannel
from leitwerk.errors import QuantityError
from leitwerk.evaluation.followers import AlarmFollower, AlarmSpan, BandFollower, FurthestOut
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.quantities import format_number
from leitwerk.parsing.units import parse_unit

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True)
class AlarmSummary:
    """What became of one alarm. ``beyond_s`` is the time beyond its trip point, with a trip or without."""

    name: str
    condition: str
    delay_s: float
    spans: tuple[AlarmSpan, ...]
    beyond_s: float
    furthest: FurthestOut | None = None

    @property
    def in_alarm_s(self) -> float:
        """The time in alarm in all."""
        return sum(span.lasted_s for span in self.spans)


@dataclass(frozen=True)
class ChannelSummary:
    """One channel of a recording; ``in_bands_s`` are the times in its bands, by their names.

    ``not_judged`` are alarms that are watched only while something else holds: a recording does not say when.
    """

    name: str
    label: str
    unit: str
    numbers: ColumnSummary
    alarms: tuple[AlarmSummary, ...] = ()
    in_bands_s: Mapping[str, float] = field(default_factory=dict)
    not_judged: tuple[str, ...] = ()


@dataclass(frozen=True)
class Summary:
    """A recording, summarised. Times are in s since 1970-01-01 UTC."""

    begin_s: float
    end_s: float
    rows: int
    interval_s: float
    gaps: tuple[Gap, ...]
    channels: tuple[ChannelSummary, ...]

    @property
    def missing_s(self) -> float:
        """The time without rows in all."""
        return sum(gap.end_s - gap.begin_s - self.interval_s for gap in self.gaps)

    def to_dict(self) -> dict[str, Any]:
        """The summary as plain data for JSON."""
        return {
            "from": utc_text(self.begin_s),
            "to": utc_text(self.end_s),
            "rows": self.rows,
            "interval_s": _or_none(self.interval_s),
            "gaps": [{"from": utc_text(g.begin_s), "to": utc_text(g.end_s)} for g in self.gaps],
            "channels": {c.name: _channel_dict(c) for c in self.channels},
        }

    def __str__(self) -> str:
        every = "–" if math.isnan(self.interval_s) else duration_text(self.interval_s)
        span = f"{utc_text(self.begin_s)} to {utc_text(self.end_s)}"
        lines = [f"{span}: {self.rows:,} rows, every {every}"]
        if self.gaps:
            missing = duration_text(round(self.missing_s))
            lines.append(f"gaps: {len(self.gaps)}, {missing} without rows")
        head = (
            "channel",
            "unit",
            "good",
            "missing",
            "min",
            "mean",
            "max",
            "std dev",
            "5 %",
            "95 %",
        )
        rows = [head, *(_cells(c) for c in self.channels)]
        wide = [max(len(row[k]) for row in rows) for k in range(len(head))]
        for row in rows:
            cells = [f"{row[0]:{wide[0]}}", f"{row[1]:{wide[1]}}"]
            cells += [f"{cell:>{wide[k]}}" for k, cell in enumerate(row) if k > 1]
            lines.append("  ".join(cells).rstrip())
        for c in self.channels:
            lines += _more(c)
        return "\n".join(lines)


def summarise(
    rows: Series | Iterable[Series],
    channels: Sequence[CheckedChannel] = (),
    *,
    gap_s: float = math.inf,
    on_steps: Callable[[Steps], None] | None = None,
) -> Summary:
    """Summarise a recording.

    Parameters
    ----------
    rows : Series, or its pieces in the order of time
        All pieces have the same columns. Memory is what one piece needs; percentiles are then right to
        1/32768 of the span.
    channels : sequence of CheckedChannel, optional
        Those of the setup: with their labels, alarms and bands.
    gap_s : float, in s
        Rows further apart than this do not belong together, for alarms.
    on_steps : callable, optional
        Is given all rows in their order, each with the time for which it stands.

    Raises
    ------
    QuantityError
        There are no rows.

    """
    is_whole = isinstance(rows, Series)
    if isinstance(rows, Series):
        # Columns are worked one by one: each has to lie together in memory.
        qualities = None if flags_of(rows) is None else rows.qualities
        rows = replace(rows, values=np.asfortranarray(rows.good()), qualities=qualities)
    pieces = iter((rows,) if isinstance(rows, Series) else rows)
    head = _head(pieces)
    if not head:
        raise QuantityError("there are no rows", valid="one row or more")
    interval_s = usual_interval(np.concatenate([piece.times_s for piece in head]))
    builder = _Builder(head[0], channels, interval_s, gap_s, with_histogram=not is_whole)
    builder.on_steps = on_steps
    for piece in chain(head, pieces):
        builder.take(piece)
    if isinstance(rows, Series):
        return builder.summary(_exact(rows, builder.numbers))
    none = (math.nan,) * len(PERCENTILES)
    return builder.summary(
        [
            none if n.histogram is None else n.histogram.percentiles(PERCENTILES)
            for n in builder.numbers
        ]
    )


def _head(pieces: Iterator[Series]) -> list[Series]:
    """The first pieces, until they show what interval is usual."""
    found, rows = [], 0
    for piece in pieces:
        found.append(piece)
        rows += piece.times_s.size
        if rows >= JUDGED_ROWS:
            break
    return found if rows else []


def _exact(series: Series, numbers: Sequence[ColumnNumbers]) -> list[tuple[float, ...]]:
    found, values = [], series.values
    for k, n in enumerate(numbers):
        x = values[:, k]
        x = x if n.count == x.size else x[~np.isnan(x)]
        none = (math.nan,) * len(PERCENTILES)
        found.append(exact_percentiles(x, PERCENTILES, n.minimum, n.maximum) if n.count else none)
    return found


class _Builder:
    """Gathers a summary piece by piece."""

    def __init__(
        self,
        first: Series,
        channels: Sequence[CheckedChannel],
        interval_s: float,
        gap_s: float,
        *,
        with_histogram: bool,
    ) -> None:
        known = {channel.name: channel for channel in channels}
        self._columns = first.columns
        self._places = {column.name: k for k, column in enumerate(first.columns)}
        self._channels = [
            channel if channel is not None and channel.symbol == column.unit else None
            for column, channel in ((c, known.get(c.name)) for c in first.columns)
        ]
        self._labels = [known[c.name].label if c.name in known else "" for c in first.columns]
        self.numbers = [
            ColumnNumbers(parse_unit(c.unit) if c.unit else None, with_histogram=with_histogram)
            for c in first.columns
        ]
        self._alarms = [
            [] if channel is None else [
                AlarmFollower(alarm, gap_s=gap_s)
                for alarm in channel.alarms
                if alarm.only_while is None
            ]
            for channel in self._channels
        ]  # fmt: skip
        self._beyond_s = [[0.0] * len(followers) for followers in self._alarms]
        self._bands = [
            None if channel is None or channel.bands is None else BandFollower(channel.bands)
            for channel in self._channels
        ]
        self._in_bands = [
            np.zeros(0 if follower is None else len(follower.bands.parts))
            for follower in self._bands
        ]
        self.on_steps: Callable[[Steps], None] | None = None
        self._interval_s = interval_s
        self._rows, self._begin_s, self._end_s = 0, math.nan, math.nan
        self._gaps: list[Gap] = []
        # How long the last row stands is known when the next one has come.
        self._pending: _Weighed | None = None

    def take(self, piece: Series) -> None:
        """Take the next rows."""
        times, values = piece.times_s, np.asfortranarray(piece.good())
        if not times.size:
            return
        if not self._rows:
            self._begin_s = float(times[0])
        else:
            self._gaps += gaps(np.array([self._end_s, times[0]]), self._interval_s)
        self._gaps += gaps(times, self._interval_s)
        beyond, bands = [], []
        for k, numbers in enumerate(self.numbers):
            x = values[:, k]
            numbers.take(x)
            beyond.append([f.take(times, x, self._other(f, values)) for f in self._alarms[k]])
            follower = self._bands[k]
            bands.append(None if follower is None else follower.take(times, x))
        self._weigh(_Weighed(times, values, beyond, bands, flags_of(piece)))
        self._rows += times.size
        self._end_s = float(times[-1])

    def _other(self, follower: AlarmFollower, values: Array) -> Array | None:
        place = self._places.get(follower.alarm.other)
        return None if place is None else values[:, place]

    def _weigh(self, new: _Weighed) -> None:
        """Count what stood for how long, of all rows but the last."""
        if self._pending is not None:
            self._count(self._pending, np.append(self._pending.times, new.times[0]))
        self._pending = new.part(slice(new.times.size - 1, None))
        self._count(new.part(slice(0, new.times.size - 1)), new.times)

    def _count(self, rows: _Weighed, times: Array) -> None:
        spent = weights(times, self._interval_s)[: rows.times.size]
        if self.on_steps is not None and spent.size:
            self.on_steps(Steps(rows.times, rows.values, spent, rows.flagged))
        # Where all rows stand for as long, one number does.
        is_even = spent.size > 1 and spent.min() == spent.max()
        each = spent[:1] if is_even else spent
        for k, numbers in enumerate(self.numbers):
            numbers.take_weighted(rows.values[:, k], each)
            for m, out in enumerate(rows.beyond[k]):
                self._beyond_s[k][m] += float(spent[out].sum())
            band = rows.bands[k]
            if band is not None and band.size:
                inside = band >= 0
                self._in_bands[k] += np.bincount(
                    band[inside], spent[inside], minlength=self._in_bands[k].size
                )

    def summary(self, percentiles: Sequence[tuple[float, ...]]) -> Summary:
        """All of it."""
        if self._pending is not None:
            self._count(self._pending, self._pending.times)  # the last row stands for one interval
            self._pending = None
        found = []
        for k, column in enumerate(self._columns):
            channel = self._channels[k]
            alarms = () if channel is None else tuple(
                AlarmSummary(
                    f"{channel.name}.{f.alarm.name}", f.alarm.condition(channel.symbol, channel.states),
                    f.alarm.delay_s, f.spans(), self._beyond_s[k][m], f.furthest,
                )
                for m, f in enumerate(self._alarms[k])
            )  # fmt: skip
            follower = self._bands[k]
            parts = () if follower is None else follower.bands.parts
            in_bands = {part.name: float(self._in_bands[k][m]) for m, part in enumerate(parts)}
            numbers = self.numbers[k].numbers(percentiles[k])
            found.append(
                ChannelSummary(
                    column.name,
                    self._labels[k],
                    column.unit,
                    numbers,
                    alarms,
                    in_bands,
                    ()
                    if channel is None
                    else tuple(
                        name
                        for name, alarm in channel.named_alarms()
                        if alarm.only_while is not None
                    ),
                )
            )
        return Summary(
            self._begin_s,
            self._end_s,
            self._rows,
            self._interval_s,
            tuple(self._gaps),
            tuple(found),
        )


@dataclass(frozen=True)
class _Weighed:
    """Rows, and what is to be weighed by how long each stands."""

    times: Array
    values: Array
    beyond: list[list[NDArray[np.bool_]]]
    bands: list[NDArray[np.intp] | None]
    flagged: NDArray[np.bool_] | None

    def part(self, rows: slice) -> _Weighed:
        """Some of the rows."""
        return _Weighed(
            self.times[rows], self.values[rows], [[out[rows] for out in one] for one in self.beyond],
            [None if band is None else band[rows] for band in self.bands],
            None if self.flagged is None else self.flagged[rows],
        )  # fmt: skip


def _or_none(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _channel_dict(channel: ChannelSummary) -> dict[str, Any]:
    n = channel.numbers
    return {
        "label": channel.label, "unit": channel.unit, "good": n.count, "missing": n.missing,
        "mean": _or_none(n.mean), "standard_deviation": _or_none(n.deviation),
        "minimum": _or_none(n.minimum), "maximum": _or_none(n.maximum),
        "first": _or_none(n.first), "last": _or_none(n.last),
        "percentiles": {f"{p:g}": _or_none(v) for p, v in zip(PERCENTILES, n.percentiles, strict=True)},
        "mean_kinetic_temperature": _or_none(n.mean_kinetic),
        "mean_of_powers": _or_none(n.equivalent),
        "total": _or_none(n.total), "total_unit": n.total_unit,
        "in_bands_s": dict(channel.in_bands_s),
        "not_judged": list(channel.not_judged),
        "alarms": {
            a.name: {
                "condition": a.condition, "trips": len(a.spans), "in_alarm_s": a.in_alarm_s,
                "beyond_s": a.beyond_s,
                "spans": [
                    {"from": utc_text(s.begin_s), "to": utc_text(s.end_s), "worst": _or_none(s.worst)}
                    for s in a.spans
                ],
            }
            for a in channel.alarms
        },
    }  # fmt: skip


def _cells(channel: ChannelSummary) -> tuple[str, ...]:
    n = channel.numbers
    shown = (n.minimum, n.mean, n.maximum, n.deviation, n.percentiles[0], n.percentiles[-1])
    numbers = ("–" if math.isnan(value) else format_number(value, 5) for value in shown)
    return (channel.name, channel.unit, f"{n.count:,}", f"{n.missing:,}", *numbers)


def _more(channel: ChannelSummary) -> list[str]:
    """What has a line of its own: totals, bands, alarms."""
    n, lines = channel.numbers, []
    if math.isfinite(n.mean_kinetic):
        lines.append(
            f"{channel.name}: mean kinetic temperature {n.mean_kinetic:.2f} {channel.unit}"
        )
    if math.isfinite(n.equivalent):
        lines.append(f"{channel.name}: mean of the powers {n.equivalent:.1f} {channel.unit}")
    if math.isfinite(n.total):
        lines.append(f"{channel.name}: {format_number(n.total, 6)} {n.total_unit} in all")
    if channel.in_bands_s:
        shown = ", ".join(
            f"{name} {duration_text(round(s))}" for name, s in channel.in_bands_s.items() if s
        )
        lines.append(f"{channel.name}: in bands: {shown or 'none'}")
    for alarm in channel.alarms:
        count = len(alarm.spans)
        times = "never" if not count else f"{count} time{'s' * (count > 1)}"
        text = f"{alarm.name} ({alarm.condition}): {times} in alarm"
        if alarm.spans:
            longest = max(alarm.spans, key=lambda span: span.lasted_s)
            worst = max(alarm.spans, key=lambda span: span.beyond)
            text += (
                f", {duration_text(round(alarm.in_alarm_s))} in all; longest from "
                f"{utc_text(longest.begin_s)}, {duration_text(round(longest.lasted_s))}; worst "
                f"{format_number(worst.worst, 5)} {channel.unit} at {utc_text(worst.worst_s)}"
            )
        if alarm.beyond_s and not alarm.spans:
            text += f"; {duration_text(round(alarm.beyond_s))} beyond its point"
        lines.append(text)
    lines += [
        f"{name}: not judged here, since it is watched only while something else holds"
        for name in channel.not_judged
    ]
    return lines
