"""Boards that are programmed by a file: image, Intel HEX, C header, and back."""

import shutil
import subprocess

import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import EXAMPLES, checked, example
from leitwerk.protocols.board_image import (
    build_program,
    from_c,
    from_hex,
    parse_program,
    to_c,
    to_hex,
)

SHEET = lw.find_datasheet("buche-6")
SETTINGS = checked((EXAMPLES / "panel.yaml").read_text("utf-8")).settings
WHOLE = lw.DeviceSettings("buche-6", {**SETTINGS.values, "bus.unit": 11.0})
MADE = build_program(WHOLE, SHEET)


def test_the_bytes_are_laid_out_as_told():
    assert MADE[:24] == b"LWP1" + b"buche-6".ljust(16, b"\0") + bytes([0, 2, 0, 40])
    assert MADE[24:33] == b"SAW-PANEL"
    assert MADE[24 + 2 * 9 : 24 + 2 * 11] == bytes([0, 40, 0, 80])
    assert len(MADE) == 24 + 2 * 40 + 4


def test_both_forms_come_back_whole():
    assert from_hex(to_hex(MADE, SHEET)) == MADE
    assert to_hex(MADE, SHEET).splitlines()[0].startswith(":10400000")
    assert from_c(to_c(MADE, SHEET, "Saw, operator panel")) == MADE
    found = parse_program(MADE, SHEET).values
    assert {name: found[name] for name in WHOLE.values} == WHOLE.values


@pytest.mark.process
@pytest.mark.skipif(shutil.which("cc") is None, reason="no C compiler here")
def test_the_header_compiles(tmp_path):
    (tmp_path / "setup.h").write_text(to_c(MADE, SHEET, "evil */ int x; /* title"), "utf-8")
    (tmp_path / "a.c").write_text(
        '#include "setup.h"\nint main(void){return setup_buche_6[0]!=76;}\n'
    )
    build = ["cc", "-Wall", "-Werror", "-o", str(tmp_path / "a"), str(tmp_path / "a.c")]
    subprocess.run(build, check=True, capture_output=True)
    subprocess.run([str(tmp_path / "a")], check=True)


@pytest.mark.parametrize(
    ("spoil", "says"),
    [
        (lambda p: p[:-1], "was it cut off"),
        (lambda p: p[:30] + bytes([p[30] ^ 1]) + p[31:], "the CRC of the program is wrong"),
        (lambda p: b"XXXX" + p[4:], "this is not a program of Leitwerk"),
        (lambda p: b"", "this is not a program of Leitwerk"),
    ],
)
def test_damaged_programs_are_refused(spoil, says):
    with pytest.raises(lw.QuantityError) as caught:
        parse_program(spoil(MADE), SHEET)
    assert says in str(caught.value)


def test_programs_for_others_are_refused():
    with pytest.raises(lw.QuantityError, match="is not programmed by a file"):
        build_program(WHOLE, lw.find_datasheet("linde"))
    text = (EXAMPLES.parent / "datasheets" / "buche-6.yaml").read_text("utf-8")
    other = lw.parse_datasheet(text.replace("model: buche-6", "model: buche-8"))
    with pytest.raises(lw.QuantityError, match="for 'buche-6', not for 'buche-8'"):
        parse_program(MADE, other)
    newer = lw.parse_datasheet(text.replace("version: 2", "version: 3"))
    with pytest.raises(lw.QuantityError, match="has version 2 and 40 registers"):
        parse_program(MADE, newer)
    with pytest.raises(lw.SetupError, match="the image has 30"):
        lw.parse_datasheet(text.replace("registers: 40", "registers: 30"))
    with pytest.raises(lw.QuantityError, match=r"no value is given for bus\.unit"):
        build_program(SETTINGS, SHEET)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (to_hex(MADE, SHEET).replace(":10400000", ":10400001"), "not a complete Intel HEX"),
        (to_hex(MADE, SHEET) + to_hex(MADE, SHEET), "not a complete Intel HEX"),
        (":00000001FF\n", "holds 0 blocks"),
        (
            "".join(to_hex(MADE, SHEET).splitlines(keepends=True)[2:]).replace(":1040", ":1040"),
            None,
        ),
        ("", "not a complete Intel HEX"),
        (to_hex(MADE, SHEET).replace(":00000001FF", ""), "not a complete Intel HEX"),
    ],
)
def test_hex_files_that_are_not_whole(text, says):
    with pytest.raises(lw.QuantityError) as caught:
        parse_program(from_hex(text), SHEET)
    assert says is None or says in str(caught.value)


@given(text=st.text(max_size=300) | st.from_regex(r"\A(:[0-9A-F]{10,40}\n){1,4}\Z"))
def test_any_text_is_a_file_of_bytes_or_an_error(text):
    for read in (from_hex, from_c):
        try:
            data = read(text)
        except lw.QuantityError:
            continue
        assert isinstance(data, bytes)


@pytest.mark.process
def test_a_board_starts_with_what_was_burnt_into_it(leitwerk, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "panel.yaml").write_text((EXAMPLES / "panel.yaml").read_text("utf-8"), "utf-8")
    assert leitwerk("program", "panel.yaml", "panel.hex").exit_code == 0
    assert leitwerk("program", "panel.yaml", "panel.hex").exit_code == 2
    assert leitwerk("program", "panel.yaml", "panel.h").exit_code == 0
    for name in ("panel.hex", "panel.h"):
        assert leitwerk("program", name, f"{name}.yaml").exit_code == 0
        assert "button.1.hold: 300 ms" in (tmp_path / f"{name}.yaml").read_text("utf-8")
    assert "cannot be turned into" in leitwerk("program", "panel.hex", "panel.txt").stderr
    with lw.start_standin("buche-6", "--program", "panel.hex") as one:
        setup = tmp_path / "there.yaml"
        setup.write_text(example("panel", one.address), encoding="utf-8")
        assert leitwerk("upload", str(setup), "--plan").exit_code == 0
        assert leitwerk("compare", "panel.hex", str(one.address)).exit_code == 0
        assert leitwerk("compare", "panel.h", str(setup)).exit_code == 0
        assert leitwerk("live", str(setup), "--for", "0.3 s").exit_code == 0
