"""Rows of other programs in, rows out, and corrections as versions; what is odd is named by its line."""

import csv
import io
import json
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np
import openpyxl
import pytest
from recordings_rows import BEGIN, KILN, rows

import leitwerk as lw
from conftest import checked, kiln_text
from leitwerk.analysis.series import Column, read_series
from leitwerk.parsing.quantities import parse_quantity
from leitwerk.project.kept_json import KeptIdentity
from leitwerk.recordings import foreign
from leitwerk.recordings.about import About, clock_words
from leitwerk.recordings.corrections import Corrections
from leitwerk.recordings.foreign import ForeignForm, parse_column, read_foreign
from leitwerk.recordings.store import Store
from leitwerk.signals.quality import Quality

VIENNA = ZoneInfo("Europe/Vienna")
GERMAN = ForeignForm(
    "Zeit", dict([parse_column("Temp 1 = air_top [°C]"), parse_column("Feuchte")]), VIENNA,
    "%d.%m.%Y %H:%M:%S", ",", ";", 2,
)  # fmt: skip
TEXT = """Ausgabe des Programms;;
Zeit;Temp 1;Feuchte
02.03.2026 06:00:00;21,5;55
02.03.2026 06:01:00;-;54,5
"""


def both_ways(path, form):
    """By Arrow at once, and line by line: the same."""
    whole = read_foreign(path, form)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(foreign, "_at_once", lambda *_: None)
        slow = read_foreign(path, form)
    np.testing.assert_array_equal(whole.times_s, slow.times_s)
    np.testing.assert_array_equal(whole.values, slow.values)
    assert whole.columns == slow.columns
    return whole


def test_a_table_of_another_program(tmp_path):
    path = tmp_path / "a.csv"
    path.write_text(TEXT, "utf-8")
    series = both_ways(path, GERMAN)
    assert series.columns == (Column("air_top", "°C"), Column("Feuchte"))
    assert series.times_s[0] == datetime(2026, 3, 2, 6, tzinfo=VIENNA).timestamp()
    np.testing.assert_array_equal(series.values, [[21.5, 55.0], [np.nan, 54.5]])
    path.write_bytes(TEXT.replace("Ausgabe", "Überblick").encode("cp1252"))
    assert read_foreign(path, GERMAN).times_s.size == 2


def test_the_hour_that_comes_twice(tmp_path):
    path = tmp_path / "a.csv"
    lines = [
        f"25.10.2026 {h:02}:{m:02}:00;1;2"
        for h, m in [(1, 30), (2, 0), (2, 30), (2, 0), (2, 30), (3, 0)]
    ]
    path.write_text("x\nZeit;Temp 1;Feuchte\n" + "\n".join(lines) + "\n", "utf-8")
    assert np.diff(both_ways(path, GERMAN).times_s).tolist() == [1800.0] * 5


@pytest.mark.parametrize(
    ("was", "now", "says"),
    [
        ("21,5", "21.5", "line 3: '21.5' is not a number"),
        ("21,5", "1.021,5", "line 3: '1.021,5' is not a number"),
        ("06:01", "6h01", "line 4: '02.03.2026 6h01:00' is not a time"),
        ("Temp 1;", "Temp 2;", "no column 'Temp 1' in line 2"),
        ("Feuchte\n", "Temp 1\n", "two columns 'Temp 1'"),
        (";54,5", "", "line 4 has 2 cells"),
        ("02.03", "99.03", "is not a time"),
    ],
)
def test_what_is_odd_is_named_by_its_line(tmp_path, was, now, says):
    path = tmp_path / "a.csv"
    path.write_text(TEXT.replace(was, now), "utf-8")
    with pytest.raises(lw.QuantityError) as caught:
        read_foreign(path, GERMAN)
    assert says in str(caught.value)
    path.write_text("x\nZeit;Temp 1;Feuchte\n", "utf-8")
    with pytest.raises(lw.QuantityError, match="no rows"):
        read_foreign(path, GERMAN)
    with pytest.raises(lw.UnitError):
        parse_column("a = b [parsecs]")


@pytest.mark.process
def test_in_and_out_by_command(tmp_path, leitwerk, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "a.csv").write_text(TEXT, "utf-8")
    words = ("import-rows", "a.csv", "--device", "X-1", "--time", "Zeit", "--column",
             "Temp 1 = air_top [°C]", "--zone", "Europe/Vienna", "--time-form", "%d.%m.%Y %H:%M:%S",
             "--decimal", ",", "--separator", ";",
             "--heading-line", "2")  # fmt: skip
    assert "2 rows of 1 channels taken" in leitwerk(*words).stdout
    assert "0 rows of 1 channels taken, 2 were there already" in leitwerk(*words).stdout
    for name in ("o.csv", "o.parquet", "o.xlsx"):
        assert leitwerk("export-rows", "X-1", "--to", name).exit_code == 0
    assert read_series((tmp_path / "o.csv").read_text("utf-8")).values[0, 0] == 21.5
    sheet = openpyxl.load_workbook(tmp_path / "o.xlsx").active
    five = datetime.fromisoformat("2026-03-02T05:00:00")  # in UTC: a cell has no zone
    assert [cell.value for cell in sheet[2]] == [five, 21.5, "good"]
    assert [cell.value for cell in sheet[3]] == [five + timedelta(minutes=1), None, "no number"]
    assert (
        "2 rows of 1 channels taken"
        in leitwerk("import-rows", "o.parquet", "--device", "Y-2").stdout
    )
    sheet.parent.save(tmp_path / "p.xlsx")
    again = (
        "import-rows",
        "p.xlsx",
        "--device",
        "Z",
        "--time",
        "time",
        "--column",
        "air_top [°C] = t [°C]",
    )
    assert leitwerk(*again).exit_code == 0
    assert leitwerk("export-rows", "X-1", "--to", "o.doc").exit_code == 2
    assert leitwerk("import-rows", "a.csv", "--device", "X", "--column", "a").exit_code == 2
    made = leitwerk("correct-rows", "X-1", "--reason", "probe 0.2 K low", "--add", "air_top=0.2 K")
    assert "version 2 of X-1: probe 0.2 K low" in made.stdout
    assert "version 2" in leitwerk("recordings").stdout
    rows_now = csv.reader(io.StringIO(leitwerk("summary", "X-1").stdout))
    assert any("21.7" in cell for row in rows_now for cell in row)
    assert leitwerk("correct-rows", "X-1", "--reason", "x").exit_code == 2
    assert leitwerk("correct-rows", "X-1", "--reason", "x", "--setup", "kiln.yaml").exit_code == 2


# ---------------------------------------------------------------------- corrections


def corrected(store, correction, **more):
    device = "K2-00417"
    change = correction.prepared(store.parts(device, more.get("made_from")))
    store.make_version(device, change, reason="because", by="Ida", **more)
    return store.read(device), store.parts(device)[0].about


def test_the_deviation_of_a_clock_is_spread_over_the_run(tmp_path):
    store = Store(tmp_path)
    store.append(rows(np.arange(0, 86400 * 40, 3600)), KILN)  # two months: one run in two files
    series, about = corrected(store, Corrections(ahead_s=90.0))
    plain = store.read("K2-00417", version=1)
    off = plain.times_s - series.times_s
    assert (off[0], round(off[-1], 6)) == (0.0, 90.0)
    np.testing.assert_allclose(
        np.diff(off), np.full(off.size - 1, 90.0 / (off.size - 1)), atol=2e-3
    )
    assert about.notes == ["because"]
    with pytest.raises(lw.QuantityError, match="no clock was off"):
        Corrections(ahead_s=None).prepared(store.parts("K2-00417"))
    other = Store(tmp_path / "noted")
    other.append(rows([0, 3600]), KILN.model_copy(update={"clock_off_s": 10.0}))
    found, _ = corrected(other, Corrections(ahead_s=None))
    assert np.diff(found.times_s).tolist() == [3590.0]


def test_what_is_added_and_taken_off(tmp_path):
    store = Store(tmp_path)
    columns = (Column("level", "kPa"), Column("air", "hPa"))
    series = rows([0, 60], columns=columns)
    series.values[:] = [[105.0, 1000.0], [110.0, 1010.0]]
    store.append(series, KILN)
    found, _ = corrected(
        store, Corrections(less={"level": "air"}, added={"air": parse_quantity("1 kPa")})
    )
    np.testing.assert_allclose(found.values, [[4.0, 1010.0], [8.0, 1020.0]])
    with pytest.raises(lw.QuantityError, match="no channel 'depth'"):
        Corrections(less={"depth": "air"}).prepared(store.parts("K2-00417"))


CALIBRATED = """    calibration: {date: 2026-03-02, due: 2027-03-02, reference: R-1,
                  found: {20 °C: 20.5 °C, 80 °C: 80.5 °C}, correct: offset}
"""


def test_a_later_calibration_is_worked_from_what_the_device_stored(tmp_path):
    setup = checked(
        kiln_text().replace("    label: Air above the stack\n", f"    label: Air\n{CALIBRATED}")
    )
    store = Store(tmp_path)
    store.append(rows([0, 60]), KILN)
    found, about = corrected(store, Corrections(setup=setup), made_from=1)
    plain = store.read("K2-00417", version=1)
    np.testing.assert_allclose(found.values[:, 0], plain.values[:, 0] + 0.5)
    np.testing.assert_allclose(found.values[:, 1], plain.values[:, 1])
    assert about.columns["air_top"].calibration.startswith("offset, 2026-03-02")
    # A second one begins from what the device stored, too, not from what was corrected.
    found, _ = corrected(store, Corrections(setup=setup), made_from=1)
    np.testing.assert_allclose(found.values[:, 0], plain.values[:, 0] + 0.5)
    watched = About(device=KeptIdentity(maker="m", model="x", serial="S", firmware="1"), run="w")
    store.append(rows([0]), watched)
    with pytest.raises(lw.QuantityError, match="what the device stored of air_top is not among"):
        store.make_version(
            "S", Corrections(setup=setup).prepared(store.parts("S")), reason="", by="", made_from=1
        )
    assert BEGIN > 0


@pytest.mark.parametrize("sign", [".", ","])  # by Arrow, and line by line
@pytest.mark.parametrize(
    ("time", "form"),
    [
        ("31.02.2026 10:00:00", "%d.%m.%Y %H:%M:%S"),
        ("31.04.2026 10:00:00", "%d.%m.%Y %H:%M:%S"),
        ("01.04.2026 10:00:60", "%d.%m.%Y %H:%M:%S"),
        ("2026-02-30T10:00:00", ""),
        ("2026-02-03T24:30:00", ""),
    ],
)
def test_days_that_do_not_exist_are_refused_at_their_cell(tmp_path, time, form, sign):
    good = "01.02.2026 10:00:00" if form else "2026-02-01T10:00:00"
    path = tmp_path / "a.csv"
    path.write_text(f"t;x\n{good};1{sign}5\n{time};2{sign}5\n", "utf-8")
    with pytest.raises(lw.QuantityError, match="line 3") as refused:
        read_foreign(
            path,
            ForeignForm("t", {"x": Column("x", "")}, time_form=form, decimal=sign, separator=";"),
        )
    assert "is not a time" in refused.value.message


def test_weeks_are_weeks_and_a_date_has_its_year(tmp_path):
    path = tmp_path / "a.csv"
    path.write_text("t,x\n2026-W10-1,1\n2026-W10-2,2\n", "utf-8")
    found = read_foreign(path, ForeignForm("t", {"x": Column("x", "")}, time_form="%G-W%V-%u"))
    assert [datetime.fromtimestamp(t, UTC).date().isoformat() for t in found.times_s.tolist()] == [
        "2026-03-02", "2026-03-03",
    ]  # fmt: skip
    with pytest.raises(lw.QuantityError, match="has no year"):
        ForeignForm("t", {}, time_form="%d.%m. %H:%M")


def test_a_clock_that_was_off_travels_with_the_rows(tmp_path):
    store = Store(tmp_path)
    store.append(rows(range(5)), KILN.model_copy(update={"clock_off_s": -3600.0}))
    (part,) = store.parts("K2-00417")
    assert clock_words(part.about.clock_off_s) == (
        "1 h slow when the rows were fetched; their times are as stamped"
    )
    assert clock_words(1.0) == clock_words(None) == ""
    change = Corrections(ahead_s=None, all_along=True).prepared(store.parts("K2-00417"))
    store.make_version("K2-00417", change, reason="clock", by="Ida")
    found = store.read("K2-00417")
    assert found.times_s == pytest.approx(rows(range(5)).times_s + 3600.0)
    assert [part.about.clock_off_s for part in store.parts("K2-00417")] == [None]
    kept = store.read("K2-00417", version=1)
    assert kept.times_s == pytest.approx(rows(range(5)).times_s)
    assert [part.about.clock_off_s for part in store.parts("K2-00417", 1)] == [-3600.0]


@pytest.mark.process
def test_what_was_no_value_is_none_in_the_recording_and_the_clock_is_said(
    leitwerk, tmp_path, monkeypatch
):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "1834")
    with lw.start_standin("fichte-8", "--open", "3", "--clock-ahead", "-3600") as one:
        (tmp_path / "kiln.yaml").write_text(
            kiln_text(one.address).replace("every 10 s", "every 1 s"), "utf-8"
        )
        assert leitwerk("upload", "kiln.yaml").exit_code == 0
        live = json.loads(
            leitwerk("live", "kiln.yaml", "--for", "1 s", "--every", "0.5 s", "--json").stdout
        )
        started = leitwerk("record", "kiln.yaml", "start")
        assert "warning: its clock shows" in started.stderr
        assert "60 minutes slow" in started.stderr
        with lw.connect(lw.read_setup("kiln.yaml")) as device:
            while lw.list_recordings(device)[-1].rows < 3:
                pass
        assert leitwerk("record", "kiln.yaml", "stop").exit_code == 0
        fetched = leitwerk("fetch", "kiln.yaml", "--store", "rows")
        assert "warning: the clock of the device was" in fetched.stdout
        summary = leitwerk("summary", "K2-00417", "--store", "rows", "--setup", "kiln.yaml").stdout
        assert "remark: the clock of the device was" in summary
    core = next(c for c in live["channels"] if c["name"] == "timber_core")
    assert core["quality"] == "open sensor"
    series = Store("rows").read("K2-00417")
    column = [c.name for c in series.columns].index("timber_core")
    assert set(series.qualities[:, column].tolist()) == {Quality.OPEN_SENSOR}
    air = [c.name for c in series.columns].index("air_top")
    assert set(series.qualities[:, air].tolist()) == {Quality.GOOD}
