"""Tables that a device stores: rows of a setup or of a file, checked one by one, stored and read back."""

import zipfile

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import EXAMPLES, MemoryLink, SteppedTime, checked
from leitwerk.check.records import rows_in
from leitwerk.derived.carriers import carrier_of, intermediate, why_missed
from leitwerk.project.rows_file import read_rows, write_rows
from leitwerk.standins.carriers import LevelMeter
from leitwerk.standins.profile import find_profile

LINK = (EXAMPLES / "telemetry.yaml").read_text("utf-8")
OSCILLATORS = {"low": 9750.0, "high": 10600.0}
RECEIVER = (950.0, 2150.0)
WRONG_BAND = (
    "row 1, 10738 MHz: with the high oscillator this gives 138 MHz, outside 950..2150 MHz; "
    "with the low one 988 MHz, inside: the tone is probably wrong"
)


@pytest.mark.parametrize(
    ("old", "new", "rule", "says"),
    [
        ('10738 MHz, tone: "off"', '10738 MHz, tone: "on"', "carrier-missed", WRONG_BAND),
        ("11229.5 MHz", "11.2295 MHz", "carrier-missed", "11229.5 MHz would fit: the unit is probably wrong"),
        ("12500 MHz", "16500 MHz", "carrier-missed", "and so does every other oscillator"),
        ("10738 MHz,", "10.738 kg,", "bad-value", "row 1, frequency"),
        ("name: RIDGE, ", "", "missing-key", "row 2: the column 'name' is missing"),
        ("name: RIDGE", "nmae: RIDGE", "unknown-column", "did you mean 'name'"),
        ("name: RIDGE", 'use: "on", name: RIDGE', "unknown-column", "no column 'use'"),
        ("name: RIDGE", "name: RIDGE-OF-THE-VALLEY", "bad-value", "row 2, name"),
        ('tone: "off"}\n      - {name: R', "tone: loud}\n      - {name: R", "bad-value", "row 1, tone"),
        ("  carrier:\n    rows", "  carriers:\n    rows", "unknown-records", "stores no table 'carriers'"),
    ],
)  # fmt: skip
def test_each_row_is_checked(old, new, rule, says):
    assert old in LINK
    found = [f for f in checked(LINK.replace(old, new, 1)).findings if f.rule == rule]
    assert found
    assert says in "\n".join(map(str, found))


def test_more_rows_than_the_device_has():
    row = '      - {name: A, frequency: 10738 MHz, tone: "off"}\n'
    text = LINK.replace("    rows:\n", "    rows:\n" + 47 * row)
    found = {f.rule: str(f) for f in checked(text).findings}
    assert "erle has 50 rows, here are 51" in found["too-many-rows"]


@pytest.fixture
def meter():
    sheet = lw.find_datasheet("erle")
    return lw.Device(sheet, MemoryLink(LevelMeter(sheet, find_profile("erle"), SteppedTime())))


def upload(text, meter, tmp_path):
    options = lw.UploadOptions(tmp_path / "kept", {"operator": "5150"})
    return lw.upload(checked(text), meter, options)


def test_it_measures_what_its_rows_say_and_unused_rows_are_cleared(meter, tmp_path):
    clock = SteppedTime().clock
    upload(LINK, meter, tmp_path)
    report = lw.verify(checked(LINK), meter, duration_s=1, period_s=0.2, clock=clock)
    assert report.outcome == "passed", str(report)
    columns, rows = rows_in("carrier", meter.datasheet, meter.read_settings())
    assert (columns, len(rows)) == (["name", "frequency", "tone"], 4)
    assert rows[2] == ["DAM", "11954 MHz", "on"]
    shorter = LINK.replace('      - {name: SPARE, frequency: 12500 MHz, tone: "on"}\n', "")
    left = shorter.replace("  carrier:\n", "  carrier:\n    unused: left\n")
    assert upload(left, meter, tmp_path).changes == ()
    assert [c.setting for c in upload(shorter, meter, tmp_path).changes] == ["carrier.4.use"]
    assert len(rows_in("carrier", meter.datasheet, meter.read_settings())[1]) == 3


def test_a_wrong_band_is_no_carrier_and_no_level(meter, tmp_path):
    """Written past the check, as by another program: the device itself finds nothing there."""
    upload(LINK, meter, tmp_path)
    meter.link.logger.holding[99 + 8] = 1  # the tone of row 1
    report = lw.verify(checked(LINK), meter, duration_s=1, period_s=0.5, clock=SteppedTime().clock)
    hill = next(c for c in report.channels if c.name == "hill")
    assert (str(hill.verdict), hill.count - hill.good) == ("no reading", hill.count)


@pytest.mark.parametrize("name", ["carriers.csv", "carriers.xlsx"])
def test_rows_are_kept_in_files(meter, tmp_path, name, monkeypatch, leitwerk):
    monkeypatch.chdir(tmp_path)
    upload(LINK, meter, tmp_path)
    columns, rows = rows_in("carrier", meter.datasheet, meter.read_settings())
    write_rows(tmp_path / name, columns, rows)
    assert read_rows(tmp_path / name) == [dict(zip(columns, row, strict=True)) for row in rows]
    first = LINK.index("    rows:")
    text = LINK[:first] + f"    file: {name}\n\n" + LINK[LINK.index("channels:") :]
    (tmp_path / "link.yaml").write_text(text, "utf-8")
    assert lw.read_setup(tmp_path / "link.yaml").settings == checked(LINK).settings
    rows[0][2] = "on"
    write_rows(tmp_path / name, columns, rows)
    shown = leitwerk("check", "link.yaml")
    assert shown.exit_code == 1
    assert "row 1, 10738 MHz: with the high oscillator this gives 138 MHz" in shown.output


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("a.csv", b"", "holds no table"),
        ("a.csv", b"name,name\nx,y\n", "two have the same"),
        ("a.csv", b"name,\nx,y\n", "not as many columns"),
        ("a.csv", b"name\nx,y\n", "2, not 1"),
        ("a.csv", b"\xff\xfe\x00", "not CSV in UTF-8"),
        ("a.csv", b"a\n" * 50_002, "at most 50,000"),
        ("a.csv", b"x" * 5_000_001, "is not CSV"),
        ("a.xlsx", b"not a spreadsheet", "is not a spreadsheet"),
        ("b.csv", None, "cannot read"),
    ],
)
def test_files_that_hold_no_rows(tmp_path, name, content, says):
    if content is not None:
        (tmp_path / name).write_bytes(content)
    with pytest.raises(lw.FileProblem) as caught:
        read_rows(tmp_path / name)
    assert says in str(caught.value)


def test_a_small_file_that_unpacks_to_very_much(tmp_path):
    path = tmp_path / "a.xlsx"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as parts:
        parts.writestr("xl/sharedStrings.xml", b"0" * 60_000_000)
    assert path.stat().st_size < 100_000
    with pytest.raises(lw.FileProblem, match="is not a spreadsheet"):
        read_rows(path)


def test_a_file_with_semicolons_and_a_mark_at_its_beginning(tmp_path):
    path = tmp_path / "a.csv"
    path.write_bytes("\ufeffname;frequency\nHILL;10738 MHz\n;\nDAM;\n".encode())
    assert read_rows(path) == [{"name": "HILL", "frequency": "10738 MHz"}, {"name": "DAM"}]


# ---------------------------------------------------------------------- carriers


@given(st.floats(100, 40_000), st.floats(100, 2500), st.booleans())
def test_a_carrier_and_back(oscillator, frequency, above):
    carrier = carrier_of(frequency, oscillator, oscillator_is_above=above)
    assert intermediate(carrier, oscillator) == pytest.approx(frequency, rel=1e-9)


@pytest.mark.parametrize(
    ("carrier", "chosen", "says"),
    [
        (10738.0, "high", "138 MHz"), (10738.0, "low", ""), (10700.0, "low", ""), (11900.0, "low", ""),
        (10699.9, "low", "949.9 MHz"), (10600.0, "high", "0 MHz"),
        (11900.1, "low", "with the high one 1300.1 MHz"),
        (0.0, "low", "every other"),
    ],
)  # fmt: skip
def test_why_a_carrier_is_missed(carrier, chosen, says):
    why = why_missed(carrier, OSCILLATORS, chosen, RECEIVER)
    assert (says in why) if says else (why == "")
    assert np.isclose(
        intermediate(carrier, OSCILLATORS[chosen]), abs(carrier - OSCILLATORS[chosen])
    )
