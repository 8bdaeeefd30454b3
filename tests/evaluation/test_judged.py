"""Shares of intervals, noise exposure and totals: against slow computations, and where rows are missing."""

import math
from datetime import datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.steps import integrals
from leitwerk.evaluation.exposure import noise_exposure
from leitwerk.evaluation.judged import survey
from leitwerk.evaluation.shares import judge_shares
from leitwerk.evaluation.summary import summarise
from leitwerk.evaluation.totals import add_up
from leitwerk.parsing.quantities import parse_quantity, parse_span
from leitwerk.setup.papers import Exposure, JudgedShare, Papers
from leitwerk.signals.quality import Quality

BEGIN = 1_772_438_400.0  # 2026-03-02T08:00Z, a whole hour
VIENNA = ZoneInfo("Europe/Vienna")


def series(values, name="u", unit="V", every_s=60.0, begin_s=BEGIN):
    values = np.asarray(values, float).reshape(len(values), -1)
    names = [f"{name}{k}" if k else name for k in range(values.shape[1])]
    columns = tuple(Column(n, unit) for n in names)
    return Series(columns, begin_s + every_s * np.arange(len(values)), values)


def share(*channels, within="207..253 V", each="10 min", at_least="95 %", value="mean"):
    return JudgedShare(
        channels=list(channels), within=parse_span(within), each=parse_quantity(each),
        at_least=parse_quantity(at_least), value=value,
    )  # fmt: skip


# ---------------------------------------------------------------------- integrals of steps


@given(
    st.lists(st.tuples(st.floats(0.1, 50.0), st.floats(-1e3, 1e3) | st.just(math.nan)), min_size=1,
             max_size=30),
    st.lists(st.floats(0.0, 900.0), min_size=2, max_size=9, unique=True),
)  # fmt: skip
def test_the_integral_is_that_of_each_step_cut_at_the_edges(steps, edges):
    lasts, values = (np.array(x) for x in zip(*steps, strict=True))
    times = 100.0 + np.concatenate(([0.0], np.cumsum(lasts)[:-1]))
    stands, edges = 0.8 * lasts, np.sort(edges)
    area, covered = integrals(times, values, stands, edges)
    for k, (low, high) in enumerate(pairwise(edges)):
        inside = [
            max(0.0, min(high, t + s) - max(low, t)) for t, s in zip(times, stands, strict=True)
        ]
        good = [(i, v) for i, v in zip(inside, values, strict=True) if not math.isnan(v)]
        assert covered[k] == pytest.approx(sum(i for i, _ in good), abs=1e-6)
        assert area[k] == pytest.approx(sum(i * v for i, v in good), abs=1e-3)


# ---------------------------------------------------------------------- shares


@pytest.mark.parametrize("value", ["mean", "root mean square"])
def test_shares_are_those_of_an_independent_computation(value):
    rng = np.random.default_rng(3)
    rows = series(230.0 + np.cumsum(rng.normal(0, 1.2, 3000)) * 0.3, begin_s=BEGIN + 130.0)
    (found,) = judge_shares(rows, {"u": share("u", within="226..236 V", value=value)})
    (channel,) = found.channels
    frame = rows.to_dataframe()["u"]
    grouped = (frame**2 if value != "mean" else frame).resample("10min")
    means = grouped.mean()[grouped.count() == 10]
    # The first and the last minutes belong to intervals that are not whole; 130 s is between two ticks.
    means = means.iloc[1:] if len(means) > channel.intervals else means
    means = np.sqrt(means) if value != "mean" else means
    assert channel.intervals == len(means) == channel.known
    # A row stands across a tick: ours divides it there, pandas does not.
    assert abs(channel.within - int(means.between(226, 236).sum())) <= 3
    assert channel.lowest == pytest.approx(means.min(), abs=0.3)


def test_what_is_missing_counts_neither_within_nor_outside():
    rows = [230.0] * 1000  # 100 intervals
    assert judge_shares(series(rows), {"u": share("u")})[0].outcome == "passed"
    low = [*rows[:60], *[190.0] * 60, *rows[120:]]  # 6 % outside
    assert judge_shares(series(low), {"u": share("u")})[0].outcome == "not passed"
    some = list(rows)
    some[0:40] = [190.0] * 40  # 4 % outside, and 4 % missing: not known
    some[500:540] = [math.nan] * 40
    (verdict,) = judge_shares(series(some), {"u": share("u")})
    assert (verdict.outcome, verdict.channels[0].known) == ("unknown", 96)
    some[500:540] = rows[500:540]
    some[700] = math.nan  # one row of an interval: the interval is not known; 4 % + 1 % are allowed
    assert judge_shares(series(some), {"u": share("u")})[0].outcome == "passed"
    (short,) = judge_shares(series([230.0] * 5), {"u": share("u")})
    assert (short.outcome, short.channels[0].intervals) == ("unknown", 0)
    (other,) = judge_shares(series(rows), {"u": share("u", "v")})
    assert [c.outcome for c in other.channels] == ["passed", "unknown"]
    exact = [230.0] * 950 + [190.0] * 50  # exactly 95 %
    assert judge_shares(series(exact), {"u": share("u")})[0].outcome == "passed"


# ---------------------------------------------------------------------- noise


def exposure(at_most="85 dB", day=None, *, peak=False):
    return Exposure(
        level="level", peak="level1" if peak else None, day=None if day is None else parse_quantity(day),
        at_most=parse_quantity(at_most), peak_at_most=parse_quantity("137 dB") if peak else None,
    )  # fmt: skip


def levels(*parts):
    """Rows of a minute: (minutes, level)."""
    return series([level for minutes, level in parts for _ in range(minutes)], "level", "dB")


@pytest.mark.parametrize(
    ("rows", "day", "expected"),
    [
        # ISO 9612:2009, 9 and 11: LEX,8h = LAeq + 10 lg (Te / 8 h).
        (levels((480, 85.0)), None, 85.0),
        (levels((240, 85.0)), None, 85.0 - 10 * math.log10(2)),
        (levels((60, 90.0)), "6 h", 90.0 + 10 * math.log10(6 / 8)),
        # 90 dB for 4 h and 70 dB for 4 h: half the energy, and next to nothing.
        (levels((240, 90.0), (240, 70.0)), None, 10 * math.log10((1e9 + 1e7) / 2)),
        # 100 dB for 15 min allows as much as 85 dB for 8 h (3 dB for each halving: 32 = 2^5).
        (levels((15, 100.0), (465, 0.0)), None, 84.9485),
    ],
)
def test_the_exposure_of_a_shift(rows, day, expected):
    found = noise_exposure(rows, exposure(day=day))
    assert found.daily == pytest.approx(expected, abs=1e-3)
    assert found.uncertainty == pytest.approx(1.65 * math.hypot(0.7, 1.0))
    assert summarise(rows).channels[0].numbers.mean == pytest.approx(found.equivalent)


def test_an_exposure_passes_only_with_its_uncertainty_and_with_all_that_is_missing():
    assert noise_exposure(levels((480, 82.9)), exposure()).outcome == "passed"
    assert noise_exposure(levels((480, 83.5)), exposure()).outcome == "unknown"
    assert noise_exposure(levels((480, 85.1)), exposure()).outcome == "not passed"
    quiet = levels((239, 60.0), (1, 110.0), (240, 60.0))
    missing = Series(quiet.columns, quiet.times_s, quiet.values.copy())
    missing.values[300:420] = (
        math.nan
    )  # two hours: they may have been as loud as the loudest minute
    assert noise_exposure(quiet, exposure("90 dB")).outcome == "passed"
    found = noise_exposure(missing, exposure("90 dB"))
    assert (found.outcome, found.missing_s) == ("unknown", 7200.0)
    assert found.dose == pytest.approx(10 ** ((found.daily - 90.0) / 10.0))


def test_peaks_are_judged_where_all_are_known():
    rows = series(np.tile([80.0, 130.0], (480, 1)), "level", "dB")
    assert noise_exposure(rows, exposure(peak=True)).outcome == "passed"
    rows.values[7, 1] = 138.0
    found = noise_exposure(rows, exposure(peak=True))
    assert (found.peak_outcome, found.peak_s) == ("not passed", BEGIN + 420.0)
    rows.values[7, 1] = math.nan
    assert noise_exposure(rows, exposure(peak=True)).peak_outcome == "unknown"
    with pytest.raises(lw.QuantityError, match="have no channel 'level'"):
        noise_exposure(series([1.0]), exposure())
    with pytest.raises(lw.QuantityError, match="level is in V"):
        noise_exposure(series([1.0], "level"), exposure())
    with pytest.raises(lw.QuantityError, match="no good level"):
        noise_exposure(series([math.nan], "level", "dB"), exposure())


# ---------------------------------------------------------------------- totals


@given(st.integers(0, 2**32), st.sampled_from(["hour", "day", "month"]))
def test_totals_are_those_of_an_independent_computation(seed, each):
    rng = np.random.default_rng(seed)
    begin = datetime(
        2026, 3, 27, int(rng.integers(24)), tzinfo=VIENNA
    ).timestamp()  # the clocks change
    count = int(rng.integers(200, 700))
    rows = series(rng.normal(10, 4, (count, 1)), "p", "kW", 900.0, begin)
    rows.values[rng.integers(count, size=5)] = math.nan
    found = add_up(rows, ["p"], each, VIENNA)
    (channel,) = found.channels
    frame = rows.to_dataframe()["p"].tz_convert("Europe/Vienna") * 0.25
    key = {"hour": "%Y%m%d%H%z", "day": "%Y%m%d", "month": "%Y%m"}[each]
    by_pandas = frame.groupby(frame.index.strftime(key), sort=False).sum()
    np.testing.assert_allclose(channel.totals[: len(by_pandas)], by_pandas.to_numpy(), atol=1e-9)
    assert channel.total == pytest.approx(summarise(rows).channels[0].numbers.total)
    gaps = np.isnan(rows.values[:, 0]).sum() * 900.0
    assert sum(channel.missing_s) == pytest.approx(gaps)


def test_counters_that_were_reset_and_the_highest_mean():
    counter = [5.0, 6.0, 8.0, 1.0, 4.0, math.nan, 9.0]  # 1 + 2 + 1 + 3 + 5
    rows = Series((Column("n"),), BEGIN + 3600.0 * np.arange(7), np.array(counter)[:, None])
    (channel,) = add_up(rows, ["n", "absent"], "day", VIENNA).channels
    assert (channel.total, channel.unit) == (12.0, "")
    power = np.ones(240)
    power[100:115] = 31.0  # 9:40 to 9:55: of two quarters of an hour, 9:45 has 10 of 15 minutes
    (channel,) = add_up(
        series(power, "p", "kW"), ["p"], "day", VIENNA, highest_mean_s=900.0
    ).channels
    highest = channel.highest
    assert (highest.value, highest.begin_s) == (pytest.approx(21.0), BEGIN + 105 * 60.0)


def test_tariffs_are_added_up_apart_also_in_the_night_of_25_hours():
    """A week with the night in which the clocks are put back: hour by hour, by the wall clock."""
    begin = datetime(2026, 10, 19, 3, 17, tzinfo=VIENNA).timestamp()
    rows = series(np.arange(4 * 170.0), "p", "kW", 900.0, begin)
    tariffs = {"day": "Mo-Fr 06:00..22:00", "feast": "holiday", "night": "other"}
    more = {"tariffs": tariffs, "holidays": ["2026-10-26"]}
    whole = add_up(rows, ["p"], "day", VIENNA, **more)
    expected = dict.fromkeys(tariffs, 0.0)
    for minute in range(15 * 4 * 170):
        local = datetime.fromtimestamp(begin + 60.0 * minute, VIENNA)
        at_work = local.weekday() < 5 and 6 <= local.hour < 22
        name = "feast" if (local.month, local.day) == (10, 26) else "day" if at_work else "night"
        expected[name] += (minute // 15) / 60.0
    assert whole.tariffs == tuple(tariffs)
    assert dict(zip(tariffs, whole.channels[0].by_tariff, strict=True)) == pytest.approx(expected)
    assert sum(whole.channels[0].by_tariff) == pytest.approx(whole.channels[0].total)
    assert whole.edges_s[7] - whole.edges_s[6] == 25 * 3600.0
    assert next(iter(whole.tariff_lines())).startswith("p, day: ")
    with pytest.raises(lw.LeitwerkError):
        add_up(rows, ["p"], "day", VIENNA, tariffs={"day": "Mo-Fr 06:00..22:00"})


def test_flagged_intervals_are_counted_apart_and_a_missing_day_is_unknown():
    """EN 50160 over a week: 1,008 intervals of UTC, six more in the night of 25 hours."""
    begin = datetime(2026, 10, 19, 0, 0, tzinfo=VIENNA).timestamp()
    week = series(np.full(1014, 230.0), "u", "V", 600.0, begin)
    assert datetime.fromtimestamp(begin + 1014 * 600.0, VIENNA).hour == 0
    qualities = np.zeros(week.values.shape, np.uint8)
    qualities[100] = qualities[500] = Quality.FLAGGED
    week.values[[100, 500]] = 3.0
    flagged = Series(week.columns, week.times_s, week.values, qualities)
    (verdict,) = judge_shares(flagged, {"u": share("u", at_least="100 %")})
    (channel,) = verdict.channels
    assert (channel.intervals, channel.known, channel.flagged) == (1012, 1012, 2)
    assert (verdict.outcome, channel.lowest) == ("passed", 230.0)
    assert "2 flagged and left out" in next(verdict.lines())
    _, judged = survey(flagged, Papers(shares={"u": share("u", at_least="100 %")}), (), VIENNA)
    assert judged.shares[0].channels[0].flagged == 2
    # Rows that stand across the ticks flag the intervals on both sides.
    late = Series(week.columns, week.times_s + 60.0, week.values, qualities)
    (across,) = judge_shares(late, {"u": share("u")})[0].channels
    assert (across.flagged, across.intervals) == (4, 1009)
    keeps = np.ones(1014, bool)
    keeps[300:444] = False  # a day without rows
    short = Series(week.columns, week.times_s[keeps], week.values[keeps], qualities[keeps])
    (gap,) = judge_shares(short, {"u": share("u")})
    assert (gap.outcome, gap.channels[0].known) == ("unknown", 1012 - 144)


def test_a_shift_of_the_clock_is_a_day_of_23_hours():
    begin = datetime(2026, 3, 28, 0, 0, tzinfo=VIENNA).timestamp()
    rows = series(np.ones(72), "p", "kW", 3600.0, begin)
    found = add_up(rows, ["p"], "day", VIENNA)
    np.testing.assert_allclose(found.channels[0].totals, [24.0, 23.0, 24.0, 1.0])
    assert timedelta(seconds=found.edges_s[2] - found.edges_s[1]) == timedelta(hours=23)
