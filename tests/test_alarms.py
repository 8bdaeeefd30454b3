import math

from hypothesis import given
from hypothesis import strategies as st

from leitwerk.alarms import AlarmPoint, AlarmState, Phase, next_state

HOT = AlarmPoint("hot", above=True, trip=78.0, clear=75.0, delay_s=30.0)
COLD = AlarmPoint("cold", above=False, trip=5.0, clear=6.0)


def course(alarm, samples):
    """The phases after each of (time, value)."""
    state, phases = AlarmState(), []
    for time_s, value in samples:
        state = next_state(alarm, state, time_s, value)
        phases.append(state.phase)
    return phases


def test_an_alarm_waits_trips_and_clears_at_its_clear_point():
    samples = [(0, 78), (1, 78.1), (30, 79), (31, 79), (32, 76), (33, 75), (34, 77)]
    assert course(HOT, samples) == [
        "clear", "pending", "pending", "tripped", "tripped", "clear", "clear",
    ]  # fmt: skip


def test_below_is_the_mirror_of_above():
    assert course(COLD, [(0, 5), (1, 4.9), (2, 5.5), (3, 6)]) == [
        "clear", "tripped", "tripped", "clear",
    ]  # fmt: skip


def test_a_bad_sample_neither_trips_nor_clears_and_ends_a_wait():
    assert course(HOT, [(0, 80), (10, math.nan), (31, 80)]) == ["pending", "clear", "pending"]
    assert course(COLD, [(0, 4), (1, math.nan), (2, 4)]) == ["tripped", "tripped", "tripped"]


@given(st.lists(st.floats(60, 90), max_size=40))
def test_it_never_trips_before_its_delay_has_passed_beyond_the_trip_point(values):
    phases = course(HOT, list(enumerate(values)))
    for k, phase in enumerate(phases):
        newly = phase is Phase.TRIPPED and (k == 0 or phases[k - 1] is not Phase.TRIPPED)
        if newly:
            assert all(value > HOT.trip for value in values[k - 30 : k + 1])
