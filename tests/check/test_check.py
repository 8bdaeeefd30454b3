"""Each kind of mistake: planted into the kiln's setup, found at its place, told with its remedy."""

import json
from dataclasses import replace
from datetime import date
from importlib import resources
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import KILN, checked, example
from leitwerk.check.compile import check_setup
from leitwerk.errors import SetupError
from leitwerk.project.library import Library
from leitwerk.project.setups import check_file, parse_setup
from leitwerk.setup.model import draft_setup

CELL = "scale: {sensitivity: 2 mV/V, full scale: 5000 kg}"
CALIBRATION = """unit: kg
    calibration:
      date: 2026-03-02
      due: 2027-03-02
      reference: R-0031
      found: {0 kg: 0 kg, 9 kg: 1 kg}
      correct: offset and gain"""
DRY = "too_dry: {below: 25 %, clear: 28 %, after: 2 min}"
# what is replaced, by what, rule, the text that the finding's place begins with, what it says
HOT = "{above: 78 °C, clear: 75 °C, after: 30 s, severity: high}"
MISTAKES = [
    ("sensor: Pt100", "senser: Pt100", "unknown-key", "senser", "did you mean 'sensor'?"),
    ("title: Kiln 2", "x: Kiln 2", "missing-key", "#", "'title' is missing"),
    ("title: Kiln 2", "titel: Kiln 2", "unknown-key", "titel", "did you mean 'title'?"),
    ("leitwerk: 1", "leitwerk: 7", "bad-value", "7", "version '7' is not known"),
    ("fichte-8", "fichte-9", "unknown-model", "fichte-9", "eibe, erle, fichte-8, hasel, kiefer, laerche"),
    ("modbus+tcp://127", "mobus://127", "bad-value", "mobus", "not an address that Leitwerk knows"),
    ("5020?unit=3", "5020?unit=300", "bad-value", "modbus", "unit=300 is not a unit identifier"),
    ("//127", "//me:secret@127", "bad-value", "modbus", "an address holds no password"),
    ("every 10 s", "every 100 ms", "interval-outside", "every 100", "every 0.5 s"),
    ("every 10 s", "every 10 bar", "bad-value", "every 10", "is not a duration"),
    ("terminal: 2", "terminal: 1", "duplicate-terminal", "1", "already taken by channel air_top"),
    ("terminal: 5", "terminal: 9", "unknown-terminal", "9", "has no terminal 9"),
    ("terminal: D1", "terminal: 8", "wrong-terminal", "8", "for contact: D1, D2"),
    ("  air_bottom:", "  air_top:", "duplicate-key", "air_top", "already in line 13"),
    ("  air_bottom:", "  air-bottom:", "bad-name", "air-bottom", "is not a name for a channel"),
    ("sensor: type K", "sensor: tipe K", "bad-value", "tipe", "did you mean 'type K'"),
    ("sensor: type K", "expect: 1 ± 1 °C\n    x: 3", "nothing-wired", "timber_core", "signal:"),
    ("sensor: type K", "sensor: type K\n    signal: 0..1 V", "two-scales", "timber_core", "remove"),
    ('unit: "%"\n    expect: 55', "unit: °C\n    expect: 55", "wrong-unit", "°C", "leads to %"),
    ('unit: "%"\n    expect: 55', "unit: °X\n    expect: 55", "bad-value", "°X", "is not a unit"),
    ("unit: °C\n    expect: 19.0", "unit: bar\n    expect: 19.0", "wrong-unit", "bar", "pressure"),
    ("above: 78 °C", "above: 78 bar", "wrong-unit", "78 bar", "bar is a unit of pressure"),
    ("clear: 75 °C", "clear: 80 °C", "clear-on-wrong-side", "80", "at or below 78 °C"),
    ("clear: 28 %", "clear: 20 %", "clear-on-wrong-side", "20 %", "at or above 25 %"),
    ("above: 78 °C", "above: 900 °C", "trip-outside-span", "900", "-200..850 °C"),
    ("below: 25 %, clear: 28 %", "below: -1 %", "trip-outside-span", "-1", "0..100 %"),
    ("above: 78 °C, ", "", "no-single-trip", "too_hot", "this has none"),
    (DRY, DRY.replace("{", "{above: 90 %, "), "no-single-trip", "too_dry", "make two alarms"),
    ("after: 30 s", "after: 30", "bad-value", "30", "is not a duration"),
    ("severity: high", "severity: hgh", "bad-value", "hgh", "'low', 'medium' or 'high'"),
    ("range: ±1 V", "range: ±100 mV", "range-clips", "±100 mV", "which resolves 0.0031 %"),
    ("range: ±1 V", "range: ±10 V", "range-too-wide", "±10 V", "0.031 % instead of 0.0031 %"),
    ("range: ±1 V", "range: ±2 V", "unknown-range", "±2 V", "±1 V is the smallest"),
    ("range: ±1 V", "range: 0..24 mA", "wrong-unit", "0..24", "a span of current"),
    ("range: 0..24 mA", "range: 24..0 mA", "unknown-range", "24..0", "stands upside down"),
    ("{0 V: 0 %, 1 V", "{0 V: 0 %, 0 V", "duplicate-key", "0 V", "already in line 44"),
    ("{0 V: 0 %, 1 V", "{0 V: 0 %, 0 mV", "bad-scale", "{0 V", "same signal, 0"),
    ("1 V: 100 %}", "2 V: 100 %}", "scale-outside-signal", "0..1 V", "the scale needs 0..2000 mV"),
    ("{4 mA: 0 %, 20 mA: 100 %}", "{4 mA: 0 %}", "bad-value", "{4 mA", "a scale of 1 pair is not complete"),
    ("signal: 4..20 mA", "signal: 4..20 bar", "unknown-signal", "4..20", "current (mA)"),
    ("expect: 40 ± 1 %", "expect: 140 ± 1 %", "expected-outside-span", "140", "0..100 %"),
    ("expect: 40 ± 1 %", "expect: 40 %", "bad-value", "40 %", "value ± tolerance"),
    ("expect: 40 ± 1 %", "expect: 40 ± 1 V", "wrong-unit", "40", "V is a unit of voltage"),
    ("expect: shut", "expect: shot", "wrong-state", "shot", "ajar or shut"),
    ("expect: 40 ± 1 %", "expect: shut", "wrong-state", "shut", "has numbers"),
    ("signal: contact", "signal: contact\n    unit: V", "useless-key", "unit", "nothing for a"),
    (CELL, "scale: {sensitivity: 2 mV/V, full scale: 5 bar}", "wrong-unit", "kg", "leads to bar"),
    (CELL, "scale: {sensitivity: 2 mV/bar}", "wrong-unit", "{sens", "does not lead from mV/V to kg"),
    (CELL, "scale: {sensitivity: 0 mV/V, full scale: 5 t}", "bad-scale", "{sens", "neither is 0"),
    (CELL, "scale: {sensitivity: 2 mV/V, ful scale: 5 t}", "bad-value", "{sens", "'ful scale' is no"),
    (CELL, "scale: 0.5 kN/mV", "wrong-unit", "0.5", "in kN/mV on a signal in mV/V does not lead to kg"),
    (CELL, "scale: 0.5", "bad-value", "0.5", "the factor '0.5' has no unit"),
    (CELL, "scale: 200/5 A", "wrong-unit", "200", "one of current, the signal is in mV/V"),
    (CELL, "scale: {root of: 0..1 mV/V}", "bad-value", "{root", "the scale lacks 'full flow'"),
    ("{0 V: 0 %, 1 V", "{0 V: 0 %, 500 mV: 9 %, 0.4 V: 8 %, 1 V", "bad-scale", "{0 V", "has a lower"),
    ("{0 V: 0 %, 1 V", "{0 V: 0 %, 0 mV: 9 %, 1 V", "bad-scale", "{0 V", "has the same signal as"),
    ("1 V: 100 %}", "1 V: 100 %, between: spline}", "bad-value", "{0 V", "linear, logarithmic, cubic"),
    ("signal: 0..1 V", "signal: 0..1 V\n    shunt: 250 Ω", "wrong-unit", "250", "a shunt carries a"),
    ("signal: 4..20 mA", "signal: 4..20 mA\n    shunt: 0 Ω", "bad-value", "0 Ω", "above 0 Ω"),
    ("sensor: Pt100, 4-wire", "sensor: Pt100, 2-wire", "leads-unknown", "Pt100", "read 0.51 K too hot"),
    ("sensor: type K", "sensor: type K\n    leads: 1 Ω", "useless-key", "leads", "means nothing for"),
    ("offset: 850 kg", "offset: 850 V", "wrong-unit", "850 V", "V is a unit of voltage"),
    ("offset: 850 kg", "ofset: 850 kg", "unknown-key", "ofset", "did you mean 'offset'?"),
    ("unit: kg", CALIBRATION, "calibration-extrapolated", "{0 kg", "reach from 2285..2335 kg"),
    ("unit: kg", CALIBRATION.replace("2027", "2025"), "dates-reversed", "2025", "before it was done"),
    ("unit: kg", CALIBRATION.replace("9 kg: 1", "0 g: 1"), "bad-calibration", "{0 kg", "are too few"),
    ("unit: kg", CALIBRATION.replace("kg: 1 kg", "kg: 1 V"), "wrong-unit", "calibr", "does not fit a"),
    ("unit: kg", CALIBRATION.replace("2026-03", "2026-33"), "bad-value", "2026-33", "is not a date"),
    ("unit: kg", CALIBRATION.replace("offset and", "offst and"), "bad-value", "offst", "polynomial 2"),
    ("label: Kiln door", "label: Door Ω", "not-storable", "Door Ω", "does not have 'Ω'"),
    ("label: Kiln door", "label: The door of kiln number 2", "not-storable", "The", "at most 24"),
    ("title: Kiln 2", "title: Kiln 2 of the sawmill", "not-storable", "Kiln 2", "at most 32"),
    ("after: 2 min", "after: 20 h", "not-storable", "20 h", "0..65535"),
    ("after: 2 min", "after: 0.2 s", "not-storable", "0.2 s", "it would become 0"),
    ("every 10 s", "every 500 ms", "not-storable", "every 500", "0.5 s as storage.interval"),
    ("every 10 s", "every 1.6 s", "rounded", "every 1.6", "storage.interval as 2 s"),
    ("above: 78 °C", "above: 78.04 °C", "rounded", "78.04", "alarm.1.trip as 78 °C"),
    ("above: 78 °C", "above: 90 % of expected", "clear-on-wrong-side", "75", "19.35 °C"),
    ("above: 78 °C", "above: 7 % of span", "clear-on-wrong-side", "75", "trips above -126.5 °C"),
    ("above: 78 °C", "outside: 10..78 °C", "bad-alarm", "10..78", "clears at a span"),
    ("78 °C, clear: 75 °C", "78 °C, hysteresis: -1 K", "bad-alarm", "78", "is negative"),
    (HOT, "{above: 78, clear: 77.99}", "alarm-chatters", "too_hot", "stands still to 0.063 °C"),
    ("above: 78 °C, clear: 75 °C", "rises: 2 K", "bad-alarm", "2 K", "needs a time"),
    ("above: 78 °C, clear: 75 °C", "differs_from: air_top", "bad-alarm", "air_top", "add 'by: …'"),
    ("above: 78 °C, clear: 75 °C", "differs_from: air, by: 2 K", "bad-alarm", "air,", "no channel"),
    ("above: 78 °C, clear: 75 °C", "when: hot", "bad-alarm", "hot", "no reading"),
    ("severity: high}", "severity: high, only_while: door ajar}", "bad-value", "door aj", "not a condition"),
    ("severity: high}", "severity: high}\n      b: {below: 80}", "contradicting-alarms", "b:", "both are"),
    (HOT, f"{HOT}\n      b: {HOT}", "duplicate-alarm", "b:", "exactly as too_hot"),
    ("unit: kg", "unit: kg\n    limits: {set: timber}", "unknown-limits", "timber", "timber-store"),
    ('unit: "%"', 'unit: "%"\n    limits: {set: timber-store}', "bad-limits", "{set",
     "needs the parameter 'product'"),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "rule", "at", "says"), MISTAKES)
def test_a_planted_mistake_is_found_at_its_place(tmp_path, old, new, rule, at, says):
    assert old in KILN
    text = KILN.replace(old, new, 1)
    path = tmp_path / "kiln.yaml"
    path.write_text(text, encoding="utf-8")

    findings = check_file(path).findings

    finding = next(f for f in findings if f.rule == rule)
    assert text.splitlines()[finding.line - 1][finding.column - 1 :].startswith(at)
    assert says in str(finding)
    assert str(finding).startswith(f"{path}:{finding.line}:{finding.column}: {finding.severity}: ")
    if finding.path.startswith("channels."):
        assert finding.channel == finding.path.split(".")[1]


@pytest.mark.parametrize(
    "body",
    [
        "sensor: Pt100\n    unit: °C\n    expect: 21 ± 1 °C",
        "sensor: type K\n    unit: °C\n    alarms: {hot: {above: 78 °C, clear: 80 °C}}",
        "senser: Pt100",
        "signal: 0..1 V\n    unit: kg\n    scale: {0 V: 0 kg, 1 V: 5 kg}",
        "sensor: Pt100\n    limits: {set: timber}",
    ],
)
def test_channels_that_are_alike_are_each_read_as_if_alone(body):
    """Their entries are read once; that must not show."""
    head = KILN[: KILN.index("channels:")]

    def seen(*numbers):
        text = f"{head}channels:\n" + "".join(
            f"  c{n}:\n    label: Number {n}\n    terminal: {n}\n    {body}\n" for n in numbers
        )
        setup, findings = draft_setup(text, file="k.yaml", library=Library())
        own = [(f.rule, f.message, f.path) for f in findings if ".c3" in f.path]
        return (setup.channels.get("c3") if setup else None), own

    assert seen(3) == seen(1, 2, 3)


def test_a_factor_gives_the_unit_by_itself():
    head = KILN[: KILN.index("channels:")]
    setup = f"{head}channels:\n  force: {{terminal: 1, signal: 0..10 mV, scale: 0.5 kN/mV}}\n"
    found = checked(setup)
    assert found.ok, found.findings
    channel = found.channel("force")
    assert (channel.unit.symbol, channel.span) == ("kN", (0.0, 5.0))


def test_a_correct_setup_has_no_findings(tmp_path):
    path = tmp_path / "kiln.yaml"
    path.write_text(KILN, encoding="utf-8")
    result = check_file(path)
    assert (result.ok, result.findings) == (True, ())


def test_calibrations_are_overdue_or_missing_by_the_calendar(sheet):
    text = KILN.replace("unit: kg", CALIBRATION.replace("9 kg: 1 kg", "5 t: 5 t"))
    setup = parse_setup(text)
    rules = [f.rule for f in check_setup(setup, sheet, today=date(2027, 3, 2)).findings]
    assert rules == ["calibration-missing"] * 5
    (overdue,) = (
        f
        for f in check_setup(setup, sheet, today=date(2027, 3, 12)).findings
        if f.rule == "calibration-overdue"
    )
    assert overdue.severity == "warning"
    assert "was due on 2027-03-02, 10 days ago" in overdue.message
    assert check_setup(parse_setup(KILN), sheet, today=date(2027, 3, 12)).findings == ()


def test_a_thermocouple_needs_a_cold_junction(sheet):
    readings = {k: v for k, v in sheet.groups["readings"].items() if k != "cold_junction"}
    without = replace(sheet, groups={**sheet.groups, "readings": readings})
    (finding,) = check_setup(parse_setup(KILN), without).findings
    assert (finding.rule, finding.channel) == ("no-cold-junction", "timber_core")


def test_an_alarm_behind_a_curved_scale_is_stored_as_the_signal_that_trips_it(sheet):
    table = "{0 V: 100 %, 0.2 V: 40 %, 1 V: 0 %}"
    setup = parse_setup(KILN.replace("{0 V: 0 %, 1 V: 100 %}", table))
    settings = check_setup(setup, sheet).settings
    found = {k: v for k, v in settings.values.items() if k.startswith("alarm.2.")}
    # Below 25 % is above 500 mV on a falling table; clear at 28 % is 440 mV.
    assert found["alarm.2.condition"] == "above"
    assert (found["alarm.2.trip"], found["alarm.2.clear"]) == (500.0, 440.0)
    assert settings.values["channel.4.unit"] == "mV"


def test_all_mistakes_are_found_at_once_in_the_order_of_the_file(tmp_path):
    text = KILN
    edits = [m for m in MISTAKES if m[2] in {"interval-outside", "range-clips", "wrong-state"}]
    edits += [m for m in MISTAKES if m[2] in {"unknown-key", "clear-on-wrong-side"}]
    for old, new, *_ in edits:
        text = text.replace(old, new, 1)
    path = tmp_path / "kiln.yaml"
    path.write_text(text, encoding="utf-8")

    findings = check_file(path).findings

    assert {m[2] for m in edits} <= {f.rule for f in findings}
    assert [f.line for f in findings] == sorted(f.line for f in findings)
    json.dumps([f.to_dict() for f in findings])


def test_more_channels_and_alarms_than_the_device_has(tmp_path):
    many = "".join(
        f"  extra_{n}: {{terminal: {n}, sensor: 'Pt100, 4-wire', alarms: {{"
        + ", ".join(f"a{k}: {{above: {50 + k}}}" for k in range(6))
        + "}}\n"
        for n in (7, 8)
    )
    path = tmp_path / "kiln.yaml"
    path.write_text(KILN + many, encoding="utf-8")
    found = {f.rule: f for f in check_file(path).findings}
    assert "keeps 8 channels, this setup has 9" in found["too-many-channels"].message
    assert found["too-many-channels"].channel == "extra_8"
    assert "has 12 alarms, this setup needs 14" in found["too-many-alarms"].message


def test_a_setup_that_was_read_can_be_checked_again_with_the_same_places(sheet):
    setup = parse_setup(KILN.replace("clear: 75 °C", "clear: 80 °C"), file="k.yaml")
    (finding,) = check_setup(setup, sheet).findings
    assert (finding.rule, finding.place) == ("clear-on-wrong-side", "k.yaml:21:38")


def test_reading_raises_with_all_findings():
    with pytest.raises(SetupError, match=r"k\.yaml: 2 errors") as caught:
        parse_setup(KILN.replace("terminal:", "terminl:", 1).replace("10 s", "10 V"), file="k.yaml")
    # One mistyped key is one finding: that 'terminal' is missing says nothing more.
    assert [f.rule for f in caught.value.findings] == ["bad-value", "unknown-key"]


def test_two_readings_of_one_text_are_equal_setups():
    assert parse_setup(KILN, file="a") == parse_setup(KILN.encode(), file="b")


@given(st.data())
def test_no_mutilated_setup_ends_in_a_traceback(sheet, data):
    lines = KILN.splitlines()
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(lines) - 1))
        cut = data.draw(st.integers(0, len(lines[at])))
        junk = data.draw(st.sampled_from(["", "[", "{", "}", ":", " ", "-", "±", "1e9", "&"]))
        lines[at] = lines[at][:cut] + junk + lines[at][cut + data.draw(st.integers(0, 3)) :]
    setup, findings = draft_setup("\n".join(lines), file="k.yaml", library=Library())
    if setup is not None:
        check_setup(setup, sheet)
    assert setup is not None or findings.has_errors


@pytest.mark.parametrize("name", ["missing.yaml", ".", "/dev/zero"])
def test_files_that_cannot_be_read_are_told(leitwerk, tmp_path, name):
    result = leitwerk("check", str(tmp_path / name))
    assert result.exit_code == 2
    assert name in result.output or "is not a file" in result.output


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"", "the file is empty"),
        (b"just words\n", "holds no keys"),
        (b"a: [1,\n", "this is not YAML"),
        (b"\x89PNG\r\n\x1a\n\0\0\0", "is not a text file"),
        (b"a: &a [x]\nb: [" + b"*a, " * 100 + b"]", "anchors and aliases"),
    ],
)
def test_bad_files_are_findings(leitwerk, tmp_path, content, says):
    path = tmp_path / "bad.yaml"
    path.write_bytes(content)
    result = leitwerk("check", str(path))
    assert result.exit_code == 1
    assert says in result.output
    assert f"{path}:1:1: error" in result.output or f"{path}:" in result.output


def test_fifty_megabytes_of_aliases_are_refused_unread(leitwerk, tmp_path):
    path = Path(tmp_path / "aliases.yaml")
    path.write_bytes(b"a: &a [x]\n" + b"b: [*a, *a, *a]\n" * 3_200_000)
    result = leitwerk("check", str(path))
    assert result.exit_code == 2
    assert "51 MB; nothing of that size is a setup" in result.output


def test_what_another_role_must_write_is_told_before():
    text = (resources.files("leitwerk") / "datasheets" / "linde.yaml").read_text("utf-8")
    guarded = text.replace("lithium: 2}}", "lithium: 2}, role: administrator}")
    guarded = guarded.replace("roles: [operator]", "roles: [operator, administrator]")
    setup = lw.parse_setup(example("station", "modbus+tcp://127.0.0.1"))
    findings = lw.check_setup(setup, lw.parse_datasheet(guarded)).findings
    (note,) = (f for f in findings if f.rule == "needs-role")
    assert "the password of the administrator" in note.message
    sheet = lw.parse_datasheet(guarded)
    assert sheet.role_for(["name", "battery.kind"]) == "administrator"
    assert sheet.role_for(["name"]) == "operator"


def test_an_address_of_another_protocol_and_a_bus_address_among_the_settings():
    linde = lw.find_datasheet("linde")
    setup = lw.parse_setup(example("station", "scpi+tcp://127.0.0.1"))
    assert [f.rule for f in lw.check_setup(setup, linde).findings if f.is_error] == ["wrong-link"]
    text = example("station", "modbus+tcp://127.0.0.1") + "  bus.unit: 9\n"
    (finding,) = (f for f in lw.check_setup(lw.parse_setup(text), linde).findings if f.is_error)
    assert (finding.rule, "leitwerk readdress" in finding.remedy) == ("bus-address", True)
