"""Alarms: both evaluators against the slow one, and each thing that goes wrong easily."""

import json
import math

import numpy as np
import pytest
from alarm_reference import Slow
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.alarms.board import AlarmTracker, ChannelAlarm
from leitwerk.alarms.definition import AlarmDefinition, Watch
from leitwerk.alarms.inputs import change_within
from leitwerk.alarms.runs import LevelFollower, level_changes
from leitwerk.alarms.states import OperatorAction, State, TimedAction
from leitwerk.alarms.timeline import alarm_timeline

INF = math.inf
NORMAL, PENDING, TRIPPED = State.NORMAL, State.PENDING, State.UNACKNOWLEDGED
# Few numbers, so that limits are met exactly and stamps repeat; steps back are steps of less than 0.
NUMBERS = st.sampled_from([-2.0, -1.0, 0.0, 0.5, 1.0, 1.5, 2.0, 3.0, math.nan])
STEPS = st.sampled_from([0.0, 0.1, 0.1, 0.3, 1.0, 1.0, 1.0, 7.0, -0.5, -3.0])
DELAYS = st.sampled_from([0.0, 0.0, 0.1, 0.3, 1.0, 2.0, 2.5])


@st.composite
def alarm_points(draw: st.DrawFn) -> AlarmDefinition:
    ends = sorted(draw(st.tuples(NUMBERS, NUMBERS, NUMBERS, NUMBERS).filter(lambda n: n == n)))
    ends = sorted(-9.0 if math.isnan(e) else e for e in ends)
    wide, narrow = (ends[0], ends[3]), (ends[1], ends[2])
    open_end = draw(st.sampled_from(["", "low", "high"]))
    if open_end:
        wide = (-INF, wide[1]) if open_end == "low" else (wide[0], INF)
        narrow = (-INF, narrow[1]) if open_end == "low" else (narrow[0], INF)
    inside = draw(st.booleans())
    watch = draw(st.sampled_from([Watch.VALUE, Watch.VALUE, *Watch]))
    return AlarmDefinition(
        "a",
        trip=narrow if inside else wide,
        clear=wide if inside else narrow,
        inside=inside,
        watch=watch,
        delay_s=draw(DELAYS),
        clear_delay_s=draw(DELAYS),
        latch=draw(st.booleans()),
        acknowledge=draw(st.booleans()),
        window_s=draw(st.sampled_from([0.3, 1.0, 2.1])),
        other=draw(st.sampled_from(["", "y"])) if watch is Watch.DIFFERENCE else "",
        nominal=1.0,
    )


DEEDS = st.lists(
    st.tuples(st.integers(0, 39), st.sampled_from(list(OperatorAction)), st.floats(0.0, 20.0)),
    max_size=6,
).map(lambda actions: [TimedAction(*timed) for timed in sorted(actions, key=lambda d: d[0])])
SAMPLES = st.lists(
    st.tuples(STEPS, NUMBERS, NUMBERS, st.sampled_from([True] * 5 + [False])), max_size=40
)


@given(alarm_points(), SAMPLES, DEEDS, st.sampled_from([INF, 1.0, 5.0]))
def test_both_evaluators_agree_exactly_with_the_slow_one(alarm, samples, actions, gap_s) -> None:
    times = np.cumsum([s[0] for s in samples])
    x, y = (np.array([s[k] for s in samples], float) for k in (1, 2))
    enabled = np.array([s[3] for s in samples], bool)
    slow = Slow(alarm, gap_s)
    board = AlarmTracker([ChannelAlarm("x", alarm)], ["x", "y"], gap_s=gap_s)
    want, got = [], []
    for k, time in enumerate(times):
        for timed in (d for d in actions if d.sample == k):
            slow.do(timed.action, timed.until_s)
            board.do(0, timed.action, until_s=timed.until_s)
        want.append(slow.take(time, x[k], y[k], enabled=bool(enabled[k])))
        if k % 3 == 2:  # kept and taken up again: nothing is lost
            fresh = AlarmTracker([ChannelAlarm("x", alarm)], ["x", "y"], gap_s=gap_s)
            fresh.resume(json.loads(json.dumps(board.to_dict(), allow_nan=False)))
            board = fresh
        board.take(time, np.array([x[k], y[k]]), enabled=enabled[k : k + 1])
        got.append(State(int(board.state[0])))
    assert got == want
    watched = x
    if alarm.watch is Watch.CHANGE:
        watched = change_within(times, x, alarm.window_s, gap_s)
    elif alarm.watch is Watch.DIFFERENCE:
        watched = x - (y if alarm.other else alarm.nominal)
    course = alarm_timeline(alarm, times, watched, enabled=enabled, actions=actions, gap_s=gap_s)
    assert course.strip().tolist() == want
    # A value that is not good counts as none, whatever number stands there.
    if alarm.watch in {Watch.VALUE, Watch.READING}:
        good, filled = np.isfinite(x), np.nan_to_num(x, nan=1.0)
        marked = alarm_timeline(
            alarm, times, filled, good=good, enabled=enabled, actions=actions, gap_s=gap_s
        )
        assert marked.strip().tolist() == want
    before = [NORMAL, *want[:-1]]
    assert course.sample.tolist() == [k for k, s in enumerate(want) if s != before[k]]


@pytest.mark.parametrize("chunk", [1, 2, 7])
@given(alarm=alarm_points(), samples=SAMPLES)
def test_the_pieces_of_a_long_recording_do_not_show(chunk, alarm, samples) -> None:
    from leitwerk.alarms import runs as process

    times = np.cumsum([s[0] for s in samples])
    x = np.array([s[1] for s in samples], float)
    whole = alarm_timeline(alarm, times, x)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(process, "CHUNK", chunk)
        patch.setattr(process, "RUNS", chunk)
        pieces = alarm_timeline(alarm, times, x)
    assert pieces.strip().tolist() == whole.strip().tolist()


@given(
    alarm_points(), SAMPLES, st.lists(st.integers(1, 5), max_size=9), st.sampled_from([INF, 5.0])
)
def test_a_recording_followed_piece_by_piece_is_one(alarm, samples, lengths, gap_s) -> None:
    times = np.cumsum([s[0] for s in samples])
    x = np.array([s[1] for s in samples], float)
    enabled = np.array([s[3] for s in samples], bool)
    at, levels = level_changes(alarm, times, x, None, enabled, gap_s=gap_s)
    follower, found, begin = LevelFollower(alarm, gap_s=gap_s), [], 0
    for length in [*lengths, times.size]:
        piece = slice(begin, min(times.size, begin + length))
        here, level = follower.take(times[piece], x[piece], None, enabled[piece])
        found += zip((here + begin).tolist(), level.tolist(), strict=True)
        begin = piece.stop
    assert found == list(zip(at.tolist(), levels.tolist(), strict=True))


HOT = AlarmDefinition.above("hot", 78.0, 75.0, delay_s=30.0, clear_delay_s=10.0)


@pytest.mark.parametrize(
    ("samples", "states"),
    [
        pytest.param([(0, 78.0)], [NORMAL], id="at the trip point is not beyond it"),
        pytest.param([(0, 79.0)], [PENDING], id="the very first sample starts the wait"),
        pytest.param([(0, 79.0), (30, 79.0)], [PENDING, TRIPPED], id="the delay, counted in time"),
        pytest.param([(0, 79.0), (29.9, 79.0)], [PENDING, PENDING], id="not before it is over"),
        pytest.param([(0, 79), (20, math.nan), (40, 79)], [1, 0, 1], id="a bad one ends the wait"),
        pytest.param([(0, 79), (40, 79), (50, math.nan)], [1, 2, 2], id="a bad one never clears"),
        pytest.param([(0, 79), (40, 79), (50, 76)], [1, 2, 2], id="between the points nothing"),
        pytest.param(
            [(0, 79), (40, 79), (50, 75), (60, 75)], [1, 2, 2, 0], id="clears at its point"
        ),
        pytest.param(
            [(0, 79), (40, 79), (50, 75), (55, 76), (60, 75)], [1, 2, 2, 2, 2], id="again"
        ),
        pytest.param([(0, 79), (200, 79)], [1, 1], id="a gap does not satisfy the delay"),
        pytest.param([(50, 79), (20, 79), (49, 79), (50, 79)], [1, 1, 1, 2], id="time steps back"),
        pytest.param([(0, 79), (0, 79), (30, 79)], [1, 1, 2], id="a stamp that repeats"),
    ],
)
def test_what_goes_wrong_easily(samples, states) -> None:
    times, values = (np.array(column, float) for column in zip(*samples, strict=True))
    assert alarm_timeline(HOT, times, values, gap_s=60.0).strip().tolist() == states


def test_no_reading_is_an_alarm_of_its_own() -> None:
    alarm = AlarmDefinition(
        "lost", (1.0, 1.0), (1.0, 1.0), inside=True, watch=Watch.READING, delay_s=2.0
    )
    values = np.array([1.0, math.nan, math.nan, math.nan, 1.0])
    course = alarm_timeline(alarm, np.arange(5.0), values)
    assert course.strip().tolist() == [NORMAL, PENDING, PENDING, TRIPPED, NORMAL]
    assert course.trips == 1
    assert course.to_dict()["changes"][1] == {"time_s": 3.0, "state": "unacknowledged"}


def test_a_state_of_other_alarms_is_not_taken_up() -> None:
    board = AlarmTracker([ChannelAlarm("x", HOT)], ["x"])
    with pytest.raises(ValueError, match="other alarms"):
        AlarmTracker([ChannelAlarm("y", HOT)], ["y"]).resume(board.to_dict())
