"""From readings to verdicts: statistics of each channel, its expectation, and why it fails."""

from __future__ import annotations

import enum
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache, partial
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.alarms.chatter import cycles_per_hour
from leitwerk.alarms.states import State
from leitwerk.analysis.levels import is_level, level_of, powers
from leitwerk.check.channels import CheckedChannel, ReadingChannel, SignalChannel
from leitwerk.datasheet.settings import SettingChange
from leitwerk.evaluation.diagnosis import NO_PULSES, Seen, likely_cause
from leitwerk.evaluation.resolution import decimals_of
from leitwerk.parsing.quantities import format_number, format_value
from leitwerk.parsing.units import convert_difference, parse_unit
from leitwerk.results import Outcome
from leitwerk.signals.angles import deviation_of_directions, mean_direction, wrapped
from leitwerk.signals.pulse_inputs import PERIOD, PULSED
from leitwerk.signals.quality import Quality
from leitwerk.signals.states import StateNames

if TYPE_CHECKING:
    from numpy.typing import NDArray


_ENOUGH = 5  # readings that a standard deviation is worked out from
# What a pass needs, besides the mean: this part of the readings lies within the tolerance, the mean is
# known well enough (GUM, 4.2.3: type A; the interval of 95 %), and they do not drift through it.
_WITHIN = 0.95
_CONFIDENCE = 0.95
_CLEAR_TREND = 4.0  # standard errors of a slope, from which on it is one


class Verdict(enum.StrEnum):
    """What became of an expectation."""

    PASS = "pass"  # noqa: S105 - no password
    FAIL = "fail"
    UNSTEADY = "unsteady"
    MARGINAL = "marginal"
    NO_READING = "no reading"
    NO_EXPECTATION = "no expectation"


_OUTCOMES = {
    Verdict.PASS: Outcome.PASSED,
    Verdict.FAIL: Outcome.FAILED,
    Verdict.UNSTEADY: Outcome.FAILED,
    Verdict.MARGINAL: Outcome.UNKNOWN,
    Verdict.NO_READING: Outcome.FAILED,
    Verdict.NO_EXPECTATION: Outcome.UNKNOWN,
}


@dataclass(frozen=True, slots=True)
class ChannelReport:
    """One channel of a live check. Numbers are in ``unit``; None where there is nothing to say.

    ``within`` is the part of the good readings that lies within the tolerance, 0 to 1.
    """

    name: str
    label: str
    unit: str
    count: int
    good: int
    last: float | None
    mean: float | None
    minimum: float | None
    maximum: float | None
    standard_deviation: float | None
    within: float | None
    quality: str
    alarms: dict[str, str]
    band: str
    expected: float | None
    tolerance: float | None
    states: StateNames | None
    verdict: Verdict
    reason: str
    remark: str = ""
    resolution: float = 0.0

    @property
    def outcome(self) -> Outcome:
        """Passed when the expectation was met; unknown for a channel without one."""
        return _OUTCOMES[self.verdict]

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why it did not pass."""
        return (f"{self.name}: {self.reason}",) if self.reason else ()

    def to_dict(self) -> dict[str, Any]:
        """The report as plain data for JSON and tables."""
        found = {name: getattr(self, name) for name in self.__dataclass_fields__}
        return found | {"states": self.states.names if self.states else None}

    def shown(self, value: float | None) -> str:
        """A value of this channel for people: with as many digits as make sense, or its state."""
        return shown_value(value, self.states, shown_decimals(self.tolerance, self.resolution))


def shown_decimals(tolerance: float | None, resolution: float) -> int | None:
    """With how many decimals a value makes sense; None where neither is known.

    A tenth of the tolerance is what a comparison needs, and the device gives no more than its resolution.
    """
    finest = [decimals_of(tolerance / 10.0)] if tolerance else []
    finest += [decimals_of(resolution)] if resolution else []
    return min(finest) if finest else None


def shown_value(value: float | None, states: StateNames | None, decimals: int | None) -> str:
    """A value for people: with so many decimals, with four digits if they are not known, or its state."""
    if value is None:
        return "–"
    if states is not None:
        return states.name(value) if value in states.numbers else "changing"
    if decimals is None:
        decimals = decimals_of(abs(value) / 1000.0 or 0.1)
    return f"{value:z.{decimals}f}"


@dataclass(frozen=True, slots=True)
class Context:
    """What else is known when a channel is judged.

    ``resolution`` is the smallest difference that it shows, in its unit, ``changes``
    are the settings of the channel that the device holds otherwise than the setup says, ``alarms`` where
    each of its alarms stands. ``blamed`` names the inputs for whose sake a derived channel has no value,
    ``uncertainty`` is the expanded one (k = 2) of the channel where it is expected, in its unit.
    """

    cold_junction: float | None = None
    interval_s: float = 0.0
    resolution: float = 0.0
    changes: Sequence[SettingChange] = ()
    alarms: Mapping[str, State] = field(default_factory=dict)
    blamed: Sequence[str] = ()
    uncertainty: float = 0.0


def judge(
    channel: CheckedChannel,
    values: NDArray[np.float64],
    qualities: NDArray[np.uint8],
    context: Context,
) -> ChannelReport:
    """The report on one channel.

    Parameters
    ----------
    values : array of shape (n_samples,), in the channel's unit
    qualities : array of shape (n_samples,)
        A ``Quality`` for each value; only good ones count.
    context : Context

    """
    is_good = (qualities == Quality.GOOD) & np.isfinite(values)
    good = values[is_good]
    verdict, reason = _verdict(channel, good, _counted(qualities), context)
    last_quality = Quality(int(qualities[-1])) if qualities.size else Quality.UNKNOWN
    expected, tolerance = channel.expected or (None, None)
    return ChannelReport(
        name=channel.name,
        label=channel.label,
        unit=channel.symbol,
        count=int(values.size),
        good=int(good.size),
        last=float(values[-1]) if values.size and is_good[-1] else None,
        mean=_or_none(partial(_mean, channel), good),
        minimum=None if channel.turn else _or_none(np.min, good),
        maximum=None if channel.turn else _or_none(np.max, good),
        standard_deviation=_deviation(channel, good) if good.size > 1 else None,
        within=_within(channel, good),
        quality=last_quality.reason,
        alarms={name: state.words for name, state in context.alarms.items()},
        band=_band(channel, np.where(is_good, values, np.nan)),
        expected=expected,
        tolerance=tolerance,
        states=channel.states,
        verdict=verdict,
        reason=reason,
        remark=_chatter(channel, good, context.interval_s),
        resolution=context.resolution,
    )


def _counted(qualities: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Without the samples that have no value for a good reason, if any are left.

    A function of time may not have what it needs yet; at rest there is no step.
    """
    counted = qualities[(qualities != Quality.NOT_YET) & (qualities != Quality.AT_REST)]
    return counted if counted.size else qualities


def _chatter(channel: CheckedChannel, good: NDArray[np.float64], interval_s: float) -> str:
    """Which alarm would come and go, should the value rest at its limit, with the noise seen now."""
    if good.size < _ENOUGH or channel.states is not None:
        return ""
    deviation = float(np.std(good, ddof=1))
    for alarm in channel.alarms:
        often = cycles_per_hour(alarm, deviation, interval_s)
        if often >= 1.0:
            return (
                f"alarm {alarm.name} would come and go {often:.0f} times an hour if the value rested "
                f"at its limit (standard deviation {_difference(deviation, channel)}): let it clear "
                f"further away, or give it a longer delay"
            )
    return ""


def _band(channel: CheckedChannel, values: NDArray[np.float64]) -> str:
    """The text of the band that the last good value is in; empty without one."""
    known = values[np.isfinite(values)]
    if channel.bands is None or not known.size:
        return ""
    number = int(channel.bands.at(known)[-1])
    return channel.bands.parts[number].text if number >= 0 else ""


def _mean(channel: CheckedChannel, good: NDArray[np.float64]) -> float:
    """The mean: of angles their direction, of levels in dB that of their powers."""
    if channel.turn:
        return mean_direction(good, channel.turn)
    if is_level(channel.unit) and channel.states is None:
        return level_of(float(np.mean(powers(good))))
    return float(np.mean(good))


def _deviation(channel: CheckedChannel, good: NDArray[np.float64]) -> float:
    if channel.turn:
        return deviation_of_directions(good, channel.turn)
    return float(np.std(good, ddof=1))


def _or_none(
    statistic: Callable[[NDArray[np.float64]], Any], good: NDArray[np.float64]
) -> float | None:
    return float(statistic(good)) if good.size else None


def _verdict(
    channel: CheckedChannel,
    good: NDArray[np.float64],
    qualities: NDArray[np.uint8],
    context: Context,
) -> tuple[Verdict, str]:
    if not good.size:
        worst = _most_frequent(qualities)
        if worst is Quality.AT_REST and channel.expected is None:
            return Verdict.NO_EXPECTATION, "at rest: there is no step to show"
        return Verdict.NO_READING, _because(why_no_value(channel, worst, context), context)
    bad = qualities.size - good.size
    if bad:
        what = _bad_reading(channel, _most_frequent(qualities[qualities != Quality.GOOD]), context)
        message = f"{bad} of {qualities.size} readings are bad: {what}"
        return Verdict.FAIL, _because(message, context)
    if channel.expected is None:
        return Verdict.NO_EXPECTATION, ""
    expected, tolerance = channel.expected
    if channel.states is not None:
        return _of_state(channel, channel.states, good, context)
    mean = _mean(channel, good)
    if not math.isfinite(mean):
        return Verdict.UNSTEADY, "its readings point in all directions"
    off = float(wrapped(mean - expected, channel.turn))
    if abs(off) <= tolerance:
        unsteady = _unsteady(channel, good, context.interval_s)
        if unsteady:
            return Verdict.UNSTEADY, unsteady
        doubt = _doubt(channel, good, off, context.uncertainty)
        return (Verdict.MARGINAL, doubt) if doubt else (Verdict.PASS, "")
    side = "above" if off > 0.0 else "below"
    message = (
        f"reads {_number(mean, channel)}, that is "
        f"{_difference(abs(off), channel)} {side} the expected "
        f"{format_number(expected)} ± {_number(tolerance, channel)}"
    )
    cause = likely_cause(channel, Seen(mean, Quality.GOOD, context.cold_junction))
    return Verdict.FAIL, _because(message + (f": {cause}" if cause else ""), context)


def _of_state(
    channel: CheckedChannel, states: StateNames, good: NDArray[np.float64], context: Context
) -> tuple[Verdict, str]:
    assert channel.expected is not None
    expected = channel.expected[0]
    wrong = good[good != expected]
    if not wrong.size:
        return Verdict.PASS, ""
    message = f"is {states.name(float(wrong[-1]))}, expected {states.name(expected)}"
    if wrong.size < good.size:
        message += f" ({wrong.size} of {good.size} readings)"
    return Verdict.FAIL, _because(message, context)


def _within(channel: CheckedChannel, good: NDArray[np.float64]) -> float | None:
    """The part of the good readings that lies within the tolerance."""
    if channel.expected is None or not good.size:
        return None
    expected, tolerance = channel.expected
    slack = 1e-9 * max(1.0, abs(expected))
    off = wrapped(good - expected, channel.turn)
    return float(np.mean(np.abs(off) <= tolerance + slack))


def _unsteady(channel: CheckedChannel, good: NDArray[np.float64], interval_s: float) -> str:
    """Why readings whose mean is right do not prove it; empty when they do."""
    assert channel.expected is not None
    expected, tolerance = channel.expected
    meant = f"{format_number(expected)} ± {_number(tolerance, channel)}"
    low, high = _number(float(good.min()), channel), _number(float(good.max()), channel)
    within = _within(channel, good) or 0.0
    if within < _WITHIN:
        count = round(within * good.size)
        return f"it swings from {low} to {high}: {count} of {good.size} readings are within {meant}"
    if good.size < 3:
        return ""  # too few for the rest
    # Angles are looked at as they lie about what is expected.
    good = expected + np.asarray(wrapped(good - expected, channel.turn))
    mean, drift = float(good.mean()), _drift(good)
    if abs(drift) > tolerance:
        seconds = interval_s * (good.size - 1)
        return f"it drifts by {_difference(drift, channel)} in {seconds:.3g} s, and is not at rest at {meant}"
    deviation = float(np.std(good, ddof=1))
    doubt = _student(good.size - 1) * deviation / math.sqrt(good.size)
    if abs(mean - expected) + doubt > tolerance:
        return (
            f"its mean is known to ± {_difference(doubt, channel)} from {good.size} readings: that does not "
            f"prove {meant}; watch it for longer"
        )
    return ""


def _doubt(channel: CheckedChannel, good: NDArray[np.float64], off: float, expanded: float) -> str:
    """Why a mean within the tolerance proves nothing: the channel is not known well enough."""
    assert channel.expected is not None
    tolerance = channel.expected[1]
    type_a = _deviation(channel, good) / math.sqrt(good.size) if good.size > 1 else 0.0
    known = 2.0 * math.hypot(type_a, expanded / 2.0)
    if not expanded or abs(off) + known <= tolerance:
        return ""
    near, found = _difference(tolerance, channel), _difference(off, channel)
    return (
        f"within the tolerance of ± {near}, but not beyond doubt: it is off by {found}, known to ± "
        f"{_difference(float(f'{known:.2g}'), channel)} (JCGM 106, 8.3)"
    )


@lru_cache(maxsize=256)
def _student(freedom: int) -> float:
    """Student's t for an interval of 95 % to both sides (GUM, G.3.2 and table G.2)."""
    from scipy.special import stdtrit  # noqa: PLC0415 - takes long to load, and only here

    return float(stdtrit(freedom, (1.0 + _CONFIDENCE) / 2.0))


def _drift(good: NDArray[np.float64]) -> float:
    """The change from the first to the last reading along their straight line; 0 without a clear trend."""
    x = np.arange(good.size) - (good.size - 1) / 2.0
    squares = float((x * x).sum())
    slope = float((x * (good - good.mean())).sum()) / squares
    rest = good - good.mean() - slope * x
    error = math.sqrt(float((rest * rest).sum()) / max(1, good.size - 2) / squares)
    return slope * (good.size - 1) if abs(slope) > _CLEAR_TREND * error else 0.0


def _most_frequent(qualities: NDArray[np.uint8]) -> Quality:
    """The reason that most readings have; UNKNOWN without readings."""
    return Quality(int(np.bincount(qualities).argmax())) if qualities.size else Quality.UNKNOWN


_ENDLESS = (PERIOD, Quality.ABOVE_RANGE)  # a period that never ends


def why_no_value(channel: CheckedChannel, worst: Quality, context: Context) -> str:
    """What a bad reading waits for, or what is wrong, in words; where it is known, with its cause."""
    cause = likely_cause(channel, Seen(None, worst, context.cold_junction))
    return _bad_reading(channel, worst, context) + (f": {cause}" if cause else "")


def _bad_reading(channel: CheckedChannel, worst: Quality, context: Context) -> str:
    if worst is Quality.BAD_INPUT and context.blamed:
        return f"computed from {' and '.join(context.blamed)}, which has no value"
    if isinstance(channel, ReadingChannel) and worst is Quality.OPEN_SENSOR:
        stands_in = channel.point.substitute
        if stands_in is not None:
            shown = format_value(stands_in, parse_unit(channel.point.unit))
            return f"reads exactly the {shown} that this model shows without a sensor"
        return "the device has no sensor there: what it shows stands in for a missing one"
    kind = channel.kind
    if kind in PULSED and (worst is Quality.OPEN_SENSOR or (kind, worst) == _ENDLESS):
        return NO_PULSES
    loop = kind == "current"
    chosen = channel.range if isinstance(channel, SignalChannel) else None
    at = f" ({chosen})" if chosen else ""
    return {
        Quality.UNKNOWN: "the device sent nothing that is known",
        Quality.OPEN_SENSOR: "no current: a wire is off, the loop has no supply, or its polarity is "
        "reversed"
        if loop
        else f"open sensor: a wire is off, or what is wired there is not {kind}",
        Quality.NOT_IN_USE: "the device does not use this input: was the setup uploaded?",
        Quality.BELOW_RANGE: f"the signal is below range{at}",
        Quality.ABOVE_RANGE: f"the signal is above range{at}",
        Quality.FAILURE_LOW: "the transmitter reports a failure: its current is 3.6 mA or less (NE 43)",
        Quality.FAILURE_HIGH: "the transmitter reports a failure: its current is 21 mA or more (NE 43)",
    }.get(worst, worst.reason)


def _number(value: float, channel: CheckedChannel) -> str:
    return format_value(float(f"{value:.4g}"), channel.unit)


def _difference(value: float, channel: CheckedChannel) -> str:
    """A difference for people: of temperatures in K."""
    if not channel.unit.offset:
        return _number(value, channel)
    kelvin = parse_unit("K")
    return format_value(float(f"{convert_difference(value, channel.unit, kelvin):.4g}"), kelvin)


def _because(message: str, context: Context) -> str:
    """The message, and what in the device is not as the setup says: the first thing to mend."""
    if not context.changes:
        return message
    first, more = context.changes[0], len(context.changes) - 1
    text = f"the device is not set up like this setup ({first.setting} is {first.shown_old()}"
    text += f", not {first.shown_new()}" + (f"; {more} more" if more else "")
    return f"{message}; {text}): upload it"
