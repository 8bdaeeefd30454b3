"""Tariffs on the wall clock: prices by day, holidays, daylight saving; costs against a slow sum."""

from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from leitwerk.derived import Formula, Terms
from leitwerk.derived.tariffs import parse_tariff
from leitwerk.derived.values import Table
from leitwerk.errors import DomainError, FormulaError

ZONE = ZoneInfo("Europe/Vienna")
ROWS = (
    ("2026-12-24", 9.0),
    ("holiday", 2.0),
    ("Mo-Fr 06:00..22:00", 4.0),
    ("Sa,Su 22:00..02:00", 7.0),
    ("other", 1.0),
)
HOLIDAYS = ("2026-10-26", "2026-12-25")


def slow_price(local):
    """Written out by hand, apart from the rows."""
    day, hour = local.date(), local.hour
    if day == date(2026, 12, 24):
        return 9.0
    if day.isoformat() in HOLIDAYS:
        return 2.0
    if local.weekday() < 5:
        return 4.0 if 6 <= hour < 22 else 1.0
    return 7.0 if hour >= 22 or hour < 2 else 1.0


@pytest.mark.parametrize(
    "day", ["2026-03-27", "2026-03-28", "2026-03-29", "2026-10-24", "2026-10-25", "2026-10-26", "2026-12-24"]
)  # fmt: skip
def test_prices_of_a_day_also_when_the_clocks_change(day):
    tariff = parse_tariff(ROWS, HOLIDAYS, ZONE.key)
    first = date.fromisoformat(day)
    times, prices = tariff.edges(first, first)
    begin = datetime(first.year, first.month, first.day, tzinfo=ZONE).timestamp()
    for seconds in range(0, 23 * 3600, 300):
        at = begin + seconds
        found = prices[np.searchsorted(times, at, side="right") - 1]
        assert found == slow_price(datetime.fromtimestamp(at, UTC).astimezone(ZONE)), seconds


def formula(each=""):
    prices = Table("prices", tuple((day, f"{price} 1/kWh") for day, price in ROWS))
    holidays = Table("holidays", tuple((day, "x") for day in HOLIDAYS))
    terms = Terms(zone=ZONE, tables={"prices": prices, "holidays": holidays})
    return Formula(f"cost(p, prices, holidays{each})", {"p": "kW"}, terms=terms)


@settings(max_examples=30)
@given(
    st.sampled_from(["2026-03-28T20:00", "2026-10-24T20:00", "2026-12-23T20:00"]),
    st.lists(st.tuples(st.integers(1, 7200), st.floats(0, 5)), min_size=2, max_size=25),
)
def test_costs_are_those_of_a_slow_sum(start, course):
    begin = datetime.fromisoformat(start).replace(tzinfo=ZONE).timestamp()
    t = begin + np.cumsum([0] + [step for step, _ in course[1:]])
    p = np.array([power for _, power in course])
    expected = 0.0
    middles = np.arange(begin, t[-1], 10.0) + 5.0
    power = np.interp(middles, t, p)
    for at, kw in zip(middles.tolist(), power.tolist(), strict=True):
        expected += slow_price(datetime.fromtimestamp(at, UTC).astimezone(ZONE)) * kw * 10 / 3600
    found = formula()
    whole = found(p=p, times_s=t)
    assert whole[-1] == pytest.approx(expected, rel=0.02, abs=0.12)
    one = formula()
    single = [
        float(one(p=[x], times_s=[s])[0]) for x, s in zip(p.tolist(), t.tolist(), strict=True)
    ]
    np.testing.assert_array_equal(whole, single)


def test_costs_begin_anew_with_each_day():
    t = datetime(2026, 12, 24, 23, tzinfo=ZONE).timestamp() + np.arange(0.0, 7201.0, 600.0)
    found = formula(", '1 d'")(p=np.ones(t.size), times_s=t)
    assert found[5] == pytest.approx(9.0 * 50 / 60)
    assert found[-1] == pytest.approx(2.0)  # an hour of the holiday


@pytest.mark.parametrize(
    ("rows", "says"),
    [
        ((("Mo-Fr", 1.0),), "no price for Sa 00:00"),
        ((("Mon", 1.0), ("other", 1.0)), "'Mon' is not a day"),
        ((("Mo 25:00..26:00", 1.0), ("other", 1.0)), "not a time of day"),
        ((("Mo 6..22", 1.0), ("other", 1.0)), "does not say when"),
        ((), "no price for Mo"),
    ],
)
def test_tariffs_that_cannot_be_used(rows, says):
    with pytest.raises(DomainError, match=says):
        parse_tariff(rows, (), "UTC")


def test_prices_are_for_one_thing():
    prices = Table("prices", (("Mo-Fr", "0.3 1/kWh"), ("other", "0.2 1/m³")))
    with pytest.raises(FormulaError, match="not all for one thing"):
        Formula("cost(p, prices)", {"p": "kW"}, terms=Terms(tables={"prices": prices}))
