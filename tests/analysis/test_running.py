"""Running statistics: as NumPy has them of the whole, and begun anew."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.analysis.running import RunningStatistics

VALUES = st.floats(-1e3, 1e3) | st.just(float("nan"))


@given(st.lists(st.tuples(VALUES, VALUES), max_size=30), st.integers(0, 30))
def test_as_of_the_whole(rows, reset_after):
    running = RunningStatistics(2)
    for k, row in enumerate(rows):
        if k == reset_after:
            running.reset([1])
        running.take(np.array(row))
    for column, begin in ((0, 0), (1, reset_after if reset_after < len(rows) else 0)):
        good = np.array([row[column] for row in rows[begin:] if row[column] == row[column]])
        assert running.count[column] == good.size
        if not good.size:
            assert np.isnan(running.mean[column])
            assert np.isnan(running.change[column])
            continue
        assert running.mean[column] == pytest.approx(good.mean(), abs=1e-9)
        assert running.minimum[column] == good.min()
        assert running.maximum[column] == good.max()
        assert running.change[column] == good[-1] - good[0]
        if good.size > 1:
            assert running.deviation[column] == pytest.approx(good.std(ddof=1), abs=1e-6)


def test_a_small_spread_on_a_large_value():
    running = RunningStatistics(1)
    for k in range(1000):
        running.take(np.array([1e6 + 0.001 * (k % 2)]))
    assert running.deviation[0] == pytest.approx(0.0005, rel=1e-3)
