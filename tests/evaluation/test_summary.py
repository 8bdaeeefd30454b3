"""The summary of a recording, against pandas and against counting by hand."""

import json
import math

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from conftest import checked, kiln_text
from leitwerk.analysis.series import Column, Series
from leitwerk.analysis.summary import (
    PERCENTILES,
    ColumnNumbers,
    Histogram,
    exact_percentiles,
    gaps,
    usual_interval,
    weights,
)
from leitwerk.evaluation.summary import summarise
from leitwerk.parsing.units import parse_unit
from leitwerk.signals.quality import Quality

BEGIN = 1_772_438_400.0
NUMBERS = st.floats(-1e6, 1e6) | st.just(math.nan)


def summarise_column(values, weights_s=None, unit=None):
    gathered = ColumnNumbers(unit)
    gathered.take(values)
    if weights_s is not None:
        gathered.take_weighted(values, weights_s)
    x = values[~np.isnan(values)]
    return gathered.numbers(
        exact_percentiles(x, PERCENTILES, x.min(), x.max()) if x.size else (math.nan,) * 5
    )


@given(arrays(float, st.integers(1, 300), elements=NUMBERS))
def test_numbers_are_those_of_pandas(values):
    found = summarise_column(values)
    frame = pd.Series(values)
    assert (found.count, found.missing) == (frame.count(), frame.isna().sum())
    wanted = [
        frame.mean(),
        frame.std(),
        frame.min(),
        frame.max(),
        *frame.quantile([p / 100 for p in PERCENTILES]),
    ]
    got = [found.mean, found.deviation, found.minimum, found.maximum, *found.percentiles]
    np.testing.assert_allclose(got, wanted, rtol=1e-9, atol=1e-6)


@pytest.mark.parametrize("kind", ["normal", "steps", "constant", "one outlier", "tiny span"])
def test_percentiles_of_many_values_are_exact(kind):
    rng = np.random.default_rng(3)
    x = {
        "normal": rng.normal(20, 5, 100_000), "steps": np.round(rng.normal(20, 5, 100_000)),
        "constant": np.full(50_000, 21.5), "one outlier": np.append(rng.random(50_000), 1e12),
        "tiny span": 1.0 + rng.random(50_000) * 1e-15,
    }[kind]  # fmt: skip
    np.testing.assert_allclose(
        summarise_column(x).percentiles, np.percentile(x, PERCENTILES), rtol=1e-14
    )


@given(
    st.lists(
        arrays(float, st.integers(1, 40), elements=st.floats(-1e9, 1e9)), min_size=1, max_size=5
    )
)
def test_percentiles_of_pieces_do_not_depend_on_the_pieces(pieces):
    every = np.concatenate(pieces)
    one, many, back = Histogram(256), Histogram(256), Histogram(256)
    one.take(every, every.min(), every.max())
    for piece in pieces:
        many.take(piece, piece.min(), piece.max())
    for piece in pieces[::-1]:
        back.take(piece, piece.min(), piece.max())
    found = one.percentiles(PERCENTILES)
    assert found == many.percentiles(PERCENTILES) == back.percentiles(PERCENTILES)
    # Each lies within a bin of the value of its rank: at most 1/127 of the span, as it begins at a multiple.
    ranked = np.sort(every)[np.floor((every.size - 1) * np.array(PERCENTILES) / 100).astype(int)]
    assert np.all(
        np.abs(np.array(found) - ranked) <= np.ptp(every) / 127 + abs(every).max() * 1e-14 + 5e-324
    )


def test_mean_kinetic_temperature_and_totals():
    # By the formula of USP <1079.2>, with ΔH/R = 10 000 K: half the time at 20 °C, half at 30 °C.
    halves = np.array([20.0, 30.0])
    found = summarise_column(halves, np.array([3600.0, 3600.0]), parse_unit("°C"))
    k = 83.144e3 / 8.314462618
    by_hand = k / -math.log((math.exp(-k / 293.15) + math.exp(-k / 303.15)) / 2) - 273.15
    assert found.mean_kinetic == pytest.approx(by_hand, abs=1e-4)
    assert 25.0 < found.mean_kinetic < 27.0
    assert math.isnan(found.total)
    flow = summarise_column(np.array([100.0, 300.0]), np.array([1800.0, 1800.0]), parse_unit("l/s"))
    assert (flow.total, flow.total_unit) == (pytest.approx(720.0), "m³")
    power = summarise_column(np.array([2.0, 4.0]), np.array([1800.0, 1800.0]), parse_unit("kW"))
    assert (power.total, power.total_unit) == (pytest.approx(3.0), "kWh")


def test_gaps_and_how_long_each_row_stands():
    times = BEGIN + np.array([0, 10, 20, 50, 60, 1060, 1070], float)
    assert usual_interval(times) == 10.0
    assert [(g.begin_s - BEGIN, g.end_s - BEGIN) for g in gaps(times, 10.0)] == [
        (20, 50),
        (60, 1060),
    ]
    assert weights(times, 10.0).tolist() == [10, 10, 10, 10, 10, 10, 10]
    assert weights(np.array([5.0]), math.nan).tolist() == [0.0]


def kiln_run():
    """Ten minutes with an open sensor, 50 s too hot, and once too hot for less than the delay."""
    times = BEGIN + 10.0 * np.arange(60)
    air = np.full(60, 70.0)
    air[10:15] = [79, 80, 81, 80, 76]
    air[20:22] = 79.0
    values = np.column_stack([air, np.full(60, 20.0)])
    codes = np.zeros(values.shape, np.uint8)
    codes[30:33, 0] = Quality.OPEN_SENSOR
    return Series((Column("air_top", "°C"), Column("humidity", "%")), times, values, codes)


def test_times_in_alarm():
    channels = checked(kiln_text()).channels
    summary = summarise(kiln_run(), channels)
    hot = summary.channels[0].alarms[0]
    (span,) = hot.spans
    # Beyond 78 °C from row 10, tripped after 30 s at row 13, clear at 75 °C at row 15.
    assert (span.begin_s - BEGIN, span.end_s - BEGIN, span.worst) == (130.0, 150.0, 80.0)
    assert hot.beyond_s == 60.0
    dry = summary.channels[1].alarms[0]
    assert (len(dry.spans), dry.in_alarm_s, dry.beyond_s) == (1, 470.0, 600.0)
    text = str(summary)
    assert "air_top.too_hot (above 78 °C): 1 time in alarm, 20 s in all" in text
    assert "\nair_top   °C      57        3" in text
    data = json.loads(json.dumps(summary.to_dict(), allow_nan=False))
    assert data["channels"]["air_top"]["missing"] == 3
    assert data["channels"]["air_top"]["alarms"]["air_top.too_hot"]["spans"][0]["worst"] == 80.0


def test_the_worst_value_is_that_of_all_times_in_alarm():
    """Also where it lies in a shorter time than the longest; a gap of an hour stands between them."""
    times = BEGIN + 10.0 * np.arange(60) + 3600.0 * (np.arange(60) >= 40)
    air = np.full(60, 70.0)
    air[5:30], air[45:50] = 79.0, 83.5
    run = Series((Column("air_top", "°C"),), times, air[:, None], np.zeros((60, 1), np.uint8))
    lines = str(summarise(run, checked(kiln_text()).channels[:1])).splitlines()
    assert lines[1] == "gaps: 1, 1 h without rows"
    # Rows 8 to 30 and, an hour later, 48 to 50: 220 s and 20 s.
    assert (
        "2 times in alarm, 4 min in all; longest from 2026-03-02T08:01:20Z, 3 min 40 s;"
        in lines[-1]
    )
    assert lines[-1].endswith("; worst 83.5 °C at 2026-03-02T09:08:00Z")


@given(st.lists(st.integers(1, 25), max_size=9), st.integers(0, 9))
def test_piece_by_piece_is_the_same(lengths, seed):
    """Cut where it may be: numbers, gaps, times in alarm and in bands are those of the whole."""
    rng, text = np.random.default_rng(seed), kiln_text()
    text = text.replace(
        "too_hot: {above: 78 °C, clear: 75 °C, after: 30 s, severity: high}",
        (
            "too_hot: {above: 78 °C, clear: 75 °C, after: 30 s}\n      fast: {rises: 3 K, within: 1 min}\n"
            "      apart: {differs_from: air_bottom, by: 4 K}"
        ),
    )
    text = text.replace("expect: 55 ± 3 %", "bands: {dry: {to: 40 %}, usual: {to: 60 %}, wet: {}}")
    channels = checked(text).require().channels
    times = BEGIN + 10.0 * np.arange(60)
    times[rng.integers(1, 60) :] += 300.0
    values = np.cumsum(rng.normal(0, 2, (60, 3)), axis=0) + np.array([76.0, 74.0, 50.0])
    codes = np.where(rng.random((60, 3)) < 0.05, Quality.OPEN_SENSOR, 0).astype(np.uint8)
    names = (Column("air_top", "°C"), Column("air_bottom", "°C"), Column("humidity", "%"))
    whole = Series(names, times, values, codes)
    ends = np.minimum(np.cumsum([60 if not lengths else lengths[0], *lengths[1:], 60]), 60).tolist()
    cuts = [slice(a, b) for a, b in zip([0, *ends], ends, strict=False) if b > a]
    pieces = [Series(names, times[c], values[c], codes[c]) for c in cuts]
    one, many = (
        s.to_dict() for s in (summarise(whole, channels), summarise(iter(pieces), channels))
    )
    span = np.nanmax(np.abs(values)) * 2
    for name in one["channels"]:
        mine, theirs = one["channels"][name], many["channels"][name]
        assert mine.pop("alarms") == theirs.pop("alarms")
        assert mine.pop("not_judged") == theirs.pop("not_judged") == []
        assert mine.pop("states") == theirs.pop("states")
        percentiles = zip(
            mine.pop("percentiles").values(), theirs.pop("percentiles").values(), strict=True
        )
        assert all(abs(a - b) < span / 20 for a, b in percentiles)
        assert mine.pop("in_bands_s") == pytest.approx(theirs.pop("in_bands_s"))
        assert mine == pytest.approx(theirs, nan_ok=True)
    for summary in (one, many):
        del summary["channels"]
    assert one == many


@pytest.mark.process
def test_the_command(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "run.csv").write_text(kiln_run().csv(), "utf-8")
    (tmp_path / "kiln.yaml").write_text(kiln_text(), "utf-8")
    shown = leitwerk("summary", "run.csv", "--setup", "kiln.yaml").stdout
    assert "60 rows, every 10 s" in shown
    assert "air_top   °C      57        3" in shown
    assert "mean kinetic temperature" in shown
    part = leitwerk(
        "summary", "run.csv", "--channel", "humidity", "--until", "2026-03-02 08:01"
    ).stdout
    assert "7 rows" in part
    assert "air_top" not in part
    assert leitwerk("summary", "K2-1").exit_code == 2
    assert leitwerk("recordings").exit_code == 1
