"""What is known of the channels of one device while it is watched: values, age, statistics, alarms."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.analysis.levels import is_level
from leitwerk.analysis.running import RunningStatistics
from leitwerk.check.channel_uncertainty import uncertainty_at
from leitwerk.check.channels import CheckedChannel, DerivedChannel, SignalChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.datasheet.settings import SettingChange
from leitwerk.evaluation.channel_values import ChannelValues
from leitwerk.evaluation.display_units import step_in
from leitwerk.evaluation.resolution import resolution_of
from leitwerk.evaluation.situation import Situation
from leitwerk.evaluation.verdict import (
    ChannelReport,
    Context,
    judge,
    shown_decimals,
    shown_value,
    why_no_value,
)
from leitwerk.monitoring.sample_history import SampleHistory
from leitwerk.parsing.quantities import format_number
from leitwerk.parsing.units import Unit, convert, convert_difference
from leitwerk.signals.quality import Quality

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Values = NDArray[np.float64]
    Qualities = NDArray[np.uint8]


@dataclass(frozen=True, slots=True)
class LiveRow:
    """One channel at one moment, in words and numbers for people.

    ``shown`` is the newest value, also where it is old: ``is_stale`` says so, and ``age_s`` how old. ``why``
    says why there is no value, or why it may be off.
    """

    channel: str
    label: str
    unit: str
    shown: str
    why: str
    age_s: float | None
    is_stale: bool
    minimum: str
    maximum: str
    mean: str
    deviation: str
    change: str
    count: int
    alarms: tuple[tuple[str, str], ...]
    band: str
    expected: str
    signal: str


class LiveBoard:
    """Takes samples of a device, and says of every channel how it stands.

    Parameters
    ----------
    setup : CheckedSetup
    changes : sequence of SettingChange
        What is set otherwise in the device than in the setup.
    capacity : int, optional
        So many samples are kept, see ``SampleHistory``.

    """

    def __init__(
        self,
        setup: CheckedSetup,
        changes: Sequence[SettingChange] = (),
        *,
        capacity: int | None = None,
    ) -> None:
        self.setup, self.channels = setup, setup.channels
        self.worked = ChannelValues(self.channels)
        self.history = SampleHistory(len(self.channels), capacity)
        self.statistics = RunningStatistics(
            len(self.channels),
            turns=[c.turn for c in self.channels],
            levels=[is_level(c.unit) and c.states is None for c in self.channels],
        )
        self.situation = Situation(self.channels)
        self.silent = ""  # why no answer comes now
        self.taken = 0
        self._changes = [[x for x in changes if c.owns(x.setting)] for c in self.channels]
        self._resolutions: dict[int, float] = {}
        self._uncertainties: dict[int, float] = {}
        self._figures: dict[tuple[int, Unit | None], _Figures] = {}
        self._derived = [
            (k, c) for k, c in enumerate(self.channels) if isinstance(c, DerivedChannel)
        ]
        self._alarmed = any(c.alarms for c in self.channels)
        self._blamed: dict[str, list[str]] = {}
        self._junction: float | None = None
        self._shown = np.full(len(self.worked.measured), np.nan)
        self._place = {c.name: k for k, c in enumerate(self.worked.measured)}
        self._last_s = np.full(len(self.channels), np.nan)
        self._newest = self._last_s, np.full(len(self.channels), np.uint8(Quality.NO_ANSWER))

    def take(
        self,
        time_s: float,
        shown: Values,
        codes: Qualities,
        junction: float | None = None,
        *,
        time_of_day_s: float = 0.0,
    ) -> tuple[Values, Qualities]:
        """Take one sample of all channels, as the device shows it; returns it in the channels' units.

        Parameters
        ----------
        time_s : float, in s since 1970-01-01 UTC
        shown, codes : arrays of shape (n_measured,)
        junction : float, in °C, optional
            The temperature of the device's terminals.
        time_of_day_s : float, in s
            The local time since midnight.

        """
        self.silent = ""
        self._shown, self._junction = shown, junction
        found = self.worked.take(np.array([time_s]), shown[None, :], codes[None, :])
        values, qualities = found[0][0], found[1][0]
        has_value = Quality.has_value(qualities) & np.isfinite(values)
        known = np.where(has_value, values, np.nan)
        self.statistics.take(known)
        self._last_s[has_value] = time_s
        if self._alarmed:
            self.situation.take(
                time_s,
                values,
                has_value,
                at_rest=qualities == Quality.AT_REST,
                time_of_day_s=time_of_day_s,
            )
        for column, c in self._derived:
            if qualities[column] == Quality.BAD_INPUT:
                self._blamed[c.name] = self.worked.blamed(c)
        self.history.add(time_s, values, qualities)
        self._newest = values, qualities
        self.taken += 1
        return values, qualities

    def take_silence(self, why: str) -> None:
        """No answer came."""
        self.silent = why

    def mark(self) -> None:
        """Let all statistics begin anew."""
        self.statistics.reset()

    # ------------------------------------------------------------------ what is shown

    def in_unit(self, column: int, values: Values, unit: Unit | None) -> Values:
        """Values of a channel in a unit; in its own, if none is given."""
        found: Values = (
            values if unit is None else convert(values, self.channels[column].unit, unit)
        )
        return found

    def reports(self) -> tuple[ChannelReport, ...]:
        """Every channel, judged by the samples that are kept."""
        return tuple(self.report(column) for column in range(len(self.channels)))

    def report(self, column: int) -> ChannelReport:
        """One channel, judged by the samples that are kept."""
        history = self.history
        values, qualities = history.values[:, column], history.qualities[:, column]
        return judge(self.channels[column], values, qualities, self.context(column))

    def context(self, column: int) -> Context:
        """What else is known of a channel when it is judged."""
        channel, times = self.channels[column], self.history.times_s
        since = float(times[-1] - times[0]) if times.size else 0.0
        return Context(
            cold_junction=self._junction,
            interval_s=since / max(1, times.size - 1),
            resolution=self.resolution(column),
            changes=self._changes[column],
            alarms=self.situation.alarm_states(channel.name),
            blamed=self._blamed.get(channel.name, ()),
            uncertainty=self._uncertainty(column),
        )

    def _uncertainty(self, column: int) -> float:
        """The expanded uncertainty (k = 2) of a channel where it is expected; 0 without an expectation."""
        if column not in self._uncertainties:
            channel = self.channels[column]
            expected = channel.expected
            known = 0.0 if expected is None else uncertainty_at(channel, expected[0])
            self._uncertainties[column] = known
        return self._uncertainties[column]

    def resolution(self, column: int) -> float:
        """The smallest step that a channel shows, in its unit; 0 if it is not known."""
        if column not in self._resolutions:
            self._resolutions[column] = resolution_of(self.channels[column], self.setup.datasheet)
        return self._resolutions[column]

    def row(
        self,
        column: int,
        now_s: float,
        *,
        unit: Unit | None = None,
        back: int = 0,
        stale_s: float = 3.0,
        statistics: RunningStatistics | None = None,
        also: Collection[str] = (),
    ) -> LiveRow:
        """One channel for people.

        Parameters
        ----------
        column : int
        now_s : float, in s since 1970-01-01 UTC
        unit : Unit, optional
            In which it is shown; its own, if not given.
        back : int
            So many samples before the newest.
        stale_s : float, in s
            From which age on a value is stale.
        statistics : RunningStatistics, optional
            Those of an earlier moment, to be shown in place of those of now.
        also : collection of str
            What else is wanted: ``signal``, that behind the value; ``change``, ``band``. Else they are empty.

        """
        channel = self.channels[column]
        figures = self._figures.get((column, unit))
        if figures is None:
            figures = _Figures(channel, unit or channel.unit, self.resolution(column))
            self._figures[column, unit] = figures
        history, statistics = self.history, statistics or self.statistics
        place = len(history) - 1 - back
        value, quality = math.nan, Quality.NO_ANSWER
        if place >= 0:
            values, codes = (
                self._newest if back == 0 else (history.values[place], history.qualities[place])
            )
            value, quality = float(values[column]), Quality(int(codes[column]))
        has_value = (quality.is_good or quality.is_uncertain) and math.isfinite(value)
        age = now_s - float(self._last_s[column])
        if not has_value and back == 0:
            value = float(statistics.last[column])
        elif back:
            age = now_s - float(history.times_s[place]) if place >= 0 else math.nan
        return LiveRow(
            channel=channel.name,
            label=channel.label,
            unit="" if channel.states is not None else str(figures.unit),
            shown=figures.value(value),
            why=self._why(column, quality, place),
            age_s=None if math.isnan(age) else max(0.0, age),
            is_stale=back == 0 and (not has_value or bool(self.silent) or not age <= stale_s),
            minimum=figures.value(float(statistics.minimum[column])),
            maximum=figures.value(float(statistics.maximum[column])),
            mean=figures.value(float(statistics.mean[column])),
            deviation=figures.difference(statistics.deviation_of(column), digits=2),
            change=figures.difference(statistics.change_of(column)) if "change" in also else "",
            count=int(statistics.count[column]),
            alarms=tuple(
                (name, s.words) for name, s in self.situation.alarm_states(channel.name).items()
            ),
            band=self._band(channel, value) if "band" in also else "",
            expected=figures.expected,
            signal=self._signal(channel) if "signal" in also and has_value else "",
        )

    def _why(self, column: int, quality: Quality, place: int) -> str:
        if self.silent:
            return f"no answer: {self.silent.removeprefix('no answer: ')}"
        if place < 0:
            return "no sample yet"
        if quality is Quality.GOOD:
            return ""
        if quality.is_uncertain:
            return quality.reason
        return why_no_value(self.channels[column], quality, self.context(column))

    @staticmethod
    def _band(channel: CheckedChannel, value: float) -> str:
        if channel.bands is None or math.isnan(value):
            return ""
        number = int(channel.bands.at(np.array([value]))[0])
        return channel.bands.parts[number].text if number >= 0 else ""

    def _signal(self, channel: CheckedChannel) -> str:
        """The electrical signal behind the newest value, where the device measures one."""
        if not isinstance(channel, SignalChannel):
            return ""
        shown = float(self._shown[self._place[channel.name]])
        scale = channel.measurement.shown_at(self._junction)
        if math.isnan(shown) or not getattr(scale, "has_inverse", True):
            return ""
        signal = float(scale.signal(shown))
        unit = channel.measurement.input.unit
        return "" if math.isnan(signal) else f"{format_number(signal, 5)} {unit}"


class _Figures:
    """Numbers of a channel in the unit in which they are shown."""

    def __init__(self, channel: CheckedChannel, unit: Unit, resolution: float) -> None:
        self._channel, self.unit = channel, unit
        self._states = channel.states
        self._is_own = unit == channel.unit
        tolerance = None if channel.expected is None else self._step(channel.expected[1])
        self._decimals = shown_decimals(tolerance, self._step(resolution))
        self.expected = self._expected()

    def _step(self, number: float) -> float:
        return step_in(number, self._channel.unit, self.unit)

    def value(self, value: float) -> str:
        """A value, in as many digits as make sense."""
        if value != value:
            return "–"
        if not self._is_own:
            value = float(convert(value, self._channel.unit, self.unit))
        return shown_value(value, self._states, self._decimals)

    def difference(self, value: float, digits: int = 3) -> str:
        """A difference of two values."""
        if math.isnan(value) or self._states is not None:
            return "–"
        if self._is_own:
            return format_number(value, digits)
        return format_number(
            float(convert_difference(value, self._channel.unit, self.unit)), digits
        )

    def _expected(self) -> str:
        """The expectation with its tolerance."""
        if self._channel.expected is None:
            return "–"
        expected, tolerance = self._channel.expected
        if self._channel.states is not None:
            return self.value(expected)
        return f"{self.value(expected)} ± {format_number(self._step(tolerance), 3)}"
