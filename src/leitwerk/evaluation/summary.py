"""The summary of a recording by its setup: numbers of each channel, times in bands and in alarm, gaps."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.runs import LevelFollower
from leitwerk.alarms.states import Level
from leitwerk.analysis.series import Series, utc_text
from leitwerk.analysis.summary import (
    PERCENTILES,
    ColumnSummary,
    Gap,
    gaps,
    summarise_column,
    usual_interval,
    weights,
)
from leitwerk.check.channels import CheckedChannel
from leitwerk.evaluation.dry_run import watched
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.quantities import format_number
from leitwerk.parsing.units import parse_unit

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class AlarmSpan:
    """A time in alarm, in s since 1970-01-01 UTC, and the value that lay furthest out.

    ``worst_s`` is when that was, ``beyond`` how far beyond the trip point.
    """

    begin_s: float
    end_s: float
    worst: float
    worst_s: float
    beyond: float

    @property
    def lasted_s(self) -> float:
        """How long, in s."""
        return self.end_s - self.begin_s


@dataclass(frozen=True)
class AlarmSummary:
    """What became of one alarm. ``beyond_s`` is the time beyond its trip point, with a trip or without."""

    name: str
    condition: str
    delay_s: float
    spans: tuple[AlarmSpan, ...]
    beyond_s: float

    @property
    def in_alarm_s(self) -> float:
        """The time in alarm in all."""
        return sum(span.lasted_s for span in self.spans)


@dataclass(frozen=True)
class ChannelSummary:
    """One channel of a recording; ``in_bands_s`` are the times in its bands, by their names."""

    name: str
    label: str
    unit: str
    numbers: ColumnSummary
    alarms: tuple[AlarmSummary, ...] = ()
    in_bands_s: Mapping[str, float] = field(default_factory=dict)


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
            lines.append(
                f"{len(self.gaps)} gaps, {duration_text(round(self.missing_s))} without rows"
            )
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
    series: Series | Iterable[Series],
    channels: Sequence[CheckedChannel] = (),
    *,
    gap_s: float = math.inf,
) -> Summary:
    """Summarise a recording.

    Parameters
    ----------
    series : Series, or its pieces in the order of time
    channels : sequence of CheckedChannel, optional
        Those of the setup: with their labels, alarms and bands.
    gap_s : float, in s
        Rows further apart than this do not belong together, for alarms.

    """
    whole = series if isinstance(series, Series) else _joined(list(series))
    known = {channel.name: channel for channel in channels}
    times, values = whole.times_s, whole.good()
    interval_s = usual_interval(times)
    weights_s = weights(times, interval_s)
    good = {column.name: values[:, k] for k, column in enumerate(whole.columns)}
    found = []
    for column in whole.columns:
        channel = known.get(column.name)
        x = good[column.name]
        unit = parse_unit(column.unit) if column.unit else None
        numbers = summarise_column(x, weights_s, unit)
        alarms, bands = tuple[AlarmSummary, ...](), dict[str, float]()
        if channel is not None and channel.symbol == column.unit:
            alarms = tuple(
                _alarm(channel, alarm, times, x, good.get(alarm.other), weights_s, gap_s)
                for alarm in channel.alarms
                if alarm.only_while is None
            )
            bands = _bands(channel, times, x, weights_s)
        label = "" if channel is None else channel.label
        found.append(ChannelSummary(column.name, label, column.unit, numbers, alarms, bands))
    return Summary(
        float(times[0]), float(times[-1]), times.size, interval_s, tuple(gaps(times, interval_s)),
        tuple(found),
    )  # fmt: skip


def alarm_spans(
    alarm: AlarmDefinition,
    times_s: Array,
    watched_values: Array,
    *,
    gap_s: float = math.inf,
    follower: LevelFollower | None = None,
) -> list[tuple[int, int]]:
    """First and last sample of each time in alarm; the end does not count in."""
    follower = follower or LevelFollower(alarm, gap_s=gap_s)
    tripped = follower.level == Level.TRIPPED
    at, levels = follower.take(times_s, watched_values)
    found, begin = [], 0 if tripped else -1
    for sample, level in zip(at.tolist(), levels.tolist(), strict=True):
        if level == Level.TRIPPED and begin < 0:
            begin = sample
        elif level != Level.TRIPPED and begin >= 0:
            found.append((begin, sample))
            begin = -1
    if begin >= 0:
        found.append((begin, times_s.size))
    return found


def _alarm(
    channel: CheckedChannel,
    alarm: AlarmDefinition,
    times: Array,
    values: Array,
    other: Array | None,
    weights_s: Array,
    gap_s: float,
) -> AlarmSummary:
    seen = watched(alarm, times, values, other, gap_s)
    if alarm.watch is Watch.READING:
        seen = np.isnan(values).astype(float)
    low, high = alarm.trip
    with np.errstate(invalid="ignore"):
        beyond = (seen < low) | (seen > high)
        if alarm.inside:
            beyond = (seen >= low) & (seen <= high)
    spans = []
    for begin, end in alarm_spans(alarm, times, seen, gap_s=gap_s):
        piece = seen[begin:end]
        out = np.where(np.isnan(piece), -np.inf, np.maximum(low - piece, piece - high))
        k = int(np.argmax(out))
        last = min(end, times.size - 1)
        at_s, worst = float(times[begin + k]), float(piece[k])
        spans.append(AlarmSpan(float(times[begin]), float(times[last]), worst, at_s, float(out[k])))
    return AlarmSummary(
        f"{channel.name}.{alarm.name}",
        alarm.condition(channel.symbol, channel.states),
        alarm.delay_s,
        tuple(spans),
        float(weights_s[beyond].sum()),
    )


def _bands(
    channel: CheckedChannel, times: Array, values: Array, weights_s: Array
) -> dict[str, float]:
    if channel.bands is None:
        return {}
    number = channel.bands.at(values, times)
    return {
        part.name: float(weights_s[number == k].sum()) for k, part in enumerate(channel.bands.parts)
    }


def _joined(pieces: Sequence[Series]) -> Series:
    first = pieces[0]
    codes = [
        np.zeros(p.values.shape, np.uint8) if p.qualities is None else p.qualities for p in pieces
    ]
    return Series(
        first.columns, np.concatenate([p.times_s for p in pieces]),
        np.concatenate([p.values for p in pieces]), np.concatenate(codes), first.dated,
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
        "total": _or_none(n.total), "total_unit": n.total_unit,
        "in_bands_s": dict(channel.in_bands_s),
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
    if math.isfinite(n.total):
        lines.append(f"{channel.name}: {format_number(n.total, 6)} {n.total_unit} in all")
    if channel.in_bands_s:
        shown = ", ".join(
            f"{name} {duration_text(round(s))}" for name, s in channel.in_bands_s.items() if s
        )
        lines.append(f"{channel.name}: in bands: {shown or 'none'}")
    for alarm in channel.alarms:
        times = "never" if not alarm.spans else f"{len(alarm.spans)} times"
        text = f"{alarm.name} ({alarm.condition}): {times} in alarm"
        if alarm.spans:
            worst = max(alarm.spans, key=lambda span: span.lasted_s)
            text += (
                f", {duration_text(round(alarm.in_alarm_s))} in all; longest from "
                f"{utc_text(worst.begin_s)}, {duration_text(round(worst.lasted_s))}, worst "
                f"{format_number(worst.worst, 5)} {channel.unit}"
            )
        if alarm.beyond_s and not alarm.spans:
            text += f"; {duration_text(round(alarm.beyond_s))} beyond its point"
        lines.append(text)
    return lines
