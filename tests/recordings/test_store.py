"""The store: no row twice, none lost, versions beside each other, and what is found in it."""

import contextlib
import json
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow.dataset as ds
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from recordings_rows import BEGIN, KILN, rows

import leitwerk as lw
from conftest import EXAMPLES, checked
from leitwerk.analysis.series import Column, Series
from leitwerk.check.channels import DerivedChannel
from leitwerk.evaluation.judged import survey
from leitwerk.evaluation.summary import summarise
from leitwerk.recordings import store as store_module
from leitwerk.recordings.about import About
from leitwerk.recordings.condense import condense
from leitwerk.recordings.fetch import with_derived
from leitwerk.recordings.parallel import Divided
from leitwerk.recordings.store import Store
from leitwerk.signals.quality import Quality


def test_what_is_appended_is_read_back(tmp_path):
    store, series = Store(tmp_path / "s"), rows(np.arange(0, 4 * 86400, 600))
    series.values[5, 0], series.qualities[5, 0] = np.nan, Quality.OPEN_SENSOR
    series.qualities[6, 1] = Quality.OVER_LIMIT
    appended = store.append(series, KILN)
    assert (appended.rows, appended.known, len(appended.files)) == (576, 0, 2)  # February and March
    held = store.read("K2-00417")
    assert held.columns == series.columns
    np.testing.assert_array_equal(held.times_s, series.times_s)
    np.testing.assert_array_equal(held.values, series.values)
    np.testing.assert_array_equal(held.qualities, series.qualities)
    frame = store.to_dataframe("k2 00417", ["humidity"], begin_s=BEGIN + 600, end_s=BEGIN + 1800)
    assert frame.index[0] == pd.Timestamp("2026-02-27 00:10", tz="UTC")
    assert (len(frame), frame.attrs["units"]) == (3, {"humidity": "%"})
    # Other tools read it as it is, with the names of the folders as columns.
    plain = ds.dataset(tmp_path / "s", partitioning="hive", exclude_invalid_files=True).to_table()
    assert (plain.num_rows, {*plain["month"].to_pylist()}) == (576, {"2026-02", "2026-03"})
    assert store.dataset("K2-00417").count_rows() == 576


@settings(max_examples=25, deadline=None)
@given(
    st.lists(st.lists(st.integers(0, 60), min_size=1, max_size=40), min_size=1, max_size=5),
    st.integers(1, 50),
)
def test_no_row_twice_and_none_lost(tmp_path_factory, appends, piece):
    """However rows are cut, mixed and repeated: the store holds each once, in the order of time."""
    store = Store(tmp_path_factory.mktemp("s"))
    for minutes in appends:
        store.append(rows(np.array(minutes) * 3600.0), KILN)
    every = sorted({m for minutes in appends for m in minutes})
    expected = rows(np.array(every) * 3600.0)
    for held in (store.read("K2-00417"), joined(store.chunks("K2-00417", rows=piece))):
        np.testing.assert_array_equal(held.times_s, expected.times_s)
        np.testing.assert_array_equal(held.values, expected.values)


def joined(pieces):
    every = list(pieces)
    return Series(
        every[0].columns, np.concatenate([p.times_s for p in every]),
        np.concatenate([p.values for p in every]), np.concatenate([p.qualities for p in every]),
    )  # fmt: skip


def test_a_row_that_differs_is_refused_and_nothing_is_changed(tmp_path):
    store = Store(tmp_path)
    store.append(rows([0, 60]), KILN)
    wrong = rows([60, 120])
    wrong.values[0, 1] = 7.0
    before = sorted(tmp_path.rglob("*.parquet"))
    with pytest.raises(
        lw.QuantityError, match=r"two rows of 2026-02-27T00:01:00Z differ: humidity is 7"
    ):
        store.append(wrong, KILN)
    assert sorted(tmp_path.rglob("*.parquet")) == before
    # Another run of the device may have other rows at the same time.
    assert store.append(wrong, KILN.model_copy(update={"run": "second"})).rows == 2
    assert [h.run for h in store.holdings()] == ["first", "second"]
    assert store.read("K2-00417").times_s.size == 4
    # What only a later run has keeps its unit.
    later = rows([86400], columns=[Column("level", "m")])
    store.append(later, KILN.model_copy(update={"run": "third"}))
    assert Column("level", "m") in store.read("K2-00417").columns
    assert [p.columns for p in store.chunks("K2-00417", ["level"])][-1] == (Column("level", "m"),)
    with pytest.raises(lw.QuantityError, match="a row has no time"):
        store.append(rows([np.nan]), KILN)
    with pytest.raises(lw.QuantityError, match="no date"):
        store.append(Series(rows([0]).columns, np.zeros(1), np.zeros((1, 2)), dated=False), KILN)
    with pytest.raises(lw.FileProblem, match="of which device"):
        store.append(rows([0]), About())


def test_units_are_those_that_a_column_has_already(tmp_path):
    store = Store(tmp_path)
    store.append(rows([0]), KILN)
    kelvin = Series((Column("air_top", "K"),), np.array([BEGIN + 60]), np.array([[300.0]]))
    store.append(kelvin, KILN)
    held = store.read("K2-00417")
    assert held.columns == (Column("air_top", "°C"), Column("humidity", "%"))
    assert held.values[1, 0] == pytest.approx(26.85)
    assert held.qualities[1].tolist() == [Quality.GOOD, Quality.UNKNOWN]
    volts = Series((Column("air_top", "V"),), np.array([BEGIN + 120]), np.array([[3.0]]))
    with pytest.raises(lw.QuantityError, match="air_top is kept in °C, and is in V here"):
        store.append(volts, KILN)


def test_what_is_found(tmp_path):
    store = Store(tmp_path / "none")
    assert (store.holdings(), store.parts()) == ([], [])
    with pytest.raises(lw.FileProblem, match="has no rows of K2"):
        store.read("K2")
    store = Store(tmp_path)
    store.append(rows(np.arange(0, 3600, 60)), KILN)
    store.append(rows([0], columns=[Column("level", "m")]), KILN.model_copy(update={
        "device": KILN.device.model_copy(update={"serial": "LF-00052"})}))  # fmt: skip
    assert [h.device for h in store.holdings(channel="level")] == ["LF-00052"]
    assert store.holdings(begin_s=BEGIN + 3600) == []
    assert str(store.holdings(device="K2-00417")[0]) == (
        "K2-00417  2026-02-27T00:00:00Z to 2026-02-27T00:59:00Z  60 rows of 2 channels"
    )
    with pytest.raises(lw.FileProblem, match="has no channel 'air'"):
        store.read("K2-00417", ["air"])
    with pytest.raises(lw.FileProblem, match="no rows in this time"):
        store.read("K2-00417", begin_s=0.0, end_s=9.0)


def test_a_version_stands_beside_the_other(tmp_path):
    store = Store(tmp_path)
    store.append(rows([0, 60]), KILN)

    def warmer(series, about):
        return Series(series.columns, series.times_s, series.values + 1.0, series.qualities), about

    made = store.make_version("K2-00417", warmer, reason="1 K too cold", by="Ida")
    assert (made.version, made.made_from) == (2, 1)
    np.testing.assert_allclose(
        store.read("K2-00417").values, store.read("K2-00417", version=1).values + 1.0
    )
    assert [v.reason for v in store.versions("K2-00417")] == ["1 K too cold"]
    assert [h.version for h in store.holdings()] == [1, 2]

    def fails(*_):
        raise lw.FileProblem("no")

    with pytest.raises(lw.FileProblem, match="no"):
        store.make_version("K2-00417", fails, reason="", by="")
    assert sorted(p.name for p in (tmp_path / "device=K2-00417").iterdir()) == [
        "version=1",
        "version=2",
    ]


def test_killed_at_any_write_the_store_is_whole(tmp_path, monkeypatch):
    """Rows of three months, and a program that is killed at each file: what follows makes it complete."""
    series, write = rows(np.arange(0, 70 * 86400, 3600)), store_module.write_table
    for killed_at in range(3):
        store, count = Store(tmp_path / str(killed_at)), iter(range(9))

        def dies(table, path, count=count, killed_at=killed_at):
            if next(count) == killed_at:
                path.with_name(f".{path.name}.new").write_bytes(b"half")
                raise KeyboardInterrupt
            write(table, path)

        monkeypatch.setattr(store_module, "write_table", dies)
        with pytest.raises(KeyboardInterrupt):
            store.append(series, KILN)
        monkeypatch.setattr(store_module, "write_table", write)
        done = store.append(series, KILN)
        assert done.rows + done.known == 1680
        np.testing.assert_array_equal(store.read("K2-00417").times_s, series.times_s)


def test_files_that_were_cut_or_are_others(tmp_path):
    store = Store(tmp_path)
    (path,) = store.append(rows(np.arange(0, 600, 60)), KILN).files
    whole = path.read_bytes()
    for size in range(0, len(whole), max(1, len(whole) // 60)):
        path.write_bytes(whole[:size])
        with pytest.raises(lw.FileProblem, match=r"cannot read|holds no values"):
            store.read("K2-00417")
    path.write_bytes(whole)
    (tmp_path / "catalogue.sqlite").write_bytes(b"no base" * 300)
    assert store.read("K2-00417").times_s.size == 10
    table = pd.DataFrame({"a": [1.0]})
    table.to_parquet(path.with_name("other.parquet"))
    with pytest.raises(lw.FileProblem, match="holds no values over time"):
        store.read("K2-00417")
    path.with_name("other.parquet").unlink()
    made = tmp_path / "device=K2-00417" / "version=2"
    made.mkdir()
    (made / "version.json").write_text(json.dumps({"version": 2}), "utf-8")
    with pytest.raises(lw.FileProblem, match="the reason of a version"):
        store.versions("K2-00417")


def test_a_summary_with_the_memory_of_a_piece(tmp_path):
    """Derived channels remember from piece to piece: a moving mean, a total."""
    text = (EXAMPLES / "kiln-air.yaml").read_text("utf-8")
    setup = checked(text)
    store = Store(tmp_path)
    names = [c.name for c in setup.channels if not isinstance(c, DerivedChannel)]
    columns = tuple(Column(name, setup.channel(name).symbol) for name in names)
    series = rows(np.arange(0, 7200, 10), columns=columns)
    series.values[:] = 20.0 + 5.0 * series.values
    store.append(series, KILN)
    whole = summarise(with_derived(series, setup.channels), setup.channels).to_dict()
    pieces = store.summarise("K2-00417", None, setup, rows=100).to_dict()
    for name, one in whole["channels"].items():
        many = pieces["channels"][name]
        assert (one["good"], one["missing"], one["alarms"]) == (
            many["good"],
            many["missing"],
            many["alarms"],
        )
        assert (one["mean"], one["last"]) == pytest.approx(
            (many["mean"], many["last"]), nan_ok=True
        )


ASKED = """
papers:
  shares:
    air: {channels: [air_top, dew_point], within: 40..70 °C, each: 10 min, at_least: 95 %}
    other: {channels: [humidity], within: 40..70 %, each: 1 h, value: root mean square, at_least: 5 %}
  totals: {channels: [air_top, dew_point], each: day}
"""


@pytest.mark.process
def test_dask_on_two_processes_gives_the_same(tmp_path):
    text = (EXAMPLES / "kiln-air.yaml").read_text("utf-8")
    (tmp_path / "kiln.yaml").write_text(text + ASKED, "utf-8")
    setup = lw.read_setup(tmp_path / "kiln.yaml")
    store = Store(tmp_path / "s")
    names = [c.name for c in setup.channels if not isinstance(c, DerivedChannel)]
    columns = tuple(Column(name, setup.channel(name).symbol) for name in names)
    series = rows(np.arange(0, 86400 * 5, 60), columns=columns)
    series.values[:] = 60.0 + 20.0 * series.values
    store.append(series, KILN)
    local = store.summarise("K2-00417", None, setup, rows=1000)
    processes = {"scheduler": "processes", "num_workers": 2}
    divided = Divided(store, "K2-00417", setup, rows=1000, compute=processes)
    spread = divided.summarise()
    assert json.dumps(local.to_dict()) == json.dumps(spread.to_dict())
    assert "dew_point.wet: not judged here" in str(local)
    # What the setup judges, and condensed values: the same, also as from all rows at once.
    summary, judged = divided.survey()
    whole = with_derived(store.read("K2-00417"), setup.channels)
    asked = setup.setup
    _, at_once = survey(whole, asked.papers, setup.channels, asked.zone)
    for one in (store.survey("K2-00417", setup, rows=1000)[1], at_once):
        assert one.to_dict() == json_like(judged.to_dict())
    assert json.dumps(summary.to_dict()) == json.dumps(local.to_dict())
    assert len(judged.shares[0].channels) == 2
    assert len(judged.totals.channels) == 2
    condensed = divided.condense(3600.0, ["mean", "maximum", "count"], setup.setup.zone)
    expected = condense(whole, 3600.0, ["mean", "maximum", "count"], setup.setup.zone)
    assert condensed.columns == expected.columns
    np.testing.assert_array_equal(condensed.times_s, expected.times_s)
    np.testing.assert_allclose(condensed.values, expected.values, rtol=1e-12)


def json_like(value):
    """Numbers to nine digits: pieces are added in another order."""
    if isinstance(value, dict):
        return {key: json_like(one) for key, one in value.items()}
    if isinstance(value, list):
        return [json_like(one) for one in value]
    return pytest.approx(value, rel=1e-9) if isinstance(value, float) else value


def test_many_small_files_become_one_and_no_row_is_twice(tmp_path, monkeypatch):
    store, kills = Store(tmp_path), iter([True])
    monkeypatch.setattr("leitwerk.recordings.store._SMALL_FILES", 6)
    unlink = Path.unlink

    def dies(path, **more):
        unlink(path, **more)
        if path.suffix == ".parquet" and next(kills, False):
            raise SystemExit  # the files are joined, and one of those that were is gone

    monkeypatch.setattr(Path, "unlink", dies)
    for k in range(20):
        with contextlib.suppress(SystemExit):
            store.append(rows([k]), KILN)
        np.testing.assert_array_equal(store.read("K2-00417").values, rows(range(k + 1)).values)
    assert len(list(tmp_path.rglob("*.parquet"))) < 10
    assert store.run_rows("K2-00417", KILN.run) == 20
    plain = ds.dataset(tmp_path, partitioning="hive", exclude_invalid_files=True).to_table()
    assert plain.num_rows == 20
