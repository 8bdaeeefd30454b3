"""What a recording is judged by, and what it adds up to, as the section ``papers`` of its setup says."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from leitwerk.analysis.series import Series
from leitwerk.analysis.summary import total_of
from leitwerk.check.channels import CheckedChannel
from leitwerk.evaluation.exposure import NoiseExposure, noise_exposure
from leitwerk.evaluation.followers import AlarmSpan, FurthestOut
from leitwerk.evaluation.shares import ShareVerdict, judge_shares
from leitwerk.evaluation.summary import AlarmSummary, Summary
from leitwerk.evaluation.totals import PeriodTotals, add_up
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.results import Outcome, overall
from leitwerk.setup.papers import JudgedGroup, Papers, Totals


@dataclass(frozen=True)
class JudgedAlarm:
    """One alarm of a group: how often and how long values lay outside, and the one furthest out."""

    name: str
    condition: str
    unit: str
    times: int
    outside_s: float
    worst: FurthestOut | None


@dataclass(frozen=True)
class GroupVerdict:
    """A group of alarms, judged. ``at_most`` is a number of times, or None where ``at_most_s`` counts.

    Single: each time in alarm counts, behind the alarm's delay. Accumulated: all time beyond the trip points
    counts, also where no alarm tripped.
    """

    name: str
    at_most: int | None
    at_most_s: float | None
    alarms: tuple[JudgedAlarm, ...]
    has_gaps: bool

    @property
    def times(self) -> int:
        """Times outside, of all alarms."""
        return sum(alarm.times for alarm in self.alarms)

    @property
    def outside_s(self) -> float:
        """The time outside, of all alarms."""
        return sum(alarm.outside_s for alarm in self.alarms)

    @property
    def outcome(self) -> Outcome:
        """Passed while it is no more than is allowed; with gaps, what is within is not known for certain."""
        if self.at_most is not None and self.times > self.at_most:
            return Outcome.FAILED
        if self.at_most_s is not None and self.outside_s > self.at_most_s:
            return Outcome.FAILED
        return Outcome.UNKNOWN if self.has_gaps else Outcome.PASSED


def judge_groups(summary: Summary, judged: Mapping[str, JudgedGroup]) -> tuple[GroupVerdict, ...]:
    """The verdicts on groups of alarms.

    Parameters
    ----------
    summary : Summary
        Of the recording, with the channels of its setup.
    judged : mapping from name to JudgedGroup

    """
    known = {
        alarm.name: (alarm, channel) for channel in summary.channels for alarm in channel.alarms
    }
    found = []
    for name, group in judged.items():
        allowed = group.at_most
        is_time = isinstance(allowed, Quantity)
        alarms, missing = [], bool(summary.gaps)
        for alarm in group.alarms:
            if alarm not in known:
                missing = True  # the recording does not hold its channel
                continue
            one, channel = known[alarm]
            missing |= channel.numbers.missing > 0
            alarms.append(_judged(one, channel.unit, accumulated=is_time))
        seconds = allowed.value_in(parse_unit("s")) if isinstance(allowed, Quantity) else None
        times = None if isinstance(allowed, Quantity) else allowed
        found.append(GroupVerdict(name, times, seconds, tuple(alarms), missing))
    return tuple(found)


def _judged(alarm: AlarmSummary, unit: str, *, accumulated: bool) -> JudgedAlarm:
    outside = alarm.beyond_s if accumulated else alarm.in_alarm_s
    return JudgedAlarm(alarm.name, alarm.condition, unit, len(alarm.spans), outside, alarm.furthest)


@dataclass(frozen=True)
class Judged:
    """All that the section ``papers`` asks of a recording; empty where it asks nothing."""

    groups: tuple[GroupVerdict, ...] = ()
    shares: tuple[ShareVerdict, ...] = ()
    exposure: NoiseExposure | None = None
    totals: PeriodTotals | None = None

    @property
    def is_judged(self) -> bool:
        """Whether something of it ends in an outcome."""
        return bool(self.groups or self.shares or self.exposure)

    @property
    def outcome(self) -> Outcome:
        """Of all together; unknown where nothing is judged."""
        parts: list[GroupVerdict | ShareVerdict | NoiseExposure] = [*self.groups, *self.shares]
        if self.exposure is not None:
            parts.append(self.exposure)
        return overall(part.outcome for part in parts)


def judge(
    series: Series,
    summary: Summary,
    papers: Papers,
    channels: Sequence[CheckedChannel],
    zone: ZoneInfo,
) -> Judged:
    """Judge a recording, and add up what is asked for.

    Parameters
    ----------
    series : Series
        With the derived channels of the setup.
    summary : Summary
        Of it, with the channels of the setup.
    papers : Papers
    channels : sequence of CheckedChannel
    zone : ZoneInfo
        By whose clock is added up. Without ``totals``, powers and flows are added up by days.

    Raises
    ------
    QuantityError
        The recording lacks a channel of the exposure, or a unit does not fit.

    """
    exposure = None if papers.exposure is None else noise_exposure(series, papers.exposure)
    names = {channel.name: channel.label for channel in channels}
    wanted = papers.totals or Totals(channels=[c.name for c in series.columns if total_of(c.unit)])
    mean = wanted.highest_mean
    totals = add_up(
        series, wanted.channels, wanted.each, zone,
        highest_mean_s=None if mean is None else mean.seconds,
        labels=lambda name: names.get(name, ""),
    )  # fmt: skip
    return Judged(
        judge_groups(summary, papers.judged),
        judge_shares(series, papers.shares),
        exposure,
        totals if totals.channels else None,
    )


def every_span(summary: Summary) -> Iterator[tuple[AlarmSummary, str, AlarmSpan]]:
    """All times in alarm, with their alarm and unit, in the order of time."""
    found = [
        (alarm, channel.unit, span)
        for channel in summary.channels
        for alarm in channel.alarms
        for span in alarm.spans
    ]
    yield from sorted(found, key=lambda entry: entry[2].begin_s)
