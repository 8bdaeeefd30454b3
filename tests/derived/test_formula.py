"""Formulas: what they mean, against NumPy written by hand, and what is refused, with its column."""

import math
from contextlib import suppress

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.derived import Formula
from leitwerk.derived.functions import FUNCTIONS
from leitwerk.errors import FormulaError, QuantityError, UnitError

UNITS = {
    "t": "°C",
    "f": "°F",
    "k": "K",
    "v": "km/h",
    "w": "m/s",
    "q": "l/s",
    "x": "",
    "a": "°",
    "p": "%",
}
ONE = {
    name: [value]
    for name, value in {
        "t": 20.0,
        "f": 50.0,
        "k": 4.0,
        "v": 36.0,
        "w": 2.0,
        "q": 5.0,
        "x": 3.0,
        "a": 30.0,
        "p": 50.0,
    }.items()
}

MEANING = {
    # text, unit: value
    ("t - f", "K"): 10.0,
    ("t - f", "mK"): 10_000.0,
    ("t + k", "°C"): 24.0,
    ("k + t", "°F"): 75.2,
    ("t - k", "°C"): 16.0,
    ("mean(t, f)", "°C"): 15.0,
    ("maximum(t, f, '25 °C')", "°C"): 25.0,
    ("absolute(t)", "K"): 293.15,
    ("v + w", "m/s"): 12.0,
    ("v / w", ""): 5.0,
    ("2 * v", "km/h"): 72.0,
    ("v**2", "m^2/s^2"): 100.0,
    ("sqrt(v**2 + w**2)", "m/s"): math.sqrt(104.0),
    ("magnitude(v, w, 0)", "m/s"): math.sqrt(104.0),
    ("(v * w)**0.5", "m/s"): math.sqrt(20.0),
    ("x**-2", ""): 1.0 / 9.0,
    ("-x + +x - 1", ""): -1.0,
    ("q * '2 min'", "l"): 600.0,
    ("0.5 * rho * w**2", "Pa"): 0.5 * 998 * 4,
    ("sin(a)", ""): 0.5,
    ("cos(0)", ""): 1.0,
    ("asin(p)", "°"): 30.0,
    ("atan2(w, w)", "°"): 45.0,
    ("exp(log(x)) + log10(100) + log2(8)", ""): 8.0,
    ("abs(t - '25 °C')", "K"): 5.0,
    ("clip(v, 0, '30 km/h')", "km/h"): 30.0,
    ("round(v, '5 m/s')", "m/s"): 10.0,
    ("median(v, w, '3 m/s')", "m/s"): 3.0,
    ("median(v, w, '3 m/s', '4 m/s')", "m/s"): 3.5,
    ("minimum_good(v, w)", "m/s"): 2.0,
    ("v if t > '10 °C' else w", "m/s"): 10.0,
    ("v if 1 < x < 2 else w", "m/s"): 2.0,
    ("1 if t > f and not x == 3 else 2", ""): 2.0,
    ("t > f or x > 5", ""): 1.0,
    ("maximum(w - '5 m/s', 0)", "m/s"): 0.0,
    ("p * x", "%"): 150.0,
    ("coalesce(w, v)", "m/s"): 2.0,
}  # fmt: skip


@pytest.mark.parametrize(("text", "unit"), MEANING)
def test_meaning(text, unit):
    found = Formula(text, UNITS, unit, {"rho": "998 kg/m³"})
    used = {name: values for name, values in ONE.items() if name in text}
    np.testing.assert_allclose(found(**{**ONE, **used}), [MEANING[text, unit]], rtol=1e-12)


REFUSED = {
    # text: column, a part of the message or of what is said to be valid
    "t + f": (1, "°C + °C has no meaning"),
    "x + t * 2": (5, "its zero is not nothing"),
    "k - t": (1, "K - °C"),
    "-t": (1, "no sign"),
    "v + t": (5, "cannot take"),
    "v + 3": (5, "a plain number"),
    "v > 3": (5, "a plain number"),
    "t > 0": (5, "a plain number"),
    "exp(v)": (5, "a plain number"),
    "sin(v)": (5, "an angle"),
    "v**w": (4, "exponent"),
    "v**x": (4, "fixed exponent"),
    "x / 0": (5, "division by zero"),
    "1 / (2 - 2)": (6, "division by zero"),
    "log(0)": (1, "no finite value"),
    "9**9**9**9": (4, "no finite value"),
    "1e999": (1, "too large"),
    "(" * 10_000 + "x" + ")" * 10_000: (1000, "characters"),
    "x + " + "(" * 50 + "x" + ")" * 50: (45, "too deep"),
    "x + ": (3, "not a formula"),
    "": (1, "not a formula"),
    "temp_top - t": (1, "no channel or constant"),
    "x + moving_maen(x, '1 s')": (5, "did you mean moving_mean"),
    "x + sqrt": (5, "sqrt is a function"),
    "sqrt(x, x)": (1, "here are 2"),
    "sqrt()": (1, "needs x"),
    "x and v > w": (1, "a condition is wanted"),
    "v if x else w": (6, "a condition is wanted"),
    "(v > w) + 1": (2, "'1 if condition else 0'"),
    "v if x > 1 else t": (17, "cannot take"),
    "moving_mean(v, 5)": (16, "has to be a time"),
    "moving_mean(v, '0 s')": (16, "more than 0"),
    "moving_mean(v, '1e-320 min')": (16, "1 ms or more"),
    "moving_mean(v, v / w * '1 s')": (16, "has to be fixed"),
    "total(q, '7 h')": (10, "aligned to the clock"),
    "count(v)": (7, "takes a condition"),
    "total(t)": (7, "absolute(t)"),
    "v > 'fast'": (1, "has no states"),
    "'fast'": (1, "is no quantity"),
    "'5 parsec'": (1, "parsec"),
    "x^2": (2, "**"),
    "x if x > 1": (1, "not a formula"),
    "x.real": (1, "no place"),
    "[x]": (1, "no place"),
    "(lambda: x)()": (1, "no place"),
    "__import__('os')": (1, "no function"),
    "x < 'a' < x": (1, "no states"),
    "x is x": (1, "no place"),
    "True": (1, "no place"),
    "1j": (1, "no place"),
    "sqrt(*x)": (6, "no place"),
    "maximum(x, z=x)": (14, "has no parameter"),
    "clip(x, 1, low=2)": (16, "given twice"),
    "clip(x, 1)": (1, "needs high"),
    "ä + 1": (1, "no channel"),
    "x + 'ü' + zz": (5, "is no quantity"),
}


@pytest.mark.parametrize("text", REFUSED)
def test_refused_with_its_column(text):
    column, part = REFUSED[text]
    with pytest.raises(FormulaError) as caught:
        Formula(text, UNITS)
    assert caught.value.column == column
    assert part in str(caught.value)


@pytest.mark.parametrize(
    ("text", "unit", "part"),
    [
        ("t - f", "°C", "such as K"),
        ("t", "K", "in °C"),
        ("q", "m/s", "volume flow"),
        ("x > 1", "m", "no unit"),
    ],
)
def test_the_unit_has_to_fit(text, unit, part):
    with pytest.raises(FormulaError, match=part):
        Formula(text, UNITS, unit)


def test_units_that_do_not_exist():
    with pytest.raises(UnitError, match="furlong"):
        Formula("x", {"x": "furlong"})


def test_what_has_no_value_is_nan_and_never_infinite():
    x = np.array([0.0, 1.0, np.nan, -4.0])

    def find(text):
        return Formula(text, {"x": ""})(x=x).tolist()

    np.testing.assert_equal(find("1 / x"), [np.nan, 1.0, np.nan, -0.25])
    np.testing.assert_equal(find("1 / (1 / x)"), [np.nan, 1.0, np.nan, -4.0])
    np.testing.assert_equal(find("sqrt(x)"), [0.0, 1.0, np.nan, np.nan])
    np.testing.assert_equal(find("exp(1000 * x)"), [1.0, np.nan, np.nan, 0.0])
    np.testing.assert_equal(find("coalesce(log(x), -1)"), [-1.0, 0.0, -1.0, -1.0])
    np.testing.assert_equal(find("1 if x > 0 else 2"), [2.0, 1.0, np.nan, 2.0])
    np.testing.assert_equal(find("x > 0 or x == x"), [1.0, 1.0, np.nan, 1.0])
    np.testing.assert_equal(find("x > 0 and 1 > 2"), [0.0, 0.0, 0.0, 0.0])
    np.testing.assert_equal(find("maximum_good(x, 0.5)"), [0.5, 1.0, 0.5, 0.5])
    np.testing.assert_equal(find("maximum(x, 0.5)"), [0.5, 1.0, np.nan, 0.5])
    assert Formula("1 / x", {"x": ""})(x=np.array([])).shape == (0,)


def test_a_series_keeps_its_index():
    series = pd.Series([1.0, 4.0], index=["a", "b"], name="q")
    found = Formula("sqrt(x)", {"x": ""})(x=series)
    assert found.to_dict() == {"a": 1.0, "b": 2.0}


# ---------------------------------------------------------------------- random formulas


ARRAYS = {name: np.random.default_rng(k).uniform(0.5, 3.0, 50) for k, name in enumerate("abcd")}
KINDS = {"a": "m", "b": "m", "c": "s", "d": ""}


@st.composite
def trees(draw, depth, kind):
    """A random formula that gives a unit, with its value by NumPy; consistent by construction."""
    if depth == 0 or (draw(st.booleans()) and depth < 3):
        fitting = [name for name, of in KINDS.items() if of == kind]
        name = draw(st.sampled_from(fitting))
        return name, ARRAYS[name]
    sign = draw(st.sampled_from(["+", "-", "*", "/", "if", "root", "max", "mean", "number"]))

    def grow(of):
        return draw(trees(depth - 1, of))

    if sign == "number":
        number = draw(st.floats(0.1, 9.0).map(lambda x: round(x, 3)))
        text = f"'{number} {kind}'" if kind else repr(number)
        return text, np.full(50, number)
    left, x = grow(kind)
    if sign in "+-":
        right, y = grow(kind)
        return f"({left} {sign} {right})", x + y if sign == "+" else x - y
    if sign in {"*", "/"}:
        right, y = grow("")
        divisor = np.where(y == 0.0, np.nan, y)
        return f"({left} {sign} {right})", x * y if sign == "*" else x / divisor
    right, y = grow(kind)
    if sign == "if":
        low, u = grow("s")
        high, v = grow("s")
        unknown = np.isnan(u) | np.isnan(v)
        return f"({left} if {low} < {high} else {right})", np.where(
            unknown, np.nan, np.where(u < v, x, y)
        )
    if sign == "root":
        return f"sqrt({left}**2 + {right}**2)", np.sqrt(x**2 + y**2)
    if sign == "max":
        return f"maximum({left}, {right})", np.maximum(x, y)
    return f"mean({left}, {right}, {left})", (x + y + x) / 3.0


@given(st.sampled_from(["m", "s", ""]).flatmap(lambda k: st.tuples(st.just(k), trees(4, k))))
def test_random_formulas_against_numpy(drawn):
    kind, (text, expected) = drawn
    if len(text) > 1000:
        return
    if not np.isfinite(expected).any():  # a division by 0 is noticed before any value comes
        with suppress(FormulaError):
            assert np.isnan(Formula(text, KINDS, kind)(**ARRAYS)).all()
        return
    found = Formula(text, KINDS, kind)(**ARRAYS)
    finite = np.isfinite(expected)
    np.testing.assert_allclose(found[finite], expected[finite], rtol=1e-9, atol=1e-12)
    assert np.isnan(found[~finite]).all()
    with pytest.raises(FormulaError):
        Formula(f"{text} + {'c' if kind == 'm' else 'a'}", KINDS, kind)


# ---------------------------------------------------------------------- uncertainty


def test_uncertainty_by_the_gum():
    """JCGM 100:2008, 5.1.3: of a product, relative uncertainties add as squares; of x - x, nothing stays."""
    power = Formula("u * i", {"u": "V", "i": "A"}, "kW")
    by_u, by_i = power.uncertainty({"u": 230.0, "i": 10.0}, {"u": 2.3, "i": 0.2})
    assert (by_u.name, by_i.name) == ("u", "i")
    assert by_u.standard == pytest.approx(0.023, rel=1e-9)
    assert by_i.standard == pytest.approx(0.046, rel=1e-9)
    assert by_i.sensitivity == pytest.approx(0.23, rel=1e-9)
    (nothing,) = Formula("x - x", {"x": ""}).uncertainty({"x": 4.0}, {"x": 1.0})
    assert nothing.standard == 0.0
    (same,) = Formula("moving_mean(t, '1 h')", {"t": "°C"}, "°C").uncertainty(
        {"t": 20.0}, {"t": 0.3}
    )
    assert same.standard == pytest.approx(0.3)
    with pytest.raises(QuantityError, match="time that passes"):
        Formula("total(x)", {"x": ""}, "s").uncertainty({"x": 4.0}, {"x": 1.0})
    with pytest.raises(QuantityError, match="no value here"):
        Formula("1 / x", {"x": ""}).uncertainty({"x": 0.0}, {"x": 1.0})


def test_functions_are_described():
    assert all(f.summary and f.takes for f in FUNCTIONS.values())
