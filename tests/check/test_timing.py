"""Time: zones and their traps, intervals and statistics, runs, budgets."""

import math
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import count
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.analysis.intervals import wall_clock_intervals
from leitwerk.analysis.statistics import interval_statistics
from leitwerk.check.budget import Load, Stream, report_volume, work_out_budget
from leitwerk.datasheet.model import Store, Supply
from leitwerk.errors import QuantityError
from leitwerk.parsing.local_time import find_zone, parse_local, to_instant
from leitwerk.rules.schedule import RunPlan, Start, Stop, overlaps, plan_runs

BERLIN, YORK = find_zone("Europe/Berlin"), find_zone("America/New_York")
ZONES = {
    "Europe/Berlin": ["2026-03-28 20:00", "2026-10-24 20:00"],
    "America/New_York": ["2026-03-07 20:00", "2026-10-31 20:00"],
    "Australia/Lord_Howe": ["2026-04-04 08:00", "2026-10-03 08:00"],  # half an hour
    "America/Santiago": ["2026-04-04 20:00", "2026-09-05 20:00"],  # no midnight
    "Asia/Kathmandu": ["2026-05-01 10:00"],  # +05:45
    "UTC": ["2024-02-28 12:00"],
}


def slow_edges(start, minutes, length_s, zone):
    """The beginnings of intervals, found by walking along minute by minute."""
    edges, until, last = [], None, None
    for k in range(minutes):
        instant = start + timedelta(minutes=k)
        wall = instant.astimezone(zone).replace(tzinfo=None)
        midnight = wall.replace(hour=0, minute=0)
        begin = midnight + timedelta(seconds=(wall - midnight).seconds // length_s * length_s)
        ran_to = None if last is None else last + timedelta(minutes=1)
        begins_anew = ran_to is None or wall >= until
        if not begins_anew and ran_to >= until:  # the clocks went back just at the end
            begins_anew = length_s < 86_400
        if begins_anew:
            edges.append(instant.timestamp())
            until = begin + timedelta(seconds=length_s)
        last = wall
    return edges[1:]  # where the first one began is not known


@pytest.mark.parametrize("zone", ZONES)
@pytest.mark.parametrize("length_s", [900, 1800, 3600, 7200, 21_600, 86_400])
def test_intervals_follow_the_clock_on_the_wall(zone, length_s):
    for begin in ZONES[zone]:
        start = datetime.fromisoformat(begin).replace(tzinfo=UTC)
        minutes = 3 * 1440
        want = slow_edges(start, minutes, length_s, ZoneInfo(zone))
        end = start + timedelta(minutes=minutes)
        got = wall_clock_intervals(start, end, length_s, ZoneInfo(zone)).edges
        assert [e for e in got.tolist() if want[0] <= e < end.timestamp()] == want


@pytest.mark.parametrize(
    ("zone", "day", "hours"),
    [("Europe/Berlin", "2026-03-29", 23), ("Europe/Berlin", "2026-10-25", 25),
     ("America/New_York", "2026-03-08", 23), ("America/New_York", "2026-11-01", 25),
     ("Europe/Berlin", "2024-02-29", 24), ("Australia/Lord_Howe", "2026-04-05", 24.5)],
)  # fmt: skip
def test_a_day_has_the_hours_that_the_place_gives_it(zone, day, hours):
    at = to_instant(parse_local(f"{day} 00:00"), find_zone(zone))
    days = wall_clock_intervals(at, at + timedelta(hours=1), 86_400, find_zone(zone))
    assert days.expected(3600.0).tolist() == [hours]
    assert str(days.starts()[0].date()) == day


def test_a_year_of_days_and_hours_in_two_zones():
    for zone in (BERLIN, YORK):
        start = to_instant(parse_local("2024-01-01 00:00"), zone)
        end = to_instant(parse_local("2025-01-01 00:00"), zone)
        hours = wall_clock_intervals(start, end, 3600, zone)
        assert hours.count == 366 * 24  # one hour less in spring, one more in autumn
        assert set(hours.expected(60.0).tolist()) == {60.0}
        days = wall_clock_intervals(start, end, 86_400, zone)
        assert sorted(set(days.expected(3600.0).tolist())) == [23, 24, 25]
        assert sum(days.expected(3600.0)) == 366 * 24


@pytest.mark.parametrize("length_s", [0, -1, 7, 0.5, 100_000, math.nan])
def test_a_length_that_fits_no_clock_is_refused(length_s):
    with pytest.raises(QuantityError, match="cannot be aligned"):
        wall_clock_intervals(datetime.now(UTC), datetime.now(UTC), length_s, BERLIN)


@pytest.mark.parametrize(
    ("text", "says", "valid"),
    [
        (
            "2026-03-29 02:30",
            "does not exist in Europe/Berlin: the clocks go from 02:00 to 03:00",
            "",
        ),
        ("2026-10-25 02:30", "comes twice", "02:30 +02:00 or 2026-10-25 02:30 +01:00"),
        ("2026-10-25 02:30 +03:00", "has another offset then", "+01:00"),
        ("2026-02-30 02:30", "not a date and time", "2026-03-02 06:00"),
        ("tomorrow", "not a date and time", ""),
    ],
)
def test_local_times_that_mean_nothing_or_two_things(text, says, valid):
    with pytest.raises(QuantityError, match=says) as error:
        to_instant(parse_local(text), BERLIN)
    assert valid in error.value.valid


def test_which_of_two_is_meant_can_be_written():
    first, second = (
        to_instant(parse_local(f"2026-10-25 02:30 {o}"), BERLIN) for o in ("+02:00", "+01:00")
    )
    assert second - first == timedelta(hours=1)


@pytest.mark.parametrize(
    "name", ["Europe/Berln", "../../etc/passwd", "", "/etc/localtime", "x" * 500]
)
def test_a_zone_that_is_none(name):
    with pytest.raises(QuantityError, match="no time zone"):
        find_zone(name)


@given(
    st.lists(st.tuples(st.floats(0, 7200), st.floats(-1e9, 1e9) | st.just(math.nan)), max_size=60),
    st.booleans(),
)
def test_statistics_are_those_of_each_interval_by_itself(samples, sort):
    if sort:
        samples.sort(key=lambda sample: sample[0])
    start = datetime(2026, 3, 2, tzinfo=UTC)
    t = np.array([s[0] for s in samples]) + start.timestamp()
    x = np.array([s[1] for s in samples], float)
    hours = wall_clock_intervals(start, start + timedelta(hours=2), 900, BERLIN)
    got = interval_statistics(t, x, hours)
    for k in range(hours.count):
        inside = [
            v for time, v in sorted(zip(t.tolist(), x.tolist(), strict=True), key=lambda p: p[0])
            if hours.edges[k] <= time < hours.edges[k + 1] and not math.isnan(v)
        ]  # fmt: skip
        assert got["count"][k] == len(inside)
        if not inside:
            assert all(math.isnan(got[name][k]) for name in got if name != "count")
            continue
        assert (got["minimum"][k], got["maximum"][k]) == (min(inside), max(inside))
        assert got["last"][k] == inside[-1]
        assert got["mean"][k] == pytest.approx(np.mean(inside), rel=1e-12, abs=1e-6)
        if len(inside) == 1:
            assert math.isnan(got["standard deviation"][k])
        else:
            want = np.std(np.array(inside) - inside[0], ddof=1)
            assert got["standard deviation"][k] == pytest.approx(want, rel=1e-9, abs=1e-6)


def test_a_large_offset_does_not_eat_the_standard_deviation():
    start = datetime(2026, 3, 2, tzinfo=UTC)
    t = start.timestamp() + np.arange(1000.0)
    x = 1e9 + np.tile([0.0, 1.0], 500)
    got = interval_statistics(
        t, x, wall_clock_intervals(start, start + timedelta(hours=1), 3600, BERLIN)
    )
    assert got["standard deviation"][0] == pytest.approx(0.50025, rel=1e-4)


@pytest.mark.parametrize("zone", [BERLIN, YORK])
def test_a_year_of_daily_runs_goes_on_over_both_changes_and_leap_day(zone):
    plan = RunPlan("night", Start(daily_s=2 * 3600 + 1800), Stop(after_s=3600.0))
    now, until = (to_instant(parse_local(f"{y}-01-01 00:00"), zone) for y in (2024, 2025))
    runs = plan_runs([plan], zone, now, until)
    local = [run.start.astimezone(zone) for run in runs]
    assert len(runs) == 366
    assert len({at.date() for at in local}) == 366
    odd = [at for at in local if (at.hour, at.minute) != (2, 30)]
    assert [(at.hour, at.minute) for at in odd] == [(3, 0)]  # skipped in spring: as soon as it can
    assert not overlaps(runs)


def test_overlaps_are_found_and_only_those():
    at = parse_local
    night = RunPlan("night", Start(daily_s=22 * 3600), Stop(after_s=8 * 3600.0))
    long = RunPlan("long", Start(at=at("2026-03-02 20:00")), Stop(at=at("2026-03-04 20:00")))
    after = RunPlan("after", Start(at=at("2026-03-04 20:00")), Stop(after_s=60.0))
    now = to_instant(at("2026-03-02 00:00"), BERLIN)
    runs = plan_runs([night, long, after], BERLIN, now, now + timedelta(days=5))
    assert {(a.name, b.name) for a, b in overlaps(runs)} == {("long", "night")}
    assert not overlaps(plan_runs([long, after], BERLIN, now, now + timedelta(days=5)))


STREAMS = st.lists(
    st.tuples(
        st.integers(1, 5), st.sampled_from([1.0, 2.0, 10.0]), st.integers(1, 6), st.integers(1, 3)
    ),
    min_size=1,
    max_size=3,
).map(
    lambda rows: tuple(Stream(f"s{k}", n, s, s * m, kept) for k, (n, s, m, kept) in enumerate(rows))
)


@given(STREAMS, st.floats(200, 5000), st.sampled_from([60.0, 300.0]))
def test_a_budget_is_what_a_simulation_comes_to(streams, capacity, report_s):
    """Row by row, sample by sample, report by report, against the formulas."""
    supply = Supply(capacity_j=50.0, idle_w=0.01, sample_j=0.02, report_j=0.5)
    store = Store(capacity, 8.0, 4.0)
    streams = tuple(replace(s, report_s=report_s) for s in streams)
    load = Load(streams, report_bytes=100, report_value=7, store=store, supply=supply)
    start = datetime(2026, 3, 2, tzinfo=UTC)
    budget = work_out_budget("x", load, start, BERLIN)
    used, rows = 0.0, {s.name: 0 for s in streams}
    for second in count(1):
        for s in streams:
            if second % s.store_s == 0:
                used += 8 + 4 * s.channels * s.kept
        if used >= capacity:
            break
    coarse = max(s.store_s for s in streams) + 1
    assert abs((budget.full - start).total_seconds() - second) <= 2 * coarse
    energy, fastest = 50.0, min(s.sample_s for s in streams)
    for second in count(1):
        energy -= 0.01 + 0.02 * (second % fastest == 0) + 0.5 * (second % report_s == 0)
        if energy <= 0:
            break
    assert abs((budget.empty - start).total_seconds() - second) <= report_s + fastest
    volume = sum(
        100 + 7 * sum(s.channels * s.kept * report_s / s.store_s for s in streams)
        for _ in range(int(30 * 86_400 / report_s))
    )
    assert report_volume(load) == pytest.approx(volume)
    assert rows.keys() == {s.name for s in streams}


def test_what_does_not_fit_says_what_would():
    load = Load(
        (Stream("all", 8, 10.0, 10.0),), scan_s=12.0, store=Store(1e5, 1.0, unit="rows"),
        supply=Supply(1000.0, 1e-4, 1e-3), unattended_s=90 * 86_400.0,
    )  # fmt: skip
    budget = work_out_budget("x", load, datetime(2026, 3, 2, tzinfo=UTC), BERLIN)
    nearest = {item.name: item.nearest for item in budget.items if not item.fits}
    assert nearest == {
        "scan": "sample every 15 s",
        "memory": "store every 2 min",
        "battery": "sample every 1 min",
    }
    assert (budget.fits, budget.limiting.name) == (False, "memory")
