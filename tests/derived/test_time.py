"""Functions of time: against slow loops, and the same however the samples are divided."""

import json
from zoneinfo import ZoneInfo

import numpy as np
import pytest
import slow
from hypothesis import given, settings
from hypothesis import strategies as st

from leitwerk.derived import Formula, Terms
from leitwerk.derived.graph import Graph
from leitwerk.derived.reading import read_formula
from leitwerk.derived.runner import Runner
from leitwerk.derived.types import LOGICAL, PLAIN
from leitwerk.derived.values import Table

GAP = 25.0
ZONE = ZoneInfo("Europe/Vienna")
FUNCTIONS = {
    "moving_mean(x, '12 s')": lambda t, x: slow.moving(t, x, 12.0, "mean"),
    "moving_std(x, '12 s')": lambda t, x: slow.moving(t, x, 12.0, "std"),
    "moving_min(x, '7.5 s')": lambda t, x: slow.moving(t, x, 7.5, "min"),
    "moving_max(x, '40 s')": lambda t, x: slow.moving(t, x, 40.0, "max"),
    "rate(x)": lambda t, x: slow.rate(t, x, GAP),
    "before(x, '9 s')": lambda t, x: slow.before(t, x, GAP, 9.0),
    "total(x)": lambda t, x: slow.total(t, x, GAP),
    "total(x, '1 d')": lambda t, x: slow.total(t, x, GAP, ZONE),
    "increase(x, 8)": lambda t, x: slow.increase(t, x, 8.0),
    "interpolated(x, '9 s')": lambda t, x: slow.between(t, x, 9.0),
    "interpolated(x, '30 s')": lambda t, x: slow.between(t, x, 30.0),
    "gaps(x)": lambda t, x: slow.gaps(t, x, GAP),
    "gaps(x, '1 d')": lambda t, x: slow.gaps(t, x, GAP, ZONE),
    "hold(x, '15 s')": lambda t, x: slow.hold(t, x, 15.0),
    "low_pass(x, '6 s')": lambda t, x: slow.low_pass(t, x, GAP, 6.0),
    "settled(x, '5 s')": lambda t, x: slow.settled(t, x, 5.0),
    "moving_mean(x, '3.3 s')": lambda t, x: slow.moving(t, x, 3.3, "mean"),
    "count(c)": lambda t, x: slow.count(t, x, GAP),
    "duration(c)": lambda t, x: slow.duration(t, x, GAP),
}
# Of the moment: the same to the last bit, alone and beside others, in long pieces and in short ones.
READY_MADE = (
    "exp(x) + sin(x) + x**1.7 + log(x + 1)",
    "parshall(x * '10 cm', '3 in') / '1 l/s'",
    "v_notch(x * '10 cm', '60 °') / '1 l/s'",
    "absolute(dew_point('20 °C' + x * '1 K', x / 10)) / '1 K'",
    "absolute(wet_bulb('20 °C' + x * '1 K', x / 10, '950 hPa', 'buck')) / '1 K'",
    "wood_moisture('20 °C' + x * '1 K', x / 10)",
    "water_density('2 °C' + x * '1 K') / '1 kg/m³'",
    "step(x, 2, gears, within='10 %', settles='3 s')",
    "moving_direction(x * '50 °', '8 s') / '1 °'",
    "median(x, 2, 3 - x) + round(x, 0.3) + clip(x, 1, 2)",
)
STEPS = st.sampled_from([1.0, 1.0, 1.0, 0.1, 0.7, 0.0, 0.25, 3.0, 12.0, 26.0, 90.0, -1.0, -40.0])
VALUES = st.sampled_from([0.0, 1.0, 2.0, 3.5, 7.0, 7.0, np.nan])


@st.composite
def courses(draw):
    """Times with gaps, repeats and a clock that is set back; values with bad ones among them."""
    steps = draw(st.lists(STEPS, min_size=1, max_size=60))
    start = slow.a_day_of(ZONE, [0])[0] + 500.0
    t = start + np.cumsum(steps)
    x = np.array(draw(st.lists(VALUES, min_size=t.size, max_size=t.size)))
    return t, x


def runner(*texts):
    graph = Graph()
    known = {"x": (graph.input("x"), PLAIN), "c": (graph.input("c"), LOGICAL)}
    gears = Table("gears", (("1", "0.5"), ("2", "1"), ("3", "7/4")))
    terms = Terms(gap_s=GAP, zone=ZONE, tables={"gears": gears})
    return Runner(graph, [read_formula(text, known, graph, terms).node for text in texts])


def condition(x):
    return np.where(np.isnan(x), np.nan, (x > 2.0).astype(float))


@pytest.mark.parametrize("text", FUNCTIONS)
@given(courses())
def test_as_the_slow_one(text, course):
    t, x = course
    used = condition(x) if "(c" in text else x
    found = runner(text).run(t, {"x": x, "c": used})[:, 0]
    np.testing.assert_allclose(
        found, FUNCTIONS[text](t.tolist(), used.tolist()), rtol=1e-9, atol=1e-6
    )


@given(courses(), st.lists(st.integers(1, 9), min_size=1, max_size=60), st.booleans())
def test_any_division_gives_the_same(course, lengths, restarts):
    t, x = course
    # Each function twice, of different inputs: rows that are alike are worked together.
    texts = [
        *FUNCTIONS,
        *READY_MADE,
        *(text.replace("(x", "(2 * x").replace("(c", "(not c") for text in FUNCTIONS),
    ]
    inputs = {"x": x, "c": condition(x)}
    every = runner(*texts)
    whole = every.run(t, inputs)
    one_by_one = np.hstack([runner(text).run(t, inputs) for text in texts])
    np.testing.assert_array_equal(whole, one_by_one)
    pieces, first, at = [], 0, runner(*texts)
    for length in [*lengths, t.size]:
        piece = slice(first, first + length)
        if restarts:
            kept = json.dumps(at.state(), allow_nan=False)
            at = runner(*texts)
            at.resume(json.loads(kept))
        pieces.append(at.run(t[piece], {name: values[piece] for name, values in inputs.items()}))
        first += length
    np.testing.assert_array_equal(whole, np.vstack(pieces))


def test_a_long_window_keeps_its_digits_and_forgets_a_spike():
    """A value that was too large once leaves no trace in the mean once it is out of the window."""
    t = np.arange(100_000.0)
    x = 1000.0 + np.sin(t / 50.0)
    x[10_000] = 1e15
    found = Formula("moving_mean(x, '1 h')", {"x": ""})(x=x, times_s=t)
    np.testing.assert_allclose(found[20_000], x[16_401:20_001].mean(), rtol=1e-14)


@settings(max_examples=20)
@given(st.integers(1, 400), st.integers(0, 2**31))
def test_a_regular_grid_is_the_mean_of_its_samples(width, seed):
    x = np.random.default_rng(seed).random(5000)
    t = 1.8e9 + np.arange(5000) * 0.1  # 0.1 s is not exact, nor are times of today
    found = Formula(f"moving_mean(x, '{width / 10} s')", {"x": ""})(x=x, times_s=t)
    expected = np.convolve(x, np.ones(width) / width, "valid")
    np.testing.assert_allclose(found[width:], expected[1:], rtol=1e-5)
