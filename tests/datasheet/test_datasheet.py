from calendar import timegm
from importlib import resources

import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.datasheet.read import parse_datasheet
from leitwerk.datasheet.register_points import RegisterPoint
from leitwerk.datasheet.vocabulary import ALARM_TRIP
from leitwerk.errors import QuantityError, SetupError

TEXT = (resources.files("leitwerk") / "datasheets" / "fichte-8.yaml").read_text("utf-8")


def point(kind, words, **more):
    return RegisterPoint("p", "holding", 0, words, kind, **more)


@pytest.mark.parametrize(
    ("where", "value", "words", "stored"),
    [
        (point("u16", 1), 65535, (0xFFFF,), 65535),
        (point("i16", 1, step=0.1), -0.26, (0xFFFD,), -0.3),
        (point("i16", 1, step=0.1), 78.3, (783,), 78.3),
        (point("u32", 2, step=0.1), 6553.6, (1, 0), 6553.6),
        (point("i32", 2, step=0.001), -0.001, (0xFFFF, 0xFFFF), -0.001),
        (point("f32", 2), 22.9, (0x41B7, 0x3333), 22.9),
        (point("f32", 2), 16777217, (0x4B80, 0), 16777216),
        (point("text", 2), "ab", (0x6162, 0), "ab"),
        (point("text", 1, characters="latin-1"), "°C", (0xB043,), "°C"),
        (point("u16", 1, choices=(("off", 0), ("on", 7))), "on", (7,), "on"),
        (point("u64", 4), 2**40, (0, 0x100, 0, 0), 2**40),
        (point("i64", 4), -1, (0xFFFF,) * 4, -1),
        (point("f64", 4), 0.1, (0x3FB9, 0x9999, 0x9999, 0x999A), 0.1),
        (point("f32", 2, low_word_first=True), 22.9, (0x3333, 0x41B7), 22.9),
        (point("f32", 2, bytes_swapped=True), 22.9, (0xB741, 0x3333), 22.9),
        (point("u32", 2, low_word_first=True, bytes_swapped=True), 0x1020304, (0x403, 0x201), 16909060),
        (point("i16", 1, step=0.1, offset=-40.0), 21.5, (615,), 21.5),
        (point("bcd", 2), 1234567.0, (0x0123, 0x4567), 1234567),
        (point("u16", 1, bits=(4, 7)), 9, (0x90,), 9),
        (point("u16", 1, bits=(3, 3), choices=(("no", 0), ("yes", 1))), "yes", (8,), "yes"),
        (point("bcd date-time", 3), "2026-03-02 08:40:15", (0x2603, 0x0208, 0x4015),
         "2026-03-02 08:40:15"),
        (point("unix time", 2), "2026-03-02 08:40:15", divmod(timegm((2026, 3, 2, 8, 40, 15)), 65536),
         "2026-03-02 08:40:15"),
        (point("text", 2, bytes_swapped=True), "abcd", (0x6261, 0x6463), "abcd"),
    ],
)  # fmt: skip
def test_values_are_stored_as_the_device_stores_them(where, value, words, stored):
    assert where.encode(value) == words
    assert where.decode(words) == stored


@pytest.mark.parametrize(
    ("where", "value", "message"),
    [
        (point("u16", 1), -1, "outside"),
        (point("i16", 1, step=0.1), 3276.8, "outside"),
        (point("i16", 1), float("nan"), "outside"),
        (point("f32", 2), 1e39, "outside"),
        (point("u16", 1), "x", "not a number"),
        (point("text", 2), "Ωhm is long", "does not have 'Ω' and the text has 11"),
        (point("u16", 1, choices=(("off", 0),)), "on", "knows no 'on'"),
        (point("u16", 1, bits=(4, 7)), 16, "outside"),
        (point("bcd", 1), 10_000, "outside"),
        (point("u16", 1, limits=(5, 9)), 4, "outside"),
        (point("bcd date-time", 3), "1999-01-01 00:00:00", "outside"),
        (point("bcd date-time", 3), "yesterday", "is not a time"),
    ],
)
def test_what_cannot_be_stored_is_refused(where, value, message):
    with pytest.raises(QuantityError, match=message) as caught:
        where.storable(value)
    assert caught.value.valid


@given(st.sampled_from(["u16", "i16", "u32", "i32"]), st.floats(-1e5, 1e5))
def test_storing_twice_changes_nothing(kind, value):
    where = point(kind, 2 if "32" in kind else 1, step=0.01)
    low, high = where.span()
    if low <= value <= high:
        stored = where.storable(value)
        assert abs(stored - value) <= 0.005 + 1e-9
        assert where.storable(stored) == stored


@given(st.text(st.sampled_from("Kiln 2°\0\t"), max_size=12))
def test_a_text_is_stored_as_it_reads_back(text):
    where = point("text", 4)  # 8 characters of ASCII
    try:
        words = where.encode(text)
    except QuantityError:
        assert len(text) > 8 or set(text) & set("°\0\t")
    else:
        assert where.decode(words) == where.storable(text) == text.rstrip()


@pytest.mark.parametrize(
    ("where", "words", "shown"),
    [
        (point("i16", 1, special=((-32768, "not a sensor"),)), (0x8000,), "not a sensor"),
        (point("bcd", 1), (0x1A00,), "code 1A00"),
        (point("bcd date-time", 3), (0x2613, 0x0208, 0x4015), "code 2613 0208 4015"),
        (point("u16", 1, choices=(("off", 0),)), (17,), "code 17"),
        (RegisterPoint("c", "coil", 0, 1, "u16"), (1,), 1.0),
    ],
)
def test_what_a_device_sends_is_shown_for_what_it_is(where, words, shown):
    assert where.decode(words) == shown


def test_hostile_text_loses_its_control_characters():
    assert point("text", 2).decode((0x1B5B, 0x3000)) == "�[0"


def test_a_repeated_block_is_written_once(sheet):
    trip = sheet.point(ALARM_TRIP, 12)
    assert (trip.name, trip.start, trip.step) == ("alarm.12.trip", 712, 0.1)
    with pytest.raises(KeyError):
        sheet.point(ALARM_TRIP, 13)
    assert sheet.terminals["D2"].slot == 10


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("type: text 32", "type: txt 32", "'txt 32' is not a type"),
        ("holding 16,", "holdin 16,", "'holdin 16' is not a place"),
        ("40 n, type: text 8", "40 k, type: text 8", "do not name the same index"),
        ("60 + 40 n", "60 + 40000 n", "ends at register"),
        ("channel.{n 1..12}.sensor", "channel.{n 1..99999}.sensor", "more than 10000 numbers"),
        ("model: fichte-8\n", "", "the key 'model' is missing"),
        ("bits: 16", "bit: 16", "did you mean 'bits'"),
        ("0.5 s .. 24 h", "0.5 m .. 24 km", "m is a unit of length"),
        ("datasheet: 1", "datasheet: 2", "version '2' is not known"),
        ("±100 mV,", "±100 bars,", "'bars' is not a unit"),
        ("type: u32, step: 0.1 s", "type: u32, step: 0", "a step of 0 is not valid"),
        ("type: u32, step: 0.1 s", "type: u16, bits: 4..19", "are not bits of a register"),
        ("type: u32, step: 0.1 s", "type: u16, span: 0..70000", "is more than u16 can hold"),
        ("type: u32, step: 0.1 s", "type: f32, step: 0.1", "a floating point number has no step"),
        ("holding 16, type: u32", "coil 16, type: u32", "a coil holds one bit"),
        ("limits:\n", "limits: 3\nlimit:\n", "the key 'limit' is not known"),
    ],
)
def test_mistakes_in_a_datasheet_are_findings_with_their_place(old, new, message):
    assert old in TEXT
    with pytest.raises(SetupError) as caught:
        parse_datasheet(TEXT.replace(old, new), file="x.yaml")
    assert message in str(caught.value)
    assert all(f.file == "x.yaml" and f.line >= 1 for f in caught.value.findings)
