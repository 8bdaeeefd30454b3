"""The dry run: a course of values goes through the alarms of a setup, and nothing is switched."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.inputs import change_within
from leitwerk.alarms.states import State
from leitwerk.alarms.timeline import Timeline, alarm_timeline
from leitwerk.analysis.series import Column, read_series
from leitwerk.analysis.statistics import STATISTICS
from leitwerk.check.channels import CheckedChannel, DerivedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import QuantityError
from leitwerk.evaluation.channel_values import ChannelValues
from leitwerk.evaluation.course import Course
from leitwerk.evaluation.situation import Situation
from leitwerk.parsing.frames import dataframe
from leitwerk.parsing.units import convert, parse_unit
from leitwerk.signals.angles import wrapped
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import NDArray

MAX_SAMPLES = 20_000_000  # of one channel: 160 MB


@dataclass(frozen=True)
class Courses:
    """What is fed in: times of shape (n,) in s, and for some channels values, NaN where bad.

    ``begins_s`` is when the first sample was taken, in s since 1970-01-01 UTC: totals of a day need it.
    """

    times_s: NDArray[np.float64]
    values: Mapping[str, NDArray[np.float64]]
    begins_s: float = 0.0


@dataclass(frozen=True)
class Track:
    """One channel in a dry run: its values, and what became of each of its alarms."""

    channel: CheckedChannel
    values: NDArray[np.float64]
    timelines: tuple[Timeline, ...]
    bands: tuple[tuple[float, str], ...]


@dataclass(frozen=True)
class DryRun:
    """What alarms did in a dry run. ``times_s`` has shape (n,), and so have all values."""

    title: str
    times_s: NDArray[np.float64]
    tracks: tuple[Track, ...]

    def changes(self) -> list[tuple[float, str, str, float]]:
        """Every change of an alarm, in order: time in s, its name, its state, the value then."""
        found = []
        for track in self.tracks:
            for line in track.timelines:
                name = f"{track.channel.name}.{line.alarm.name}"
                found += [
                    (float(self.times_s[k]), name, State(state).words, float(track.values[k]))
                    for k, state in zip(line.sample.tolist(), line.state.tolist(), strict=True)
                ]
        return sorted(found, key=lambda change_: change_[0])

    def to_dataframe(self) -> pd.DataFrame:
        """A row for each change of an alarm: ``time_s`` as its index, alarm, state, value then."""
        changes = self.changes()
        names = ("time_s", "alarm", "state", "value")
        columns = {name: [row[k] for row in changes] for k, name in enumerate(names)}
        return dataframe(columns, {"time_s": "s"}, "time_s")

    def __repr__(self) -> str:
        return f"<DryRun {self.title!r}: {len(self.changes())} changes of alarms>"

    def never_tripped(self) -> list[str]:
        """The alarms that never tripped."""
        return [
            f"{track.channel.name}.{line.alarm.name}"
            for track in self.tracks
            for line in track.timelines
            if not line.trips
        ]

    def to_dict(self) -> dict[str, Any]:
        """The dry run as plain data for JSON, without the single samples."""
        return {
            "title": self.title,
            "samples": int(self.times_s.size),
            "duration_s": _length(self.times_s),
            "channels": [
                {
                    "channel": track.channel.name,
                    "unit": track.channel.unit.symbol,
                    "alarms": [line.to_dict() for line in track.timelines],
                    "bands": [{"time_s": time, "band": band} for time, band in track.bands],
                }
                for track in self.tracks
            ],
            "never_tripped": self.never_tripped(),
        }

    def __str__(self) -> str:
        channels = {t.channel.name: t.channel for t in self.tracks}
        changes = self.changes()
        width = max((len(name) for _, name, _, _ in changes), default=0)
        lines = [f"{self.title}: dry run over {clock_text(_length(self.times_s))}"]
        for time, name, state, value in changes:
            shown = channels[name.partition(".")[0]].words(value)
            lines.append(f"{clock_text(time)}  {name:{width}}  {state:24}  {shown}")
        if calm := self.never_tripped():
            lines.append(f"never tripped: {', '.join(calm)}")
        return "\n".join(lines)


def _length(times_s: NDArray[np.float64]) -> float:
    return float(times_s[-1] - times_s[0]) if times_s.size else 0.0


def clock_text(seconds: float) -> str:
    """A time since the start, for people: ``00:12:05``, with tenths where there are some."""
    tenths = round(seconds * 10)
    hours, rest = divmod(tenths, 36_000)
    minutes, rest = divmod(rest, 600)
    tail = f".{rest % 10}" if rest % 10 else ""
    return f"{hours:02}:{minutes:02}:{rest // 10:02}{tail}"


def draw_courses(courses: Mapping[str, Course], interval_s: float, *, seed: int = 1) -> Courses:
    """Sample drawn courses at an interval; the longest says how long it takes.

    Raises
    ------
    QuantityError
        The interval cannot be used, or the samples are too many.

    """
    if not (math.isfinite(interval_s) and interval_s > 0):
        raise QuantityError(
            f"an interval of {interval_s:g} s cannot be used", valid="more than 0 s"
        )
    length = max((course.lasts_s for course in courses.values()), default=0.0)
    count = int(length / interval_s + 1e-9) + 1
    if count > MAX_SAMPLES:
        message = f"{count:,} samples are too many for a dry run"
        raise QuantityError(message, valid=f"at most {MAX_SAMPLES:,}", remedy="sample more slowly")
    times: NDArray[np.float64] = np.arange(count, dtype=np.float64) * interval_s
    noise = np.random.default_rng(seed).standard_normal
    return Courses(times, {name: course.at(times, noise) for name, course in courses.items()})


def read_recorded(text: str, setup: CheckedSetup) -> Courses:
    """The courses of a setup's channels that a file holds: samples of ``live``, a recording, means.

    See ``leitwerk.analysis.series`` for its form. Values are converted to the unit of their channel. Of
    condensed values, the means are taken. A value that is not good is no reading.

    Raises
    ------
    QuantityError
        The text is not such a file, or a column belongs to no channel of the setup.

    """
    series = read_series(text, setup.setup.zone)
    channels = {channel.name: channel for channel in setup.channels}
    values: dict[str, NDArray[np.float64]] = {}
    for column, numbers in zip(series.columns, series.good().T, strict=True):
        name, _, statistic = column.name.partition(" ")
        if name in channels and statistic in {*STATISTICS, ""} - {"mean", ""}:
            continue
        if name not in channels or statistic not in {"mean", ""}:
            raise QuantityError(
                f"there is no channel {column.name[:40]!r}",
                valid=", ".join(list(channels)[:20]),
                remedy="fetch a recording with its setup, so that its columns are channels: "
                "leitwerk fetch setup.yaml",
            )
        if name in values:
            raise QuantityError(f"two columns hold values of {name}", valid="one for each channel")
        values[name] = _in_unit(numbers, column, channels[name])
    begins_s = float(series.times_s[0])
    return Courses(series.times_s - begins_s, values, begins_s)


def _in_unit(
    values: NDArray[np.float64], column: Column, channel: CheckedChannel
) -> NDArray[np.float64]:
    """The values of a column in the unit of its channel; a column without a unit has it already."""
    if not column.unit or channel.states is not None:
        return values
    try:
        return convert(values, parse_unit(column.unit), channel.unit)
    except QuantityError as error:
        raise QuantityError(f"column {column}: {error.message}", valid=error.valid) from None


def dry_run(setup: CheckedSetup, courses: Courses, *, gap_s: float = math.inf) -> DryRun:
    """Feed courses of values through the alarms of a setup.

    Channels without a course stay at what is expected of them, or show nothing.

    Parameters
    ----------
    setup : CheckedSetup
    courses : Courses
    gap_s : float, in s
        Samples further apart than this do not belong together.

    Raises
    ------
    SetupError
        The setup has errors.
    QuantityError
        A course is for a channel that the setup does not have.

    """
    channels = setup.require().channels
    names = [c.name for c in channels]
    for name in courses.values:
        if name not in names:
            raise QuantityError(f"there is no channel {name[:40]!r}", valid=", ".join(names[:20]))
    t = courses.times_s
    values = {
        c.name: courses.values.get(
            c.name, np.full(t.shape, c.expected[0] if c.expected else math.nan)
        )
        for c in channels
    }
    _derive(channels, courses, values)
    enabled = _enabled(channels, t, values, gap_s)
    tracks = []
    for c in channels:
        timelines = tuple(
            alarm_timeline(
                alarm,
                t,
                watched(alarm, t, values[c.name], values.get(alarm.other), gap_s),
                enabled=enabled.get(f"{c.name}.{alarm.name}"),
                gap_s=gap_s,
            )
            for alarm in c.alarms
        )
        if c.name in courses.values or timelines or isinstance(c, DerivedChannel):
            tracks.append(Track(c, values[c.name], timelines, _bands(c, t, values[c.name])))
    return DryRun(setup.setup.title, t, tuple(tracks))


def _derive(
    channels: Sequence[CheckedChannel],
    courses: Courses,
    values: dict[str, NDArray[np.float64]],
) -> None:
    """Fill in the derived channels that have no course of their own."""
    worked = ChannelValues(channels)
    if len(worked.measured) == len(channels):
        return
    times_s = courses.begins_s + courses.times_s
    given = np.array([values[c.name] for c in worked.measured]).reshape(-1, times_s.size).T
    codes = np.where(np.isnan(given), Quality.NO_NUMBER, Quality.GOOD).astype(np.uint8)
    found, qualities = worked.derive(times_s, given, codes)
    for column, c in enumerate(channels):
        if isinstance(c, DerivedChannel) and c.name not in courses.values:
            known = Quality.has_value(qualities[:, column])
            values[c.name] = np.where(known, found[:, column], np.nan)


def watched(
    alarm: AlarmDefinition,
    times_s: NDArray[np.float64],
    values: NDArray[np.float64],
    other: NDArray[np.float64] | None,
    gap_s: float,
) -> NDArray[np.float64]:
    """What an alarm looks at, worked from the values of its channel and of another one."""
    if alarm.watch is Watch.CHANGE:
        return change_within(times_s, values, alarm.window_s, gap_s, alarm.turn)
    if alarm.watch is Watch.DIFFERENCE:
        return wrapped(values - (alarm.nominal if other is None else other), alarm.turn)  # type: ignore[no-any-return]
    return values


def _enabled(
    channels: Sequence[CheckedChannel],
    times_s: NDArray[np.float64],
    values: Mapping[str, NDArray[np.float64]],
    gap_s: float,
) -> dict[str, NDArray[np.bool_]]:
    """When alarms with a condition are watched: worked sample by sample, as it is live."""
    if not any(alarm.only_while for c in channels for alarm in c.alarms):
        return {}
    situation = Situation(channels, gap_s=gap_s)
    every = np.stack([values[c.name] for c in channels], axis=1)
    good = np.isfinite(every)
    found = np.ones((times_s.size, len(situation.board.watched)), bool)
    for k, time in enumerate(times_s.tolist()):
        situation.take(time, every[k], good[k], time_of_day_s=time)
        found[k] = situation.enabled
    return {
        w.name: found[:, k]
        for k, w in enumerate(situation.board.watched)
        if w.alarm.only_while is not None
    }


def _bands(
    channel: CheckedChannel, times_s: NDArray[np.float64], values: NDArray[np.float64]
) -> tuple[tuple[float, str], ...]:
    """When the channel came into each of its bands."""
    if channel.bands is None or not times_s.size:
        return ()
    number = channel.bands.at(values, times_s)
    at = np.flatnonzero(np.append(True, number[1:] != number[:-1]))
    parts = channel.bands.parts
    return tuple(
        (float(times_s[k]), parts[number[k]].text if number[k] >= 0 else "none") for k in at
    )
