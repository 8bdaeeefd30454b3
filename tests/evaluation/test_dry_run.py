"""On paper: courses, dry runs, bands, limit sets, budgets and timetables, as the command shows them."""

import contextlib
import csv
import json
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import EXAMPLES, KILN, checked
from leitwerk.alarms.bands import BandPart, Bands
from leitwerk.alarms.board import AlarmTracker, ChannelAlarm
from leitwerk.alarms.chatter import cycles_per_hour
from leitwerk.alarms.definition import AlarmDefinition
from leitwerk.alarms.timeline import alarm_timeline
from leitwerk.analysis.series import read_series
from leitwerk.derived.formula import work_out
from leitwerk.errors import QuantityError, SetupError
from leitwerk.evaluation.course import parse_course
from leitwerk.evaluation.dry_run import read_recorded
from leitwerk.parsing.local_time import find_zone
from leitwerk.project.library import find_limits, known_limits
from leitwerk.recordings.condense import condense
from leitwerk.setup.limits import parse_limits

GUARD = str(EXAMPLES / "kiln-guard.yaml")
COURSE = "air_top: 21.5; to 85 in 1 min; stay 30 s; missing 5 s; to 60 in 1 min; noise 0.01"


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("20", [20, 20, 20]),
        ("20; to 80 in 2 s", [20, 50, 80]),
        ("20; jump 30; stay 1 s; jump 40", [30, 40, 40]),
        ("20; stay 1 s; missing 1 s; jump 5", [20, math.nan, 5]),
        ("20; swing ±4 every 4 s for 4 s", [20, 24, 20]),
    ],
)
def test_courses_are_drawn_piece_by_piece(text, values):
    got = parse_course(text).at(np.array([0.0, 1.0, 2.0]))
    assert np.allclose(got, values, equal_nan=True)


@pytest.mark.parametrize(
    "text", ["", "x", "20; to 80", "20; stay -1 s", "20; stay 5 V", "20; hop 3",
             "20; swing ±1 every 0 s for 1 s", "20; to 80 in 2 min in 3 min", ";".join(["20"] * 2000)],
)  # fmt: skip
def test_what_is_no_course_says_what_one_is(text):
    with pytest.raises(QuantityError) as error:
        parse_course(text)
    assert error.value.valid


def test_a_dry_run_as_table_json_figure_and_from_a_recording(leitwerk, tmp_path):
    figure = tmp_path / "run.png"
    table = leitwerk(
        "dry-run", GUARD, "--course", COURSE, "--every", "1 s", "--figure", str(figure)
    )
    assert table.exit_code == 0
    lines = [line.split() for line in table.stdout.splitlines()]
    assert ["00:00:59", "air_top.too_hot", "unacknowledged"] in [line[:3] for line in lines]
    assert "never tripped:" in table.stdout
    assert "door.open" in table.stdout.splitlines()[-1]
    assert figure.read_bytes().startswith(b"\x89PNG")
    shown = json.loads(
        leitwerk("dry-run", GUARD, "--course", COURSE, "--every", "1 s", "--json").stdout
    )
    (air, *_) = shown["channels"]
    too_hot = next(a for a in air["alarms"] if a["alarm"] == "too_hot")["changes"]
    assert [c["state"] for c in too_hot] == ["pending", "unacknowledged", "normal"]

    recording = tmp_path / "recorded.csv"
    rows = ["time [s],air_top [°F],air_top.quality,door,door.quality"]
    rows += [
        f"{k},{185 if k > 3 else 68},{'open sensor' if k == 6 else 'good'},1,good"
        for k in range(20)
    ]
    recording.write_text("\n".join(rows), encoding="utf-8")
    again = leitwerk("dry-run", GUARD, "--recorded", str(recording))
    assert "no reading" in again.stdout  # the one with a bad quality ended the wait
    assert "00:00:12  air_top.too_hot" in again.stdout


def test_an_alarm_is_suppressed_while_its_condition_does_not_hold(leitwerk):
    ajar = leitwerk("dry-run", GUARD, "--course", "door: 0; stay 1 min", "--every", "1 s")
    assert "00:00:00  air_top.fast  suppressed" in ajar.stdout


@pytest.mark.parametrize(
    ("words", "says"),
    [
        ((), "no course is given"),
        (("--course", "attic: 5"), "does not begin with a channel"),
        (("--course", "air_top: 5; hop"), "is not a piece of a course"),
        (("--course", "air_top: 5 V"), "V is a unit of voltage"),
        (("--course", "air_top: 5; stay 90 d", "--every", "1 ms"), "too many for a dry run"),
        (("--recorded", "{nothing}"), "does not hold values over time"),
        (("--recorded", "{nothing}", "--course", "air_top: 5"), "either drawn or recorded"),
    ],
)
def test_a_dry_run_of_nothing_is_refused(leitwerk, tmp_path, words, says):
    nothing = tmp_path / "nothing.csv"
    nothing.write_text("a,b\n1,2\n", encoding="utf-8")
    refused = leitwerk("dry-run", GUARD, *(word.format(nothing=nothing) for word in words))
    assert refused.exit_code == 2
    assert says in refused.output


# ---------------------------------------------------------------------- bands and chatter


@given(
    st.lists(st.floats(-5, 15) | st.just(math.nan), max_size=40), st.sampled_from([0.0, 0.5, 2.0])
)
def test_bands_have_hysteresis_and_live_and_recorded_agree(values, hysteresis):
    inf = math.inf
    parts = (
        BandPart("low", -inf, 0.0, "l"),
        BandPart("mid", 0.0, 5.0, "m"),
        BandPart("high", 8.0, inf, "h"),
    )
    bands = Bands(parts, hysteresis)
    got = bands.at(values).tolist()
    board = AlarmTracker([ChannelAlarm("x", border) for border in bands.borders()], ["x"])
    passed = [0, 0, 0]
    for k, value in enumerate(values):
        board.take(float(k), [value])
        for b, border in enumerate((0.0, 5.0, 8.0)):  # each border by itself, in plain words
            if value > border:
                passed[b] = 1
            elif value <= border - hysteresis:
                passed[b] = 0
        assert board.tripped.astype(int).tolist() == passed
        want = -1 if math.isnan(value) else [0, 1, -1, 2][sum(passed)]
        assert got[k] == want


@pytest.mark.parametrize(("apart", "delay"), [(0.0, 0.0), (0.1, 0.0), (0.1, 2.0), (0.2, 1.0)])
def test_chatter_is_foretold_as_a_simulation_has_it(apart, delay):
    alarm = AlarmDefinition.above("a", apart / 2, -apart / 2, delay_s=delay, clear_delay_s=delay)
    count = 400_000
    noise = np.random.default_rng(7).normal(0.0, 0.1, count)
    seen = alarm_timeline(alarm, np.arange(count) * 1.0, noise).trips * 3600.0 / count
    assert cycles_per_hour(alarm, 0.1, 1.0) == pytest.approx(seen, rel=0.15)


# ---------------------------------------------------------------------- limit sets


WRONG_FORMULAS = (
    "__import__('os')", "cells.real", "[1]", "1 if 1 else 2", "x", "2 == 2", "1 / 0", "log2(-1)", "'a'",
    "True", "min()", "(" * 300, "9e999", "max(1, key=abs)", "lambda: 1", "",
)  # fmt: skip


def test_formulas_know_arithmetic_and_nothing_else():
    assert work_out("2.4 * cells", {"cells": 6.0}) == pytest.approx(14.4)
    assert (
        work_out(
            "criterion + exchange * log2(8 / hours)", {"criterion": 85, "exchange": 3, "hours": 4}
        )
        == 88
    )
    for wrong in WRONG_FORMULAS:
        with pytest.raises(QuantityError):
            work_out(wrong, {"cells": 6.0})


@pytest.mark.parametrize(
    ("name", "given", "trips"),
    [
        ("battery", {"cells": "6", "chemistry": "lead"}, {"flat": "10.8 V", "overcharged": "14.7 V"}),
        ("battery", {"cells": "4", "chemistry": "lifepo4"}, {"flat": "11.2 V", "low": "12.4 V"}),
        ("supply-voltage", {"nominal": "230 V"}, {"under": "207 V", "over": "253 V"}),
        ("supply-voltage", {"nominal": "230 V"}, {"interrupted": "11.5 V"}),
        ("noise-exposure", {"criterion": "85 dB", "exchange": "3 dB", "hours": "2"}, {"limit": "91 dB"}),
        ("noise-exposure", {"criterion": "90", "exchange": "5", "hours": "8"}, {"action": "85 dB"}),
        ("timber-store", {"product": "joinery"}, {"too_dry": "10 %", "too_wet": "15 %"}),
    ],
)  # fmt: skip
def test_shipped_limit_sets_come_to_these_trip_points(name, given, trips):
    alarms = find_limits(name).expand(given)
    assert find_limits(name).source
    for alarm, trip in trips.items():
        assert trip in {alarms[alarm].get("above"), alarms[alarm].get("below")}
    assert set(known_limits()) >= {name}


SET = """\
limits: 1
name: own
summary: My own
source: me
unit: V
parameters: {cells: {span: 1..4}}
alarms:
  low: {below: 2 * cells, clear: 2.1 * cells}
  high: {above: 4 * cells}
order: [low, high]
"""


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("2 * cells,", "2 * sells,", "no channel or constant 'sells'"),
        ("above: 4", "above: 1", "low at 2 must lie below high at 1"),
        ("above:", "abofe:", "is not a key of an alarm"),
        ("order: [low, high]", "order: [low, hihg]", "'hihg' is not an alarm here"),
        ("{span: 1..4}", "{}", "has a span or choices"),
        ("source: me\n", "", "the key 'source' is missing"),
        ("2 * cells,", "__import__('os').system('x'),", "has no place in a formula"),
    ],
)
def test_a_limit_set_with_a_mistake_is_refused(old, new, says):
    assert parse_limits(SET).expand({"cells": "3"})["low"]["below"] == "6 V"
    with pytest.raises(SetupError) as error:
        parse_limits(SET.replace(old, new))
    assert says in str(error.value)


def test_sets_of_ones_own_and_what_a_setup_overrides_are_shown(leitwerk, tmp_path, monkeypatch):
    (tmp_path / "limitsets").mkdir()
    (tmp_path / "limitsets" / "own.yaml").write_text(SET, encoding="utf-8")
    monkeypatch.chdir(tmp_path)
    assert "own               cells" in leitwerk("limits", "list").stdout
    assert "low: {below: 6 V, clear: 6.3 V}" in leitwerk("limits", "show", "own", "cells=3").stdout
    assert leitwerk("limits", "show", "own", "cells=30").exit_code == 2
    station = (EXAMPLES / "station.yaml").read_text("utf-8")
    setup = tmp_path / "station.yaml"
    setup.write_text(
        station.replace("battery, chemistry: lifepo4, cells: 4", "own, cells: 3"),
        "utf-8",
    )
    rows = json.loads(leitwerk("limits", "used", str(setup), "--json").stdout)
    assert [(r["alarm"], r["trips"], r["from"], r["own"]) for r in rows] == [
        ("battery.low", "below 6 V", "own", "after"), ("battery.high", "above 12 V", "own", "")
    ]  # fmt: skip


# ---------------------------------------------------------------------- time, as the command shows it


def test_budget_and_timetable_of_the_guarded_kiln(leitwerk):
    budget = leitwerk("budget", GUARD, "--from", "2026-03-02 06:00", "--poll", "1 s")
    assert budget.exit_code == 0
    assert (
        "what limits it is the memory: 1,440 rows a day; full on 2026-05-10 at 17:40"
        in budget.stdout
    )
    as_json = json.loads(leitwerk("budget", GUARD, "--from", "2026-03-02 06:00", "--json").stdout)
    assert (as_json["fits"], as_json["limiting"], as_json["memory_full"]) == (
        True, "memory", "2026-05-10T17:40+02:00"
    )  # fmt: skip
    table = leitwerk("timetable", GUARD, "--from", "2026-03-01 00:00")
    assert "2026-03-02 06:00 +01:00  to  2026-03-03 18:00 +01:00     drying" in table.stdout
    assert (
        leitwerk("timetable", GUARD, "--from", "2026-03-29 02:30").exit_code == 2
    )  # there is none
    station = json.loads(leitwerk("budget", str(EXAMPLES / "head-water.yaml"), "--json").stdout)
    assert {item["item"] for item in station["items"]} == {"memory", "battery", "reports"}


def test_a_fetched_recording_is_condensed_over_the_hour_that_comes_twice(leitwerk, tmp_path):
    path = tmp_path / "recording.csv"
    rows = ["time,air [°C]"]
    rows += [f"2026-10-25 0{h}:{m:02}:00,{h}" for h in (1, 2, 2, 3) for m in range(0, 60, 10)]
    path.write_text("\n".join(rows), encoding="utf-8")
    words = (
        "condense",
        str(path),
        "--every",
        "1 h",
        "--zone",
        "Europe/Berlin",
        "--statistics",
        "mean,count",
    )
    shown = list(csv.reader(leitwerk(*words).stdout.splitlines()))
    assert [row[0] for row in shown[1:]] == [
        f"2026-10-2{day}T{hour}:00:00Z" for day, hour in ((4, 23), (5, "00"), (5, "01"), (5, "02"))
    ]
    assert [row[2] for row in shown[1:]] == ["6"] * 4
    assert leitwerk(*words[:2], "--every", "7 s").exit_code == 2
    assert leitwerk(*words[:4], "--statistics", "mode").exit_code == 2


def test_acknowledging_and_arming_are_asked_for(leitwerk, tmp_path):
    folder = str(tmp_path)
    assert leitwerk("acknowledge", GUARD, "air_top.too_hot", "--folder", folder).exit_code == 0
    assert leitwerk("acknowledge", GUARD, "air_top.cold", "--folder", folder).exit_code == 2
    (request,) = (tmp_path / "K2-00417" / "requests").glob("*.json")
    assert json.loads(request.read_text())["action"] == "acknowledge"
    mill = str(EXAMPLES / "mill-race.yaml")
    assert "--arm does it" in leitwerk("loop", mill, "wheel").stderr
    assert "--arm does it" in leitwerk("pulse", GUARD, "horn").stderr
    assert "no output 'wheal'" in leitwerk("loop", mill, "wheal").output


@pytest.mark.process
def test_one_command_proves_an_alarm_on_a_stand_in(leitwerk, tmp_path):
    setup = tmp_path / "guard.yaml"
    text = (EXAMPLES / "kiln-guard.yaml").read_text("utf-8")
    setup.write_text(
        text.replace("after: 5 s, severity: high", "after: 1 s, severity: high"), "utf-8"
    )
    proof = leitwerk("prove", str(setup), "air_top.too_hot", "--simulated", "--json")
    found = json.loads(proof.stdout)
    assert (proof.exit_code, found["outcome"]) == (0, "passed"), proof.stdout
    assert {
        "the device's own alarm 1 trips",
        "output fan goes on",
        "a message is sent to foreman (rule hot)",
    } <= {step["step"] for step in found["steps"]}
    assert lw.parse_setup(text).services is not None


@given(
    st.text(max_size=60) | st.from_regex(r"\A(time(_s)?,[a-z]{1,3}\n)?([-0-9:. ,]{0,20}\n){0,4}\Z")
)
def test_whatever_is_fed_in_is_read_or_refused(text):
    readers = (
        parse_course,
        read_series,
        lambda t: read_recorded(t, checked(KILN)),
        parse_limits,
        lambda t: condense(read_series(t, find_zone("UTC")), 3600.0, ["mean"], find_zone("UTC")),
        lambda t: work_out(t, {"x": 1.0}),
    )
    for read in readers:
        with contextlib.suppress(QuantityError, SetupError):
            read(text)
