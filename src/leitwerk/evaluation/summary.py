"""The summary of a recording by its setup: numbers of each channel, times in bands and in alarm, gaps."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import chain
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.analysis.series import Series, utc_text
from leitwerk.analysis.steps import Steps, flags_of, head_of
from leitwerk.analysis.summary import (
    PERCENTILES,
    ColumnNumbers,
    ColumnSummary,
    Gap,
    exact_percentiles,
    gaps,
    usual_interval,
    weights,
)
from leitwerk.check.channels import CheckedChannel, DerivedChannel
from leitwerk.errors import QuantityError
from leitwerk.evaluation.followers import AlarmFollower, AlarmSpan, BandFollower, FurthestOut
from leitwerk.parsing.durations import duration_text
from leitwerk.parsing.quantities import format_number
from leitwerk.parsing.units import parse_unit
from leitwerk.signals.angles import full_turn
from leitwerk.signals.quality import Quality
from leitwerk.signals.states import NO_STATE, StateNames

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

    ``states`` are those of a channel that has states, by their names; ``increase`` is what a channel that
    only counts went up by, ``incomplete`` how many of its values lack something, and ``lost_s`` the time that
    is missing in them, NaN where that is not known. ``not_judged`` are alarms that are watched only while
    something else holds: a recording does not say when.
    """

    name: str
    label: str
    unit: str
    numbers: ColumnSummary
    alarms: tuple[AlarmSummary, ...] = ()
    in_bands_s: Mapping[str, float] = field(default_factory=dict)
    not_judged: tuple[str, ...] = ()
    states: Mapping[str, InState] = field(default_factory=dict)
    increase: float = math.nan
    incomplete: int = 0
    lost_s: float = 0.0


@dataclass(frozen=True, slots=True)
class InState:
    """How long a channel was in a state, in s, and how often it came into it."""

    lasted_s: float
    visits: int


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
        rows = _prepared(rows, channels)
    pieces = iter((rows,) if isinstance(rows, Series) else rows)
    head = head_of(pieces)
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
        units = [parse_unit(c.unit) if c.unit else None for c in first.columns]
        self.numbers = [
            ColumnNumbers(
                unit,
                turn=full_turn(unit) if channel is None else channel.turn,
                with_histogram=with_histogram,
            )
            for unit, channel in zip(units, self._channels, strict=True)
        ]
        named = list(enumerate(self._channels))
        self._states = {k: _InStates(c.states) for k, c in named if c is not None and c.states}
        self._counts = {
            k: _Counted(c, self._places) for k, c in named if c is not None and c.counts
        }
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
        self._spent_s = 0.0
        # How long the last row stands is known when the next one has come.
        self._pending: _Weighed | None = None

    def take(self, piece: Series) -> None:
        """Take the next rows."""
        times, values = piece.times_s, np.asfortranarray(self._usable(piece))
        if not times.size:
            return
        if not self._rows:
            self._begin_s = float(times[0])
        else:
            self._gaps += gaps(np.array([self._end_s, times[0]]), self._interval_s)
        self._gaps += gaps(times, self._interval_s)
        for k, counted in self._counts.items():
            counted.take(values[:, k], piece, k)
        beyond, bands = [], []
        for k, numbers in enumerate(self.numbers):
            x = values[:, k]
            numbers.take(x)
            seen = x
            if k in self._states and self._alarms[k] and piece.qualities is not None:
                seen = np.where(piece.qualities[:, k] == Quality.AT_REST, NO_STATE, x)
            beyond.append([f.take(times, seen, self._other(f, values)) for f in self._alarms[k]])
            follower = self._bands[k]
            bands.append(None if follower is None else follower.take(times, x))
        self._weigh(_Weighed(times, values, beyond, bands, flags_of(piece)))
        self._rows += times.size
        self._end_s = float(times[-1])

    def _lost(self, numbers: ColumnSummary, counted: _Counted | None) -> float:
        """For how long rows have nothing to add up, in s."""
        if counted is not None:
            return counted.lost_s
        return self._spent_s - numbers.known_s if math.isfinite(numbers.total) else 0.0

    def _usable(self, piece: Series) -> Array:
        """The good values; of what only counts, also those that lack something."""
        return _usable(piece, list(self._counts))

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
        self._spent_s += float(spent.sum())
        # Where all rows stand for as long, one number does.
        is_even = spent.size > 1 and spent.min() == spent.max()
        each = spent[:1] if is_even else spent
        for k, in_states in self._states.items():
            in_states.take(rows.values[:, k], spent)
        for counted in self._counts.values():
            counted.lose(rows.values, spent)
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
            if k in self._states or k in self._counts:
                numbers = _without_statistics(numbers, is_state=k in self._states)
            counted = self._counts.get(k)
            lost_s = sum(g.end_s - g.begin_s - self._interval_s for g in self._gaps)
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
                    self._states[k].found() if k in self._states else {},
                    math.nan if counted is None else counted.increase,
                    0 if counted is None else counted.incomplete,
                    self._lost(numbers, counted) + lost_s,
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


def _prepared(rows: Series, channels: Sequence[CheckedChannel]) -> Series:
    """A whole recording, its columns one by one: each has to lie together in memory."""
    counting = {c.name for c in channels if c.counts}
    places = [k for k, column in enumerate(rows.columns) if column.name in counting]
    rests = any(c.states is not None and c.alarms for c in channels)
    keeps = bool(places) or rests or flags_of(rows) is not None
    values = np.asfortranarray(_usable(rows, places))
    return replace(rows, values=values, qualities=rows.qualities if keeps else None)


def _usable(rows: Series, counting: Sequence[int]) -> Array:
    values = rows.good()
    if counting and rows.qualities is not None:
        values = values.copy(order="F")
        values[:, counting] = rows.known()[:, counting]
    return values


def _without_statistics(numbers: ColumnSummary, *, is_state: bool) -> ColumnSummary:
    """The numbers of a column whose mean and spread mean nothing: states, and what only counts."""
    none = math.nan
    found = replace(
        numbers, mean=none, deviation=none, percentiles=(none,) * len(numbers.percentiles)
    )
    return replace(found, minimum=none, maximum=none) if is_state else found


class _InStates:
    """Times and visits of each state, gathered piece by piece; no value is no state."""

    def __init__(self, states: StateNames) -> None:
        self._states = states
        self._lasted = dict.fromkeys(states.numbers, 0.0)
        self._visits = dict.fromkeys(states.numbers, 0)
        self._before = math.nan

    def take(self, values: Array, spent_s: Array) -> None:
        """Take values, and for how long each stands."""
        if not values.size:
            return
        before = np.concatenate(([self._before], values[:-1]))
        for number in self._lasted:
            here = values == number
            self._lasted[number] += float(spent_s[here].sum())
            self._visits[number] += int((here & (before != number)).sum())
        self._before = float(values[-1])

    def found(self) -> dict[str, InState]:
        """All states by their names."""
        return {
            self._states.name(n): InState(self._lasted[n], self._visits[n]) for n in self._lasted
        }


class _Counted:
    """What a channel that only counts goes up by, and what of it is missing."""

    def __init__(self, channel: CheckedChannel, places: Mapping[str, int]) -> None:
        names = channel.inputs if isinstance(channel, DerivedChannel) else (channel.name,)
        self._inputs = [places[name] for name in names if name in places]
        self.increase, self.incomplete = 0.0, 0
        self.lost_s = 0.0 if len(self._inputs) == len(names) else math.nan
        self._last = math.nan

    def take(self, values: Array, piece: Series, place: int) -> None:
        """Take the next values: where one is less, it has begun anew."""
        if piece.qualities is not None:
            self.incomplete += int((piece.qualities[:, place] == Quality.INCOMPLETE).sum())
        known = values[~np.isnan(values)]
        if not known.size:
            return
        steps = np.diff(np.concatenate(([self._last], known)))
        fallen = steps < 0.0
        self.increase += float(np.where(fallen, known, np.nan_to_num(steps)).sum())
        self._last = float(known[-1])

    def lose(self, values: Array, spent_s: Array) -> None:
        """Count for how long an input had no value."""
        if self._inputs and spent_s.size:
            self.lost_s += float(spent_s[np.isnan(values[:, self._inputs]).any(axis=1)].sum())


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
        "arithmetic_mean": _or_none(n.arithmetic),
        "states": {name: {"time_s": s.lasted_s, "visits": s.visits} for name, s in channel.states.items()},
        "increase": _or_none(channel.increase), "incomplete": channel.incomplete,
        "lost_s": _or_none(channel.lost_s),
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


def _alarm_line(alarm: AlarmSummary, channel: ChannelSummary) -> str:
    """What became of an alarm."""
    count = len(alarm.spans)
    times = "never" if not count else f"{count} time{'s' * (count > 1)}"
    text = f"{alarm.name} ({alarm.condition}): {times} in alarm"
    if alarm.spans and channel.states:
        longest = max(alarm.spans, key=lambda span: span.lasted_s)
        text += (
            f", {duration_text(round(alarm.in_alarm_s))} in all; longest from "
            f"{utc_text(longest.begin_s)}, {duration_text(round(longest.lasted_s))}"
        )
    elif alarm.spans:
        longest = max(alarm.spans, key=lambda span: span.lasted_s)
        worst = max(alarm.spans, key=lambda span: span.beyond)
        text += (
            f", {duration_text(round(alarm.in_alarm_s))} in all; longest from "
            f"{utc_text(longest.begin_s)}, {duration_text(round(longest.lasted_s))}; worst "
            f"{format_number(worst.worst, 5)} {channel.unit} at {utc_text(worst.worst_s)}"
        )
    if alarm.beyond_s and not alarm.spans:
        text += f"; {duration_text(round(alarm.beyond_s))} beyond its point"
    return text


def _increase(channel: ChannelSummary) -> str:
    """What a channel that only counts went up by, and what is missing in it."""
    unit = f" {channel.unit}" if channel.unit else ""
    text = f"increased by {format_number(channel.increase, 6)}{unit} in all"
    if not channel.incomplete:
        return text
    lost = channel.lost_s
    missing = "" if math.isnan(lost) else f": {duration_text(round(lost))} are missing in it"
    return f"{text}, incomplete{missing}"


def _more(channel: ChannelSummary) -> list[str]:
    """What has a line of its own: totals, bands, alarms."""
    n, lines = channel.numbers, []
    if math.isfinite(n.mean_kinetic):
        lines.append(
            f"{channel.name}: mean kinetic temperature {n.mean_kinetic:.2f} {channel.unit}"
        )
    if math.isfinite(n.arithmetic):
        lines.append(
            f"{channel.name}: arithmetic mean of the levels {n.arithmetic:.1f} {channel.unit}"
        )
    if channel.states:
        shown = ", ".join(
            f"{name} {duration_text(round(s.lasted_s))} in {s.visits} visit{'s' * (s.visits != 1)}"
            for name, s in channel.states.items()
            if s.visits
        )
        lines.append(f"{channel.name}: {shown or 'in no state'}")
    if math.isfinite(channel.increase):
        lines.append(f"{channel.name}: {_increase(channel)}")
    if math.isfinite(n.total):
        lost = round(channel.lost_s)
        without = f", without {duration_text(lost)} that are missing" if lost else ""
        total = f"{format_number(n.total, 6)} {n.total_unit} in all"
        lines.append(f"{channel.name}: {total}{without}")
    if channel.in_bands_s:
        shown = ", ".join(
            f"{name} {duration_text(round(s))}" for name, s in channel.in_bands_s.items() if s
        )
        lines.append(f"{channel.name}: in bands: {shown or 'none'}")
    lines += (_alarm_line(alarm, channel) for alarm in channel.alarms)
    lines += [
        f"{name}: not judged here, since it is watched only while something else holds"
        for name in channel.not_judged
    ]
    return lines
