"""What a recording is judged by, and what it adds up to, as the section ``papers`` of its setup says."""

from __future__ import annotations

import math
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, is_dataclass
from itertools import chain
from typing import Any
from zoneinfo import ZoneInfo

from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.steps import Steps
from leitwerk.check.channels import CheckedChannel
from leitwerk.errors import QuantityError
from leitwerk.evaluation.exposure import ExposureMeter, NoiseExposure
from leitwerk.evaluation.followers import AlarmSpan, FurthestOut
from leitwerk.evaluation.shares import ShareJudge, ShareVerdict
from leitwerk.evaluation.summary import AlarmSummary, Summary, summarise
from leitwerk.evaluation.totals import Adder, PeriodTotals
from leitwerk.parsing.quantities import Quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.results import Outcome, overall
from leitwerk.setup.papers import JudgedGroup, Papers


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

    def to_dict(self) -> dict[str, Any]:
        """All of it as plain data for JSON."""
        found: dict[str, Any] = {
            "groups": {v.name: {"outcome": v.outcome.value, **_plain(v)} for v in self.groups},
            "shares": {v.name: {"outcome": v.outcome.value, **_plain(v)} for v in self.shares},
        }
        found["exposure"] = self.exposure and {
            "outcome": self.exposure.outcome.value, **_plain(self.exposure),
        }  # fmt: skip
        found["totals"] = self.totals and _plain(self.totals)
        return found | {"outcome": self.outcome.value if self.is_judged else None}

    def lines(self) -> Iterator[str]:
        """All of it in words, a line for each."""
        for group in self.groups:
            yield f"{group.name}: {group.outcome.value}"
        for share in self.shares:
            yield from share.lines()
        if self.exposure is not None:
            yield str(self.exposure)
        if self.totals is not None:
            for channel in self.totals.channels:
                yield from channel.lines()
            yield from self.totals.tariff_lines()

    @property
    def outcome(self) -> Outcome:
        """Of all together; unknown where nothing is judged."""
        parts: list[GroupVerdict | ShareVerdict | NoiseExposure] = [*self.groups, *self.shares]
        if self.exposure is not None:
            parts.append(self.exposure)
        return overall(part.outcome for part in parts)


class Judge:
    """Judges a recording, and adds up what is asked for, piece by piece.

    Parameters
    ----------
    columns : sequence of Column
        Of each piece: with the derived channels of the setup.
    papers : Papers
    channels : sequence of CheckedChannel
    zone : ZoneInfo
        By whose clock is added up.

    Raises
    ------
    QuantityError
        The recording lacks a channel of the exposure, or a unit does not fit.

    """

    def __init__(
        self,
        columns: Sequence[Column],
        papers: Papers,
        channels: Sequence[CheckedChannel],
        zone: ZoneInfo,
    ) -> None:
        self._papers = papers
        self._meter = None if papers.exposure is None else ExposureMeter(columns, papers.exposure)
        self._shares = ShareJudge(columns, papers.shares) if papers.shares else None
        self._adder = None
        if papers.totals is not None:
            asked, names = papers.totals, {channel.name: channel.label for channel in channels}
            self._adder = Adder(
                columns, asked.channels, asked.each, zone,
                highest_mean_s=None if asked.highest_mean is None else asked.highest_mean.seconds,
                labels=lambda name: names.get(name, ""),
                tariffs=asked.tariffs, holidays=asked.holidays,
            )  # fmt: skip

    def take(self, steps: Steps) -> None:
        """Take the next rows."""
        for taker in (self._meter, self._shares, self._adder):
            if taker is not None:
                taker.take(steps)

    def judged(self, summary: Summary) -> Judged:
        """What came of it; ``summary`` is that of the recording, with the channels of the setup."""
        totals = None if self._adder is None else self._adder.totals()
        return Judged(
            judge_groups(summary, self._papers.judged),
            () if self._shares is None else self._shares.verdicts(),
            None if self._meter is None else self._meter.exposure(),
            totals if totals is not None and totals.channels else None,
        )


def papers_within(papers: Papers, names: Container[str]) -> Papers:
    """What is asked of some channels only, where the others were not chosen.

    Groups of alarms stay: they are judged by the summary.
    """
    shares = {}
    for name, share in papers.shares.items():
        own = [channel for channel in share.channels if channel in names]
        if own:
            shares[name] = share.model_copy(update={"channels": own})
    totals, exposure = papers.totals, papers.exposure
    if totals is not None:
        own = [channel for channel in totals.channels if channel in names]
        totals = totals.model_copy(update={"channels": own})
    if exposure is not None:
        wanted = [name for name in (exposure.level, exposure.peak) if name is not None]
        exposure = exposure if all(name in names for name in wanted) else None
    return papers.model_copy(update={"shares": shares, "totals": totals, "exposure": exposure})


def survey(
    rows: Series | Iterable[Series],
    papers: Papers,
    channels: Sequence[CheckedChannel],
    zone: ZoneInfo,
) -> tuple[Summary, Judged]:
    """Summarise a recording, judge it, and add up what is asked for, in one pass.

    Parameters
    ----------
    rows : Series, or its pieces in the order of time
        See ``summarise``.
    papers, channels, zone
        See ``Judge``.

    Raises
    ------
    QuantityError
        There are no rows, the recording lacks a channel of the exposure, or a unit does not fit.

    """
    left = iter((rows,) if isinstance(rows, Series) else rows)
    first = next(left, None)
    if first is None:
        raise QuantityError("there are no rows", valid="one row or more")
    judge = Judge(first.columns, papers, channels, zone)
    whole = rows if isinstance(rows, Series) else chain((first,), left)
    summary = summarise(whole, channels, on_steps=judge.take)
    return summary, judge.judged(summary)


def _plain(value: Any) -> Any:
    """A dataclass as plain data for JSON: None for what is no number."""
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return _plain(asdict(value)) if is_dataclass(value) and not isinstance(value, type) else value


def every_span(summary: Summary) -> Iterator[tuple[AlarmSummary, str, AlarmSpan]]:
    """All times in alarm, with their alarm and unit, in the order of time."""
    found = [
        (alarm, channel.unit, span)
        for channel in summary.channels
        for alarm in channel.alarms
        for span in alarm.spans
    ]
    yield from sorted(found, key=lambda entry: entry[2].begin_s)
