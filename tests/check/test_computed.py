"""Computed channels of setups: what is found wrong with them, and what they show, from check to recording."""

import json
import math
from pathlib import Path

import numpy as np
import pytest

import leitwerk as lw
from conftest import EXAMPLES, PASSWORDS, MemoryLink, SteppedTime, checked, example, kept
from leitwerk.analysis.series import Column, Series
from leitwerk.check.account import Fate
from leitwerk.check.flume import departure_of, table_of
from leitwerk.derived.open_channel import RectangularWeir
from leitwerk.evaluation.channel_values import ChannelValues
from leitwerk.evaluation.course import parse_course
from leitwerk.evaluation.derived_chain import explain_derived
from leitwerk.evaluation.dry_run import draw_courses
from leitwerk.monitoring.spot_readings import read_values
from leitwerk.recordings.fetch import with_derived
from leitwerk.signals.quality import Quality
from leitwerk.standins import flumes
from leitwerk.standins.faults import Disturbances
from leitwerk.standins.indicator import Indicator
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile
from leitwerk.transfer.adopt import adopt

AIR = (EXAMPLES / "kiln-air.yaml").read_text("utf-8")
CARRIAGE = (EXAMPLES / "carriage.yaml").read_text("utf-8")
RACE = (EXAMPLES / "mill-race.yaml").read_text("utf-8")


def findings(more, text=AIR):
    """The findings of a setup with further lines among its channels: rule, line's text, column, message."""
    whole = f"{text}\n{more}"
    lines = whole.splitlines()
    return [
        (f.rule, lines[f.line - 1][f.column - 1 :], str(f))
        for f in checked(whole).findings
        if f.rule not in {"host-only", "computed-by-device", "needs-restart"}
    ]


@pytest.mark.parametrize(
    ("more", "rule", "points_to", "says"),
    [
        ("  x: {computed: air_top + air_top, unit: °C}", "bad-formula", "air_top + air_top,", "°C + °C"),
        ("  x: {computed: 3 + air_botom, unit: K}", "bad-formula", "air_botom,", "did you mean air_bottom"),
        ('  x: {computed: "humidity / (2 - 2)"}', "bad-formula", "2 - 2)", "column 13 of the formula"),
        ("  x: {computed: air_top - air_bottom}", "missing-key", "x: {", "a temperature, and no unit"),
        ("  x: {computed: humidity, unit: °C}", "wrong-unit", "°C}", "°C is for a temperature"),
        ("  x: {computed: x + 1}", "computed-ring", "x + 1}", "x is computed from itself: x from x"),
        ("  x: {computed: y}\n  y: {computed: z}\n  z: {computed: x}", "computed-ring", "", "from"),
        ("  x: {computed: humidity, terminal: 7}", "useless-key", "terminal", "computed channel"),
        ("  x: {terminal: D2, signal: contact, inputs: same moment}", "useless-key", "inputs", "computed"),
        ("  x: {computed: door == 'wide'}", "bad-formula", "'wide'}", "shut"),
        ("  x: {computed: humidity, alarms: {a: {above: 90 % of span}}}", "bad-alarm", "90 %", "not known"),
        ("constants: {air_top: 3 K, rho: 1}", "bad-name", "air_top: 3 K", "cannot name a constant"),
        ("tables: {door: {a: 1}}", "bad-name", "door: {a", "cannot name a table"),
        (
            "  x: {computed: 'step(humidity, humidity, gears)'}\ntables: {gears: {1: 2.0, 2: 2.1}}",
            "doubtful-formula", "gears)", "1 and 2 overlap",
        ),
    ],
)  # fmt: skip
def test_what_is_found(more, rule, points_to, says):
    found = findings(more)
    assert [f[0] for f in found] == [rule], found
    assert found[0][1].startswith(points_to), found
    assert says in found[0][2]


def test_what_inputs_can_say():
    with pytest.raises(lw.SetupError, match="newest within 10 s"):
        checked(AIR + "  x: {computed: humidity, inputs: newest}")
    assert checked(AIR + "  x: {computed: humidity, inputs: newest within 1 min}").ok


def test_a_channel_with_an_error_is_named_once():
    """What is computed from a channel that is wrong has no finding of its own."""
    text = AIR.replace("terminal: 4", "terminal: 44")
    assert [f[0] for f in findings("", text)] == ["unknown-terminal"]


def test_inputs_at_different_intervals():
    text = CARRIAGE.replace("    terminal: P2", "    terminal: P2\n    group: slow")
    text += "groups: {slow: {sample: every 10 s}}\n"
    found = [f for f in checked(text).findings if f.rule == "rates-differ"]
    assert [f.channel for f in found] == ["gear"]
    assert "motor comes every 1 s, and drive only every 10 s" in found[0].message


@pytest.mark.parametrize(
    ("rule", "says", "expected"),
    [
        ("same moment", None, [500, None, None, 530]),
        ("newest within 10 s", None, [500, 501, 509, 530]),
        ("newest within 5 s", "drive comes every 10 s: mostly", [500, 501, None, 530]),
        ("at the slowest", None, [500, None, None, 530]),
        ("linear within 10 s", "that of 10 s ago", [None, None, None, 490 + 30]),
    ],
)  # fmt: skip
def test_which_values_of_inputs_are_taken(rule, says, expected):
    """The motor comes every second, from 1500 on by 1 more each; the drive every ten, always 1000."""
    text = CARRIAGE.replace("    terminal: P2", "    terminal: P2\n    group: slow")
    text = text.replace("\nchannels:", "\ngroups: {slow: {sample: every 10 s}}\nchannels:")
    setup = checked(f"{text}\n  slip: {{computed: motor - drive, unit: 1/min, inputs: {rule}}}\n")
    found = [f for f in setup.findings if f.channel == "slip"]
    assert [says in f.message for f in found] == [True] * (says is not None), found
    t = np.arange(31.0)
    worked = ChannelValues([setup.channel(name) for name in ("motor", "drive", "slip")])
    shown = np.column_stack([1500.0 + t, np.where(t % 10 == 0, 1000.0, np.nan)])
    values, _ = worked.derive(t, shown, np.where(np.isnan(shown), 5, 0).astype(np.uint8))
    at = values[[0, 1, 9, 30], 2]
    np.testing.assert_allclose(at, [math.nan if v is None else v for v in expected], rtol=1e-12)
    if rule == "linear within 10 s":  # on the line, and every second
        np.testing.assert_allclose(values[10:, 2], 490.0 + t[10:], rtol=1e-12)


def test_only_what_is_slower_is_the_slowest():
    text = "  x: {computed: air_top - air_bottom, unit: K, inputs: at the slowest}"
    (found,) = findings(text)
    assert (found[0], "no input comes more seldom" in found[2]) == ("useless-key", True)


def test_a_total_that_leaves_out_a_gap_is_marked():
    setup = checked(f"{CARRIAGE}\n  turns: {{computed: total(motor)}}\n")
    t = np.array([0.0, 10.0, 20.0, 200.0, 210.0])
    shown = np.full((5, 1), 60.0)
    worked = ChannelValues([setup.channel(name) for name in ("motor", "turns")])
    values, qualities = worked.derive(t, shown, np.zeros((5, 1), np.uint8))
    assert values[:, 1] == pytest.approx([0, 10, 20, 20, 30])
    assert Quality.describe(qualities[:, 1]).tolist()[2:4] == [
        "good",
        "incomplete: a gap is left out",
    ]


def test_where_its_entries_end():
    account = checked(AIR).account
    ends = {e.path[2]: e.fate for e in account.entries if e.path[:2] == ("channels", "dew_point")}
    assert ends["computed"] is ends["expect"] is ends["alarms"] is Fate.LEITWERK
    assert account.attended == ("alarm dew_point.wet",)


# ---------------------------------------------------------------------- on the kiln's logger


@pytest.fixture
def air(device, logger, tmp_path):
    setup = checked(AIR)
    lw.upload(setup, device, kept(tmp_path))
    return setup, device, logger


def test_it_is_watched_and_judged(air):
    setup, device, logger = air
    report = lw.verify(setup, device, duration_s=5, period_s=0.5, clock=logger.clock.clock)
    assert report.outcome == "passed", str(report)
    dew = next(c for c in report.channels if c.name == "dew_point")
    assert dew.mean == pytest.approx(12.1, abs=0.2)
    assert report.values[-1].tolist()[-1] == 0.0  # the door is shut


def test_a_bad_input_is_named(sheet, tmp_path):
    logger = Logger(
        sheet, find_profile("fichte-8"), Plant(), SteppedTime(), Disturbances(open={"4"})
    )
    device = lw.Device(sheet, MemoryLink(logger))
    setup = checked(AIR)
    lw.upload(setup, device, kept(tmp_path))
    report = lw.verify(setup, device, duration_s=2, period_s=0.5, clock=logger.clock.clock)
    found = {c.name: (str(c.verdict), c.reason) for c in report.channels}
    assert found["dew_point"] == ("no reading", "computed from humidity, which has no value")
    assert found["lost"][0] == "pass"
    assert read_values(setup, device)["dew_point"] is None


def test_it_trips_its_alarm_while_attended_and_goes_on_after_a_restart(air, tmp_path):
    _, device, logger = air
    wet = checked(
        AIR.replace("above: 60 °C, clear: 58 °C, after: 2 min", "above: 10 °C, clear: 9 °C")
    )
    clock = logger.clock.clock

    def attend():
        attendant = lw.Attendant(wet, device, lw.AttendOptions(tmp_path / "a", clock=clock))
        attendant.attend(period_s=1.0, duration_s=3.0)
        return attendant

    first = attend()
    assert [(e.subject, e.text[:6]) for e in first.log.events] == [("dew_point.wet", "unackn")]
    state = json.loads((tmp_path / "a" / "K2-00417" / "attend-state.json").read_text("utf-8"))
    assert state["derived"]["steps"]
    again = attend()
    assert not again.log.events  # it is active still, and was reported


def test_it_is_rehearsed():
    setup = checked(AIR.replace("after: 2 min", "after: 1 min"))
    courses = {
        "air_top": parse_course("60; to 70 in 5 min; stay 5 min", setup.channel("air_top").unit),
        "humidity": parse_course("80; stay 10 min", setup.channel("humidity").unit),
    }
    result = lw.dry_run(setup, draw_courses(courses, 10.0))
    assert [(name, state) for _, name, state, _ in result.changes()] == [
        ("dew_point.wet", "pending"), ("dew_point.wet", "unacknowledged"),
    ]  # fmt: skip
    given = lw.Courses(np.arange(3.0), {"dew_point": np.full(3, 61.0)})
    track = next(t for t in lw.dry_run(setup, given).tracks if t.channel.name == "dew_point")
    assert track.values.tolist() == [61.0] * 3  # what is given counts


def test_a_recording_gets_its_columns():
    setup = checked(AIR)
    values = np.array([[21.0, 50.0], [22.0, np.nan], [23.0, 60.0]])
    columns = (Column("air_top", "°C"), Column("humidity", "%"))
    series = Series(
        columns, np.arange(3.0) * 60, values, np.array([[0, 0], [0, 6], [0, 0]], np.uint8)
    )
    found = with_derived(series, setup.channels)
    assert [c.name for c in found.columns] == ["air_top", "humidity", "dew_point", "balance"]
    assert found.values[0, 2] == pytest.approx(10.19, abs=0.01)
    assert found.qualities[:, 2].tolist() == [0, 10, 0]


def test_it_is_explained(leitwerk, tmp_path):
    setup = checked(AIR)
    found = explain_derived(setup, setup.channel("dew_point"))
    top, humidity = found.inputs
    assert found.value == pytest.approx(12.09, abs=0.01)
    assert top.share + humidity.share == pytest.approx(1.0)
    assert found.expanded_uncertainty == pytest.approx(
        2 * math.hypot(0.019 * 0.9292, 0.001), rel=0.05
    )
    ajar = explain_derived(setup, setup.channel("ajar"))
    assert (ajar.value, "depends on the time that passes" in ajar.remark) == (None, True)
    path = tmp_path / "carriage.yaml"
    path.write_text(CARRIAGE, "utf-8")
    shown = leitwerk("explain", str(path), "gear")
    assert shown.exit_code == 0
    assert "1 348.8, 2 548.4, 3 791.7, R 300" in shown.stdout
    tare = leitwerk("tare", str(path), "gear")
    assert (tare.exit_code, "the device does not measure it" in tare.stderr) == (2, True), (
        tare.output
    )


def test_an_offset_by_hand_is_taken_off_also_for_what_is_computed_from_it():
    tare = "    tare: [{offset: 1 K, taken: 2026-03-01T08:00Z}, {offset: 0.3 K, taken: 2026-03-02T08:00Z}]\n"
    text = AIR.replace("    unit: K\n    expect: 0.3", tare + "    unit: K\n    expect: 0.3")
    setup = checked(text + "  twice: {computed: 2 * lost, unit: K}\n")
    assert setup.ok, setup.findings
    assert explain_derived(setup, setup.channel("lost")).value == pytest.approx(0.0)
    assert explain_derived(setup, setup.channel("twice")).value == pytest.approx(0.0)
    wrong = checked(text.replace("offset: 0.3 K", "offset: 0.3 bar"))
    assert [f.rule for f in wrong.findings if f.is_error] == ["wrong-unit"]


def test_what_is_marked_is_marked_where_it_is_explained():
    text = RACE.replace("parshall(level, '2 ft')", "2 * parshall(level, '2 ft')").replace(
        "shows: flow", "shows: level"
    )
    setup = checked(text)
    flow = setup.channel("flow")
    assert explain_derived(setup, flow, {"level": 0.3}).quality == "good"
    assert explain_derived(setup, flow, {"level": 1.2}).quality == "extrapolated"
    beyond = explain_derived(setup, flow, {"level": 9.0})
    assert (beyond.value, beyond.quality) == (None, "above range")
    assert "above range" in str(beyond)


# ---------------------------------------------------------------------- flow by the device


@pytest.mark.parametrize(
    ("formula", "rule", "settings"),
    [
        ("parshall(level, '6 in')", "computed-by-device", {"flume.law": "parshall", "flume.size": "6 in"}),
        ("v_notch(level, '60 °')", "computed-by-device", {"flume.law": "v-notch", "flume.angle": 60.0}),
        (
            "power_law(level, '1.7 m³/s', 1.5, '1 m')", "computed-by-device",
            {"flume.law": "power law", "flume.exponent": 1.5},
        ),
        ("rectangular_weir(level, '0.8 m', '0.4 m', '1.2 m')", "table-departs", {"flume.law": "table"}),
        ("parshall(level, '10 ft')", "table-departs", {"flume.law": "table"}),
    ],
)  # fmt: skip
def test_a_transmitter_computes_what_it_can(formula, rule, settings):
    found = checked(RACE.replace("parshall(level, '2 ft')", formula))
    assert found.ok
    assert rule in {f.rule for f in found.findings if f.path == "channels.flow.computed"}
    for name, value in settings.items():
        assert (
            found.settings.values[name] == pytest.approx(value)
            if isinstance(value, float)
            else value
        )
    ends = [e for e in found.account.entries if e.path == ("channels", "flow", "computed")]
    assert [e.fate for e in ends] == [Fate.STORED]


@pytest.mark.parametrize("formula", ["parshall(level * 1, '2 ft')", "2 * parshall(level, '2 ft')"])
def test_what_it_cannot_compute_is_worked_by_leitwerk(formula):
    found = checked(
        RACE.replace("parshall(level, '2 ft')", formula).replace("shows: flow", "shows: level")
    )
    ends = [e for e in found.account.entries if e.path == ("channels", "flow", "computed")]
    assert [e.fate for e in ends] == [Fate.LEITWERK]


def test_how_far_a_table_departs_is_true():
    """Against the device's own way to read its table, looked at everywhere."""
    weir = RectangularWeir(0.8, 0.4, 1.2)
    points = table_of(weir, 10)
    departure, at = departure_of(weir, points)
    levels = np.linspace(0.03, weir.valid[1], 5000)
    off = [abs(flumes.table(x, points) / (1000 * float(weir.value(x))) - 1) for x in levels]
    assert max(off) == pytest.approx(departure, rel=0.02)
    assert levels[int(np.argmax(off))] == pytest.approx(at, abs=0.01)


LEVEL_SHOWN = """
  gauge: {terminal: A2, shows: level, span: 0..1.2 m, signal: 4..20 mA, load: 250 Ω, supply: 24 V}
"""


@pytest.mark.process
@pytest.mark.parametrize(
    "formula",
    [
        "parshall(level, '2 ft')",
        "v_notch(level, '90 °')",
        "rectangular_weir(level, '0.8 m', '0.4 m', '1.2 m')",
        "trapezoidal_flume(level, '60 cm', 0.5, '2 m', '1.2 m')",
    ],
)
def test_the_transmitter_shows_the_flow_and_its_current(formula, tmp_path, monkeypatch):
    """Its own tables, in feet and cfs, against ours in metres: within 1.5 %."""
    monkeypatch.chdir(tmp_path)
    with lw.start_standin("weide") as one:
        text = example("mill-race", one.address).replace("parshall(level, '2 ft')", formula)
        text = (
            text.replace("  outlet:", "  outlet_2: {reading: output.2}\n\n  outlet:") + LEVEL_SHOWN
        )
        setup = checked(text)
        with lw.connect(setup) as device:
            lw.upload(setup, device, lw.UploadOptions(Path("kept"), {"operator": "3317"}))
            values = read_values(setup, device)
    by_leitwerk = lw.check_setup(  # the same formula on the level that was read
        lw.parse_setup(
            text.replace("(level,", "(level * 1,").replace("shows: flow", "shows: level")
        ),
        lw.find_datasheet("weide"),
    )
    own = explain_derived(by_leitwerk, by_leitwerk.channel("flow"), values)
    assert values["flow"] == pytest.approx(own.value, rel=0.015)
    assert values["outlet"] == pytest.approx(min(20.5, 4 + 16 * values["flow"] / 500), abs=0.03)
    assert values["outlet_2"] == pytest.approx(4 + 16 * values["level"] / 1.2, abs=0.03)


# ---------------------------------------------------------------------- pulses and a gear


def test_a_gear_at_rest_moving_and_shifting_on_the_pulse_inputs(sheet, tmp_path):
    clock = SteppedTime()
    courses = {
        "motor_shaft": parse_course("0; stay 10 s; jump 1500; stay 100 s"),
        "drive_shaft": parse_course(
            "0; stay 10 s; jump 523.3; stay 10 s; jump 650; stay 2 s; jump 822.6; stay 9 s"
        ),
    }
    plant = Plant(courses=courses)
    logger = Logger(sheet, find_profile("fichte-8-saw"), plant, clock, Disturbances())
    device = lw.Device(sheet, MemoryLink(logger))
    setup = checked(CARRIAGE)
    lw.upload(setup, device, lw.UploadOptions(tmp_path, PASSWORDS))
    clock.now_s = 0.0
    found = [
        (s.time_s, s["gear"], s.qualities[2])
        for s in lw.samples(setup, device, period_s=0.5, duration_s=30, clock=clock.clock)
    ]
    at = {t: (gear, quality) for t, gear, quality in found}
    assert at[5.0][1] == 12  # at rest
    assert at[12.5] == (1.0, 0)
    assert at[20.5] == (1.0, 0)  # no step fits for a moment: the one before
    assert math.isnan(at[21.5][0])  # no step fits for longer
    assert at[21.5][1] == 13
    assert at[25.0] == (2.0, 0)


@pytest.mark.parametrize(
    ("missing", "verdict"), [("at rest", "no expectation"), ("lost", "no reading")]
)
def test_no_pulses_are_rest_or_a_fault(sheet, tmp_path, missing, verdict):
    clock = SteppedTime()
    logger = Logger(sheet, find_profile("fichte-8-saw"), Plant(), clock, Disturbances())
    device = lw.Device(sheet, MemoryLink(logger))
    setup = checked(CARRIAGE.replace("missing: at rest", f"missing: {missing}"))
    lw.upload(setup, device, lw.UploadOptions(tmp_path, PASSWORDS))
    clock.wait(5.0)
    report = lw.verify(setup, device, duration_s=2, period_s=0.5, clock=clock.clock)
    assert {c.name: str(c.verdict) for c in report.channels}["motor"] == verdict


@pytest.mark.parametrize(
    ("speed", "period", "width"),
    [("600", (8.333, 0), (4.167, 0)), ("0", (None, Quality.ABOVE_RANGE), (0.0, 0))],
)  # 12 pulses for each turn
def test_the_period_and_the_width_of_pulses(sheet, tmp_path, speed, period, width):
    clock = SteppedTime()
    plant = Plant(courses={"motor_shaft": parse_course(f"{speed}; stay 100 s")})
    logger = Logger(sheet, find_profile("fichte-8-saw"), plant, clock, Disturbances())
    device = lw.Device(sheet, MemoryLink(logger))
    for word, (value, quality) in (("period", period), ("pulse width", width)):
        head = CARRIAGE.partition("constants:")[0]
        text = f"{head}channels:\n  motor: {{terminal: P1, signal: {word}, expect: 8.3 ± 0.1 ms}}\n"
        setup = checked(text)
        lw.upload(setup, device, lw.UploadOptions(tmp_path, PASSWORDS))
        clock.wait(5.0)
        (found,) = lw.verify(setup, device, duration_s=1, period_s=0.5, clock=clock.clock).channels
        assert found.mean == (None if value is None else pytest.approx(value, abs=2e-3))
        assert ("no pulses" in found.reason) == (speed == "0")
        assert (quality == 0) == (str(found.verdict) != "no reading")
        held = adopt(device.read_settings(), device.identify(), "saw", sheet)
        assert f"signal: {word}\n" in held


def test_an_indicator_shows_pulses_in_its_own_unit():
    """Asked in its own words: span, decimals and what no pulses mean act on what it shows."""
    now = SteppedTime()
    one = Indicator(lw.find_datasheet("birke"), find_profile("birke"), now=now)
    one.answer("KEY=bark")
    for line in ("P3Q=1", "P3SH=100", "P3VH=3000", "P3D=0", "P3G=0.5", "P3A=2"):
        assert one.answer(line) == "OK"
    assert one.answer("PV") == "1440.000,0"
    one.front.operate("pulses 33.3")  # half a second holds 16 whole ones
    assert one.answer("PV") == "960.000,0"
    one.front.operate("pulses 0")
    now.wait(3.0)
    assert one.answer("PV") == "0.000,0"
    one.answer("P3M=1")
    assert one.answer("PV") == "0.000,3"
    for line in ("P3Q=2", "P3SH=50", "P3VH=100", "P3D=1"):
        one.answer(line)
    one.front.operate("pulses 30")  # high for half of 33.3 ms
    assert one.answer("PV") == "33.300,0"
    assert "not a number" in one.front.operate("pulses many")


def test_a_counter_that_rolls_over(sheet, tmp_path):
    clock = SteppedTime()
    courses = {"drive_shaft": parse_course("9000; stay 100 s")}  # 9 kHz: over after 7.3 s
    logger = Logger(
        sheet, find_profile("fichte-8-saw"), Plant(courses=courses), clock, Disturbances()
    )
    device = lw.Device(sheet, MemoryLink(logger))
    text = CARRIAGE.partition("channels:")[0] + (
        "channels:\n"
        "  turns: {terminal: P2, signal: counter}\n"
        "  way: {computed: 'increase(turns, 65536)'}\n"
    )
    setup = checked(text)
    lw.upload(setup, device, lw.UploadOptions(tmp_path, PASSWORDS))
    found = list(lw.samples(setup, device, period_s=0.5, duration_s=30, clock=clock.clock))
    ways = np.array([s["way"] for s in found])
    assert np.all(np.diff(ways) >= 0)
    assert ways[-1] - ways[2] == pytest.approx(
        9000 * (found[-1].time_s - found[2].time_s), rel=1e-3
    )
    assert max(s["turns"] for s in found) <= 65535


# ---------------------------------------------------------------------- rating tables


def test_the_table_of_a_flow_is_the_same_whoever_computes_it(leitwerk, tmp_path):
    path = tmp_path / "race.yaml"
    path.write_text(RACE, "utf-8")
    by_device = leitwerk("rating", str(path), "flow", "--every", "10 cm", "--json")
    text = RACE.replace("reading: level\n", "reading: level\n    unit: cm\n")
    for old, new in (
        ("0.31 ± 0.02 m", "31 ± 2 cm"), ("0.9 m, clear: 0.8 m", "90 cm, clear: 80 cm"),
        ("shows: flow", "shows: level"), ("span: 0..500 l/s", "span: 0..1 m"),
    ):  # fmt: skip
        text = text.replace(old, new)
    path.write_text(text, "utf-8")
    by_leitwerk = leitwerk("rating", str(path), "flow", "--every", "10 cm", "--json")
    assert by_device.exit_code == by_leitwerk.exit_code == 0, by_leitwerk.output
    one, other = json.loads(by_device.stdout)["rows"], json.loads(by_leitwerk.stdout)["rows"]
    assert [r["input"] for r in one] == pytest.approx([r["input"] / 100 for r in other])
    assert [r["value"] for r in one] == pytest.approx([r["value"] for r in other])
    assert [r["per_millimetre"] for r in one] == pytest.approx([r["per_millimetre"] for r in other])
    beyond = leitwerk(
        "rating", str(path), "flow", "--from", "1 cm", "--to", "200 cm", "--every", "50 cm"
    )
    assert beyond.stdout.count("extrapolated") == 2
    assert "above range" in beyond.stdout


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("balance",), "no table of one input"),
        (("air_top",), "no table of one input"),
        (("ajar", "--from", "0", "--to", "1"), "depends on the time"),
        (("lost",), "no table of one input"),
        (("nothing",), "there is no channel"),
    ],
)
def test_channels_without_a_table(leitwerk, tmp_path, words, says):
    path = tmp_path / "air.yaml"
    path.write_text(AIR, "utf-8")
    shown = leitwerk("rating", str(path), *words)
    assert (shown.exit_code, says in shown.stderr) == (2, True), shown.output
