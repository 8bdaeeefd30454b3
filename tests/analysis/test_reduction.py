"""Reduced series: every extreme of every column stays, gaps stay gaps."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.analysis.reduction import extremes, reduced


def slow(times, values, begin, end, columns):
    low, high = [np.nan] * columns, [np.nan] * columns
    edges = np.linspace(begin, end, columns + 1)
    for t, x in zip(times, values, strict=True):
        inside = [k for k in range(columns) if edges[k] <= t < edges[k + 1]]
        k = inside[0] if inside else columns - 1 if t == end else None
        if k is not None and x == x:
            low[k], high[k] = np.nanmin([low[k], x]), np.nanmax([high[k], x])
    return low, high


@given(
    st.lists(st.floats(0, 10), min_size=1, max_size=80),
    st.integers(1, 12),
    st.data(),
)
def test_extremes_of_columns(times, columns, data):
    times = np.sort(times)
    value = st.floats(-5, 5) | st.just(float("nan"))
    values = np.array(data.draw(st.lists(value, min_size=times.size, max_size=times.size)))
    found = extremes(times, values, 0.0, 10.0, columns)
    np.testing.assert_array_equal(found, slow(times, values, 0.0, 10.0, columns))


@pytest.mark.parametrize("count", [10, 100_000])
def test_a_reduced_line_has_the_same_extremes_in_every_column(count):
    rng = np.random.default_rng(3)
    times = np.cumsum(rng.random(count))
    values = rng.standard_normal(count)
    values[count // 2] = 40.0  # one spike among all of them
    t, x = reduced(times, values, 500)
    assert t.size <= 2000
    span = times[0], times[-1], 500
    np.testing.assert_array_equal(extremes(t, x, *span), extremes(times, values, *span))


@pytest.mark.parametrize("count", [50, 200_000])
def test_a_gap_stays_a_gap(count):
    times = np.arange(float(count))
    times[count // 2 :] += count
    t, x = reduced(times, np.ones(count), 100, gap_s=5.0)
    (gap,) = np.flatnonzero(np.isnan(x))
    assert t[gap - 1] == count // 2 - 1
    assert t[gap + 1] == times[count // 2]


def test_nothing_is_nothing():
    empty = np.zeros(0)
    assert reduced(empty, empty, 10)[0].size == 0
    assert np.isnan(extremes(empty, empty, 0.0, 1.0, 3)[0]).all()
