"""What a recording is judged by: groups of alarms, each with how often or how long it may lie outside."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from leitwerk.evaluation.followers import AlarmSpan, FurthestOut
from leitwerk.evaluation.summary import AlarmSummary, Summary
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.results import Outcome, overall
from leitwerk.setup.papers import JudgedGroup


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


def outcome_of(verdicts: tuple[GroupVerdict, ...]) -> Outcome:
    """Of all groups together; unknown where nothing is judged."""
    return overall(verdict.outcome for verdict in verdicts)


def every_span(summary: Summary) -> Iterator[tuple[AlarmSummary, str, AlarmSpan]]:
    """All times in alarm, with their alarm and unit, in the order of time."""
    found = [
        (alarm, channel.unit, span)
        for channel in summary.channels
        for alarm in channel.alarms
        for span in alarm.spans
    ]
    yield from sorted(found, key=lambda entry: entry[2].begin_s)
