"""Setups to tables and back: nothing is lost, mistakes stand at their cells, formulas stay texts."""

import io
import random
import shutil
from pathlib import Path

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import EXAMPLES
from leitwerk.errors import FileProblem, SetupError
from leitwerk.findings import Findings
from leitwerk.parsing.cells import guarded, plain_data, unguarded
from leitwerk.parsing.yaml_edit import entry_lines
from leitwerk.parsing.yaml_text import parse_yaml
from leitwerk.project.setup_tables import TableOptions, import_tables, part_rows, read_entries
from leitwerk.project.sheets import read_sheets, write_sheets
from leitwerk.setup.tables import PARTS
from leitwerk.transfer.batch import read_batch

HERE = Path(__file__).parent
HEAD = """\
leitwerk: 1
title: Boards of the drying yard     # as the planner calls it
device:
  model: weir-2000
  at: modbus+tcp://127.0.0.1:5099?unit=1
  serial: W-1
sample: every 1 min
"""
words = st.text("aB é,;'\"=+-@.#%°±:{[", min_size=1, max_size=10).map(str.strip).filter(bool)
names = st.from_regex(r"[a-z][a-z_0-9]{0,8}", fullmatch=True)
pairs = st.dictionaries(words, words, min_size=1, max_size=3)
alarm = st.fixed_dictionaries(
    {}, optional={"above": st.just("78 °C") | words, "after": words, "severity": st.just("high")}
).filter(bool)
channel = st.fixed_dictionaries(
    {"terminal": words},
    optional={
        "label": words, "scale": pairs | words,
        "expect": words, "calibration": st.fixed_dictionaries({"date": words, "found": pairs}),
        "tare": st.lists(st.dictionaries(names, words, min_size=1), min_size=1, max_size=2),
        "alarms": st.dictionaries(names, alarm, min_size=1, max_size=2),
    },
)  # fmt: skip
parts = st.fixed_dictionaries(
    {"channels": st.dictionaries(names, channel, min_size=1, max_size=4)},
    optional={
        "contacts": st.dictionaries(
            names, st.fixed_dictionaries({"mail": words}), min_size=1, max_size=2
        )
    },
)


@given(parts, st.sampled_from([".xlsx", ".csv"]))
def test_a_setup_that_becomes_a_table_and_comes_back_loses_nothing(
    tmp_path_factory, content, ending
):
    """Whatever its texts are: a check would find much wrong with these."""
    file = tmp_path_factory.getbasetemp() / f"table{ending}"
    text = (
        HEAD + "\n".join(line for k, v in content.items() for line in entry_lines(k, v, 0)) + "\n"
    )
    root = parse_yaml(text, Findings("x"))
    tables = {name: part_rows(part, root) for name, part in PARTS.items()}
    used = {name: rows for name, rows in tables.items() if len(rows) > 1}
    for one in [used] if ending == ".xlsx" else [{name: rows} for name, rows in used.items()]:
        write_sheets(file, one)
        for entries in read_entries(file):
            assert entries.findings == ()
            assert plain_data(entries.rows) == plain_data(dict(entries.part.entries(root)))


@pytest.mark.parametrize("ending", [".xlsx", ".csv"])
@pytest.mark.parametrize("file", sorted(EXAMPLES.glob("*.yaml")), ids=lambda f: f.stem)
def test_a_round_trip_that_changes_nothing_leaves_the_file_as_it_was(
    tmp_path, file, ending, leitwerk
):
    setup, before = tmp_path / file.name, file.read_text("utf-8")
    setup.write_text(before, "utf-8")
    table = tmp_path / f"plan{ending}"
    if not [
        part for part in PARTS.values() if list(part.entries(parse_yaml(before, Findings("x"))))
    ]:
        return
    written = leitwerk("to-table", str(setup), str(table))
    assert written.exit_code == 0, written.output
    done = import_tables(table, setup)
    assert (done.text, done.lines) == (before, ())
    # Emptied, and filled from the table again, it says the same.
    complete = import_tables(table, setup, TableOptions(complete=True))
    assert complete.text == before


def planner(folder, rows, head=None):
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.title = "channels"
    sheet.append(head or ["name", "label", "terminal", "sensor", "signal", "range", "scale", "unit", "expect",
                          "time constant (s)"])  # fmt: skip
    for row in rows:
        sheet.append([None if cell == "" else cell for cell in row])
    book.save(folder / "plan.xlsx")
    return folder / "plan.xlsx"


def yard(count):
    rows = []
    for i in range(1, count + 1):
        kinds = [
            ["", "4..20 mA", "0..24 mA", "{4 mA: 0 %, 20 mA: 100 %}", "%", "40 ± 2 %", 130],
            ["", "0..1 V", "±1 V", "{0 V: 0 bar, 1 V: 5 bar}", "bar", "1.5 ± 0.5 bar", 130.5],
            ["Pt100, 4-wire", "", "0..400 Ω", "", "°C", "22 ± 2 °C", 140],
        ]
        rows.append([f"dry_{i:04}", f"Board {i}", i, *kinds[i % 3]])
    return rows


@pytest.fixture
def yard_folder(tmp_path, monkeypatch):
    """A folder with a setup that has no channels yet."""
    monkeypatch.chdir(tmp_path)
    text = HEAD.replace("weir-2000", "fichte-8") + "channels: {}\n"
    (tmp_path / "yard.yaml").write_text(text, "utf-8")
    return tmp_path


def test_two_thousand_channels_with_forty_planted_mistakes(yard_folder):
    (yard_folder / "datasheets").mkdir()
    shutil.copy(HERE / "weir-2000.yaml", yard_folder / "datasheets" / "weir-2000.yaml")
    Path("yard.yaml").write_text(HEAD + "channels: {}\n", "utf-8")
    rows, rng, planted = yard(2000), random.Random(11), {}
    mistakes = [
        (3, lambda r: "Pt10, 4-wire", 2), (2, lambda r: 2500 + r, None), (5, lambda r: "0..20 V", 1),
        (5, lambda r: "±1 V", 0), (7, lambda r: "°X", None), (8, lambda r: "40 +-", 0),
        (8, lambda r: "40 ± 2 bar", 0), (6, lambda r: "{4 mA: 0 %, 20 mA 100 %}", 0),
        (0, lambda r: f"{r} boards", None), (9, lambda r: "fast", None),
    ]  # fmt: skip
    for column, wrong, kind in mistakes * 4:
        free = [
            i for i in range(2000) if i not in planted and (kind is None or (i + 1) % 3 == kind)
        ]
        number = rng.choice(free)
        rows[number][column] = wrong(number)
        planted[number] = column
    assert len(planted) == 40
    done = import_tables(planner(yard_folder, rows), "yard.yaml")
    errors = [finding for finding in done.findings if finding.is_error]
    letters = "ABCDEFGHIJ"
    cells = {finding.cell for finding in errors}
    assert {f"channels!{letters[column]}{row + 2}" for row, column in planted.items()} <= cells
    assert {finding.line for finding in errors} == {row + 2 for row in planted}
    assert len(errors) < 60  # a unit that is not known has effects in other cells of its row
    good = import_tables(planner(yard_folder, yard(2000)), "yard.yaml")
    assert good.ok
    assert len(good.lines) == 2000
    Path("yard.yaml").write_text(good.text, "utf-8")
    assert good.text.startswith(HEAD)
    setup = lw.read_setup("yard.yaml").setup
    assert str(setup.channels["dry_0001"].time_constant) == "130.5 s"


@pytest.mark.usefixtures("yard_folder")
def test_units_in_headings_own_names_of_columns_and_a_decimal_comma(leitwerk):
    head = "Messstelle;Bemerkung;Klemme;sensor;expect [°C];range\n"
    row = "air;oben;1;Pt100, 4-wire;21,5 ± 0,5;0..400 Ω\n"
    Path("liste.csv").write_text("sep=;\n" + head + row, "utf-8")
    refused = leitwerk("from-table", "liste.csv", "yard.yaml")
    assert (refused.exit_code, "no sheet has the columns" in refused.stderr) == (2, True)
    given_names = ["--column", "Messstelle=name", "--column", "KLEMME=terminal"]
    half = leitwerk("from-table", "liste.csv", "yard.yaml", *given_names)
    assert half.exit_code == 1
    assert "liste.csv:2:2: error: there is no column 'Bemerkung'" in half.output
    done = leitwerk("from-table", "liste.csv", "yard.yaml", "--column", "Bemerkung=-", "--write")
    assert done.exit_code == 0, done.output
    assert "decimals are marked by a comma" in done.stderr
    assert "columns are divided by semicolons" in done.stderr
    channel = lw.read_setup("yard.yaml").setup.channels["air"]
    assert (str(channel.expect), channel.terminal) == ("21.5 ± 0.5 °C", "1")
    assert 'Bemerkung: "-"' in Path("columns.yaml").read_text("utf-8")
    assert "nothing to do" in leitwerk("from-table", "liste.csv", "yard.yaml").stderr


@pytest.mark.parametrize(
    ("cell", "decimal", "says"),
    [
        ("21,5 ± 0.5 °C", None, "does not have a decimal"),
        ("1.234,5 ± 1 °C", "point", "does not have a decimal point"),
        ("21.5 ± 0.5 °C", "comma", "does not have a decimal comma"),
        ("{a: 1", None, "cannot be read"),
        ("=1+1", None, "holds a formula"),
        ("#DIV/0!", None, "holds an error"),
    ],
)
def test_a_cell_that_cannot_be_read_is_named(yard_folder, cell, decimal, says):
    plan = planner(yard_folder, [["air", "", 1, "Pt100, 4-wire", "", "", "", "", cell, ""]])
    if cell == "#DIV/0!":
        book = openpyxl.load_workbook(plan)
        book.active["I2"].data_type = "e"
        book.save(plan)
    found = [
        f for f in import_tables(plan, "yard.yaml", TableOptions(decimal)).findings if f.is_error
    ]
    assert [(f.cell, says in f.message) for f in found][:1] == [("channels!I2", True)], found


def test_what_shows_as_percent_is_read_as_percent(yard_folder):
    head = [
        "name",
        "label",
        "terminal",
        "sensor",
        "signal",
        "range",
        "scale",
        "unit",
        "band_hysteresis",
    ]
    row = ["air", "", 1, "", "4..20 mA", "", "{4 mA: 0 %, 20 mA: 100 %}", "%", ""]
    plan = planner(yard_folder, [row], head)
    book = openpyxl.load_workbook(plan)
    book.active["I2"] = 0.025
    book.active["I2"].number_format = "0.0%"
    book.save(plan)
    assert "band_hysteresis: 2.5 %" in import_tables(plan, "yard.yaml").text


@given(st.text("=+-@'\t7 %a|!()", max_size=8))
def test_no_cell_of_csv_begins_a_formula_and_none_is_changed(text):
    cell = guarded(text)
    assert unguarded(cell) == text
    assert cell[:1] not in {"=", "@", "\t"}
    assert not (cell[:1] in {"+", "-"} and any(c in cell for c in "=|!()"))


def test_what_is_written_holds_no_formula(tmp_path):
    write_sheets(tmp_path / "a.xlsx", {"channels": [["name", "label"], ["a", "=cmd()"]]})
    sheet = openpyxl.load_workbook(tmp_path / "a.xlsx").active
    assert (sheet["B2"].data_type, sheet["B2"].value) == ("s", "=cmd()")
    assert read_sheets(tmp_path / "a.xlsx")[0].rows[0][1] == ["a", "=cmd()"]
    write_sheets(tmp_path / "a.csv", {"channels": [["name", "label"], ["a", "=cmd()"]]})
    assert "'=cmd()" in (tmp_path / "a.csv").read_text("utf-8")
    assert read_sheets(tmp_path / "a.csv")[0].rows[0][1] == ["a", "=cmd()"]
    with pytest.raises(FileProblem, match="CSV holds one table"):
        write_sheets(tmp_path / "b.csv", {"a": [[]], "b": [[]]})


def test_a_list_that_is_complete_removes_what_it_does_not_have(tmp_path):
    setup = tmp_path / "kiln.yaml"
    setup.write_text((EXAMPLES / "kiln.yaml").read_text("utf-8"), "utf-8")
    (tmp_path / "a.csv").write_text("channel,name,above,clear\nair_top,too_hot,81 °C,\n", "utf-8")
    done = import_tables(tmp_path / "a.csv", setup, TableOptions(complete=True))
    assert set(done.lines) == {
        "air_top.too_hot.above: 78 °C → 81 °C", "air_top.too_hot.clear: 75 °C → removed",
        "humidity.too_dry: removed, the table does not have it",
    }  # fmt: skip
    assert "too_hot: {above: 81 °C, after: 30 s, severity: high}" in done.text
    assert "# before the kiln is heated" in done.text


def test_setups_that_cannot_be_read_and_files_that_are_none(tmp_path):
    (tmp_path / "a.csv").write_text("name,terminal\na,1\n", "utf-8")
    (tmp_path / "bad.yaml").write_text("a: [", "utf-8")
    with pytest.raises(SetupError):
        import_tables(tmp_path / "a.csv", tmp_path / "bad.yaml")
    packed = io.BytesIO(b"PK\x03\x04 no")
    (tmp_path / "a.xlsx").write_bytes(packed.getvalue())
    with pytest.raises(FileProblem, match="not a spreadsheet"):
        read_sheets(tmp_path / "a.xlsx")


def test_tables_that_a_device_stores_and_a_batch(tmp_path, leitwerk, monkeypatch):
    monkeypatch.chdir(tmp_path)
    text = (EXAMPLES / "telemetry.yaml").read_text("utf-8")
    Path("link.yaml").write_text(text, "utf-8")
    assert leitwerk("to-table", "link.yaml", "a.xlsx").exit_code == 0
    names = openpyxl.load_workbook("a.xlsx").sheetnames
    assert "records.carrier" in names, names
    assert import_tables("a.xlsx", "link.yaml").text == text
    book = openpyxl.load_workbook("a.xlsx")
    sheet = book["records.carrier"]
    columns = [cell.value for cell in sheet[1]]
    row = [cell.value for cell in sheet[2]]
    sheet.append(
        [
            f"{value} B" if name == "name" else value
            for name, value in zip(columns, row, strict=True)
        ]
    )
    book.save("a.xlsx")
    done = import_tables("a.xlsx", "link.yaml")
    assert done.lines[0].startswith("records.carrier: ")
    assert done.ok, done.findings
    assert leitwerk("to-table", "link.yaml", "c.csv", "--of", "records.carrier").exit_code == 0
    assert (
        "nothing to do"
        in leitwerk("from-table", "c.csv", "link.yaml", "--of", "records.carrier").stderr
    )
    Path("kiln.yaml").write_text((EXAMPLES / "kiln.yaml").read_text("utf-8"), "utf-8")
    for file in ("units.xlsx", "units.csv"):
        assert leitwerk("to-table", "kiln.yaml", file, "--of", "batch").exit_code == 0
        assert "1 devices" in leitwerk("batch", "kiln.yaml", file, "--plan").stderr
    Path("b.csv").write_text(
        "serial;at;channels.stack.expect [kg];channels.stack.label\n1;kiln;2310,5 ± 25;Stack 1,5\n2;old;;\n",
        "utf-8",
    )
    planned = leitwerk("batch", "kiln.yaml", "b.csv", "--plan")
    assert "b.csv: decimals are marked by a comma" in planned.stderr, planned.stderr
    stack = read_batch("kiln.yaml", "b.csv")[0].setup.setup.channels["stack"]
    assert (str(stack.expect), stack.label) == ("2310.5 ± 25 kg", "Stack 1,5")
    assert (
        "channels, alarms, contacts"
        in leitwerk("to-table", "kiln.yaml", "x.csv", "--of", "rules").stderr
    )
