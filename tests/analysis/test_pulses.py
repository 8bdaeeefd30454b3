import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.analysis.pulses import (
    count_changes,
    count_steps,
    debounce,
    duty_cycle,
    rate_by_gate,
    rate_by_period,
    totals,
)
from leitwerk.errors import DomainError


@given(st.sampled_from([16, 32]), st.lists(st.integers(0, 30_000), min_size=1, max_size=50))
def test_totals_survive_every_roll_over(bits, steps):
    true = np.concatenate([[2**bits - 5], 2**bits - 5 + np.cumsum(steps)])
    found = totals(true % 2**bits, per_pulse=0.5, bits=bits)
    assert found.tolist() == ((true - true[0]) * 0.5).tolist()


def test_a_counter_that_was_set_back_counts_from_zero():
    assert count_steps([50_000, 3], bits=16, most=1000).tolist() == [3.0]
    with pytest.raises(DomainError, match="16-bit"):
        count_steps([70_000], bits=16)


def test_a_missing_reading_loses_nothing():
    assert totals([0, np.nan, 10], 1.0).tolist()[2] == 10.0
    assert np.isnan(count_steps([0, np.nan, 10])).all()


def test_rates():
    assert rate_by_gate([0, 10, 10], [0, 2, 2]).tolist()[0] == 5.0
    assert np.isnan(rate_by_gate([0, 10, 10], [0, 2, 2])[1])
    # A meter that stops must not show its last rate for ever.
    assert rate_by_period([0, 1, 2], now=2.5).tolist() == [1.0, 1.0, 1.0]
    assert rate_by_period([0, 1, 2], now=12.0).tolist()[-1] == pytest.approx(0.1)
    assert rate_by_period([0, 1, 2], now=12.0, timeout=5.0).tolist()[-1] == 0.0
    assert rate_by_period([], now=1.0).tolist() == [0.0]


def test_duty_cycle_needs_its_edges():
    assert duty_cycle([0, 4, 8], [1, 6]).tolist() == [0.25, 0.5]
    assert np.isnan(duty_cycle([0, 4], [5])).all()
    with pytest.raises(DomainError, match="do not belong together"):
        duty_cycle([0, 4], [1, 2])


@given(st.lists(st.booleans(), min_size=1, max_size=60), st.integers(0, 5))
def test_debouncing_against_the_slow_and_obvious_way(states, settle):
    t = np.arange(len(states), dtype=float)
    shown, since, raw = states[0], 0, states[0]
    expected = []
    for k, state in enumerate(states):
        if state != raw:
            raw, since = state, k
        if k - since >= settle or since == 0:
            shown = raw
        expected.append(shown)
    assert debounce(t, states, settle).tolist() == expected


def test_a_bouncing_contact_counts_once():
    t = np.array([0, 0.1, 0.101, 0.102, 0.103, 0.2, 0.3])
    raw = [False, True, False, True, True, True, True]
    assert count_changes(raw) == 2
    assert count_changes(debounce(t, raw, 0.02)) == 1
