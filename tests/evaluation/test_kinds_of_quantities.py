"""Angles, levels, states and counters are not averaged as plain numbers; gaps are told by the rows."""

import cmath
import math
from dataclasses import replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import checked
from leitwerk.alarms.board import AlarmTracker, ChannelAlarm
from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.runs import LevelFollower
from leitwerk.alarms.states import Level
from leitwerk.analysis.running import RunningStatistics
from leitwerk.analysis.series import Column, Series
from leitwerk.derived import Formula
from leitwerk.evaluation.followers import AlarmFollower
from leitwerk.evaluation.situation import Situation
from leitwerk.evaluation.summary import summarise
from leitwerk.evaluation.verdict import Context, judge
from leitwerk.recordings.condense import condense
from leitwerk.recordings.fetch import with_derived
from leitwerk.signals.quality import Quality

BEGIN = datetime(2026, 3, 2, 6, 0, tzinfo=UTC).timestamp()
SUPPLY = """leitwerk: 1
title: Saw, supply
device: {model: ulme-3p, at: "modbus+tcp://127.0.0.1:1?unit=1", serial: PA-1}
zone: Europe/Vienna
STORE
channels:
  power: {label: Power, reading: power.active, unit: kW}
  energy: {label: Energy, computed: total(power), unit: kWh}
  daily: {label: Energy of the day, computed: "total(power, '1 d')", unit: kWh}
  price: {label: Price, computed: "cost(power, prices)"}
tables:
  prices: {other: 0.30 1/kWh}
"""


def supply(store="store: every 1 min"):
    return checked(SUPPLY.replace("STORE", store))


def rows(times_s, values, name="power", unit="kW"):
    return Series(
        (Column(name, unit),), np.asarray(times_s, float), np.asarray(values, float)[:, None]
    )


def column(series, name):
    k = [c.name for c in series.columns].index(name)
    return series.values[:, k], series.qualities[:, k]


@pytest.mark.parametrize(
    "store", ["store: every 1 min", "", "sample: every 10 s\nstore: every 1 min"]
)
def test_an_integral_leaves_out_a_gap_and_says_so(store):
    """Eight hours of 10 kW at one row a minute, of which five are missing: 30 kWh, not 80."""
    minutes = [m for m in range(481) if not 60 < m < 360]
    setup = supply(store)
    found = with_derived(
        rows([BEGIN + 60.0 * m for m in minutes], [10.0] * len(minutes)), setup.channels
    )
    energy, quality = column(found, "energy")
    assert energy[-1] == pytest.approx(10.0 * (60 + 120) / 60.0)
    assert quality[60] == Quality.GOOD
    assert quality[61] == quality[-1] == Quality.INCOMPLETE
    price, quality = column(found, "price")
    assert (price[-1], quality[-1]) == (pytest.approx(0.3 * 30.0), Quality.INCOMPLETE)
    text = str(summarise(found, setup.channels))
    assert "energy: increased by 30 kW·h in all, incomplete: 4 h 59 min are missing in it" in text
    assert "power: 30.3333 kWh in all, without 4 h 59 min that are missing" in text
    assert "gaps: 1, 4 h 59 min without rows" in text


def test_rows_that_come_more_seldom_than_samples_have_no_gaps():
    """Stored every 10 minutes by a device that samples every 10 s."""
    times = BEGIN + 600.0 * np.arange(25)
    found = with_derived(
        rows(times, np.full(25, 6.0)), supply("sample: every 10 s\nstore: every 10 min").channels
    )
    energy, quality = column(found, "energy")
    assert energy[-1] == pytest.approx(24.0)
    assert set(quality.tolist()) == {Quality.GOOD}


@given(st.lists(st.floats(-720.0, 720.0), min_size=2, max_size=40), st.integers(1, 39))
def test_a_mean_of_directions_is_that_of_unit_vectors_everywhere(angles, cut):
    x = np.array(angles)
    vector = sum(cmath.exp(1j * math.radians(a)) for a in angles)
    if abs(vector) < 1e-6 * len(angles):
        return
    wanted = math.degrees(cmath.phase(vector))
    times = BEGIN + np.arange(x.size)

    def same(found):
        assert abs((found - wanted + 180.0) % 360.0 - 180.0) < 1e-6

    series = rows(times, x, "vane", "°")
    same(summarise(series).channels[0].numbers.mean)
    pieces = [
        rows(times[a:b], x[a:b], "vane", "°") for a, b in ((0, cut), (cut, None)) if x[a:b].size
    ]
    same(summarise(iter(pieces)).channels[0].numbers.mean)
    same(condense(series, 3600.0, ["mean"], ZoneInfo("UTC")).values[0, 0])
    running = RunningStatistics(1, turns=[360.0])
    for value in x:
        running.take(np.array([value]))
    same(running.mean[0])


def test_directions_about_north():
    text = str(summarise(rows(BEGIN + np.arange(3), [350.0, 10.0, 355.0], "vane", "°")))
    numbers = (
        summarise(rows(BEGIN + np.arange(3), [350.0, 10.0, 355.0], "vane", "°")).channels[0].numbers
    )
    assert numbers.mean == pytest.approx(358.33, abs=0.05)
    assert numbers.deviation == pytest.approx(10.4, abs=0.1)  # as of −10, 10, −5
    assert "–" in text.splitlines()[-1]
    phases = (
        summarise(rows(BEGIN + np.arange(4), [179.0, -179.0, 178.0, -178.0], "u", "°"))
        .channels[0]
        .numbers
    )
    assert abs(phases.mean) == pytest.approx(180.0)
    assert phases.deviation < 2.0


ANGLES = """leitwerk: 1
title: Angles
device: {model: ulme-3p, at: "modbus+tcp://127.0.0.1:1?unit=1", serial: PA-1}
channels:
  u2:
    label: Angle of L2
    reading: u2.angle
    expect: 179 ± 3 °
    CIRCULAR
"""


def test_an_expectation_of_an_angle_is_met_on_both_sides_of_the_turn():
    names = [n for n in lw.find_datasheet("ulme-3p").own_readings if "angle" in n]
    text = ANGLES.replace("u2.angle", names[1])
    values = np.array([179.0, -179.5, 179.5, -179.0, 179.8] * 4)
    for circular, verdict in (("", "pass"), ("circular: no", "fail")):
        channel = checked(text.replace("CIRCULAR", circular)).channel("u2")
        report = judge(channel, values, np.zeros(values.size, np.uint8), Context())
        assert report.verdict == verdict, report.reason


def test_levels_are_averaged_as_powers():
    numbers = summarise(rows(BEGIN + np.arange(2), [80.0, 90.0], "laeq", "dB")).channels[0].numbers
    assert numbers.mean == pytest.approx(10.0 * math.log10((1e8 + 1e9) / 2.0))
    assert numbers.arithmetic == 85.0
    hour = condense(
        rows(BEGIN + np.arange(2), [80.0, 90.0], "laeq", "dB"), 3600.0, ["mean"], ZoneInfo("UTC")
    )
    assert hour.values[0, 0] == pytest.approx(numbers.mean)
    running = RunningStatistics(1, levels=[True])
    for level in (80.0, 90.0):
        running.take(np.array([level]))
    assert running.mean[0] == pytest.approx(numbers.mean)


@pytest.mark.parametrize("watch", [Watch.CHANGE, Watch.DIFFERENCE])
def test_changes_and_differences_of_angles_take_the_shorter_way(watch):
    alarm = AlarmDefinition(
        "turned", (-10.0, 10.0), (-10.0, 10.0), watch=watch, window_s=1.0, nominal=358.0, turn=360.0
    )
    values = np.array([358.0, 2.0, 359.0, 30.0])
    times = BEGIN + np.arange(4.0)
    tracker = AlarmTracker([ChannelAlarm("vane", alarm)], ["vane"])
    live = []
    for t, x in zip(times.tolist(), values.tolist(), strict=True):
        tracker.take(t, [x])
        live.append(bool(tracker.tripped[0]))
    assert live == [False, False, False, True]
    follower = AlarmFollower(alarm)
    follower.take(times, values, None)
    assert [s.begin_s for s in follower.spans()] == [times[3]]


GEARS = """leitwerk: 1
title: Saw carriage
device: {model: fichte-8, at: "modbus+tcp://127.0.0.1:1?unit=3", serial: K2-00417}
sample: every 1 s
channels:
  door: {label: Door, terminal: D1, signal: contact, states: {open: open, closed: closed}}
  value: {label: Value, terminal: 1, signal: 0..10 V}
  first: {label: Time open, computed: "total(door == 'open')", unit: s}
"""


def test_time_and_visits_of_states():
    setup = checked(GEARS)
    states = np.array([1.0] * 10 + [np.nan] * 50 + [0.0] * 10 + [1.0] * 10)
    series = Series(
        (Column("door", ""), Column("value", "V")), BEGIN + np.arange(80.0),
        np.column_stack([states, np.zeros(80)]),
    )  # fmt: skip
    summary = summarise(series, setup.channels)
    door = summary.channels[0]
    assert (door.states["closed"].lasted_s, door.states["closed"].visits) == (20.0, 2)
    assert (door.states["open"].lasted_s, door.states["open"].visits) == (10.0, 1)
    assert math.isnan(door.numbers.mean)
    text = str(summary)
    assert "door: open 10 s in 1 visit, closed 20 s in 2 visits" in text
    assert sum(line.startswith("door ") for line in text.splitlines()) == 1


def test_at_rest_is_no_gap_in_the_time_of_a_state():
    """First 10 s, at rest for 50 s, second for 10 s, and so on: what rests in between counts for nothing."""
    pattern = [1.0] * 10 + [0.0] * 50 + [2.0] * 10 + [0.0] * 50 + [1.0] * 10
    speed = np.array(pattern)
    in_first = Formula("total(sqrt(x - 1) < 0.5)", {"x": ""}, "s")  # no value at rest
    found = in_first(times_s=BEGIN + np.arange(speed.size), x=speed)
    assert found[-1] == pytest.approx(20.0, abs=1.01)
    twice = Formula("count(sqrt(x - 1) < 0.5)", {"x": ""}, "")
    assert twice(times_s=BEGIN + np.arange(speed.size), x=speed)[-1] == 1.0  # the first began it


@pytest.mark.parametrize("start", np.random.default_rng(4).uniform(1.7e9, 1.8e9, 240).tolist())
def test_a_delay_is_not_a_sample_late_by_rounding(start):
    times = start + 0.1 * np.arange(8)
    alarm = AlarmDefinition.above("hot", 1.0, delay_s=0.3)
    tracker = AlarmTracker([ChannelAlarm("x", alarm)], ["x"])
    tripped = []
    for t in times.tolist():
        tracker.take(t, [2.0])
        tripped.append(bool(tracker.tripped[0]))
    assert tripped.index(True) == 3
    at, level = LevelFollower(alarm).take(times, np.full(8, 2.0))
    assert at[level == Level.TRIPPED].tolist() == [3]
    settled = Formula("settled(x, '0.3 s')", {"x": ""}, "")
    found = settled(times_s=times, x=np.array([1.0] * 8))
    assert np.flatnonzero(found == 1.0)[0] == 3


def test_an_alarm_on_a_state_does_not_last_through_a_rest():
    text = GEARS.replace(
        "states: {open: open, closed: closed}}",
        "states: {open: open, closed: closed}, alarms: {shut: {when: closed}}}",
    )
    setup = checked(text)
    values = np.array([1.0] * 5 + [np.nan] * 10 + [0.0] * 5)
    codes = np.where(np.isnan(values), Quality.AT_REST, Quality.GOOD).astype(np.uint8)
    series = Series((Column("door", ""),), BEGIN + np.arange(20.0), values[:, None], codes[:, None])
    (alarm,) = summarise(series, setup.channels).channels[0].alarms
    assert alarm.in_alarm_s == 5.0
    lost = np.where(np.isnan(values), Quality.NO_ANSWER, Quality.GOOD).astype(np.uint8)
    (alarm,) = (
        summarise(replace(series, qualities=lost[:, None]), setup.channels).channels[0].alarms
    )
    assert alarm.in_alarm_s == 15.0  # what is not known ends nothing
    situation = Situation(setup.channels)
    states = []
    for k in range(20):
        row = np.array([values[k], 0.0, 0.0])
        rests = np.array([np.isnan(values[k]), False, False])
        situation.take(float(k), row, ~np.isnan(row), at_rest=rests)
        states.append(situation.state(0).is_active)
    assert states == [True] * 5 + [False] * 15
