"""Every entry of a setup is accounted for, once; and what a datasheet cannot store is not a note."""

import ast
import re
from importlib import resources

import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import EXAMPLES, KILN, ROOT, checked, kept, kiln
from leitwerk.check.account import Fate, leaves
from leitwerk.datasheet.vocabulary import VOCABULARY
from leitwerk.parsing.yaml_text import Map
from leitwerk.setup.model import setup_schema

NAMES = sorted(path.name for path in EXAMPLES.iterdir() if path.name.endswith(".yaml"))
SHEETS = resources.files("leitwerk") / "datasheets"
FICHTE = (SHEETS / "fichte-8.yaml").read_text("utf-8")
# Keys that no example has, where they may stand: in a channel, at the top of the file.
MORE = {
    "channel": [
        "group: slow", "sensor_serial: P-1",
        "time_constant: 5 s", "tare: [{offset: 1, taken: 2026-03-02T08:40Z}]",
        "shunt: 250 Ω", "leads: 0.5 Ω", "inputs: newest within 30 s",
        "inputs: at the slowest", "like: air_top", "circular: no",
        "pulses: {gate: 1 s, filter: 1 ms, missing: lost, after: 3 s}",
        ("alarms: {a: {inside: 40..50 °C, hysteresis: 1 K}, b: {falls: 5 K, within: 5 min, latch: yes},"
        " c: {changes: 9 K, within: 5 min, clears_after: 10 s}}"),
        ("calibration: {date: 2026-03-02, due: 2027-03-02, reference: R-1, uncertainty: 0.2 K,"
        " found: {0 °C: 0.1 °C, 50 °C: 50.2 °C}, correct: offset and gain, before: {0 °C: 0.3 ± 0.1 °C},"
         " left: {0 °C: 0 °C}, certificate: C-7, conditions: {temperature: 23 °C}}"),
    ],
    "top": [
        "store: every 1 min", "mains: 60 Hz", "when_full: overwrite", "report: every 1 h",
        "autonomy: 3 d", "integration: 20 ms", "groups: {slow: {store: every 10 min}}",
        "records: {carrier: {rows: [{name: A}], unused: left, file: a.csv}}",
        "settings_from: {set: battery-charging, chemistry: lead, cells: 6, capacity: 80 A·h}",
        "constants: {rho: 998 kg/m³}", "tables: {gears: {1: 43/15}}",
        "made_from: {template: kiln, version: 1, parameters: {kiln: 2}}",
        "settings: {name: KILN-2}", "secrets: [network.key]",
        ("papers: {header: {load: Tonewood}, logo: a.png, judged: {g: {alarms: [a.b], at_most: 30 min}},"
         " shares: {s: {channels: [a], within: 0..1, each: 10 min, value: root mean square, at_least: 95 %}},"
         " exposure: {level: a, uncertainty: 1 dB}, totals: {channels: [a], each: day, highest_mean: 1 h,"
         " tariffs: {day: Mo-Fr, night: other}, holidays: [2026-12-24]}}"),
        "statistics: mean, maximum", "contact_list: people.yaml",
        "services: {broker: 'mqtt+tcp://127.0.0.1:1883'}",
        "contacts: {yard: {web: 'http://127.0.0.1:1/x', topic: yard/alarm}}",
        "outputs: {fan: {terminal: R2, normal: on, safe: off, least_off: 3 s}}",
        ("exchanges: {yard: {at: 'text+serial:///dev/ttyUSB9', line: 9600,8N1, flow: none, wires: RS-485,"
         " turn_around: 5 ms, address: '#1 ', partner: yard, manner: machines, says: {"
         "start: STX,"
         " encoding: utf-8, decimal_sign: ',', longest: 99, spaces: keep, values: several, confirms: OK,"
         " refuses: NO, messages: {a: {keyword: A, at_most: once in 1 s, enabled: no, asks: b, fields:"
         " [{time: iso}, {counter: 3}, {device: serial}, {setting: name}, {state: x}, {text: A},"
         " {given: time, layout: iso, longest: 9, hexadecimal: no, name: t, times: 1, digits: 3,"
         " exponent: no, width: 9, pad: zeros, unit: no, before: '<', after: '>', bad: x,"
         " states: {on: 1}}]}}},"
         " understands: {keywords: {b: {keyword: B, errors: no, answer: nothing, values: [{integer: yes},"
         " {hexadecimal: yes}, {state: yes, states: {on: 1}}, {constant: C}]}}}}}"),
        ("triggers: {dip: 90 %, swell: 110 %, interruption: 5 %, hysteresis: 2 %, change: 5 %,"
         " transient: 30 %, inrush: 100 A, power: 10 kW, before: 100 ms, after: 100 ms}"),
        "places: {1: {id: 12, kind: gauge, label: a, channel: b}}",
        "radio: {group: 3, band: 868 MHz, role: receiver}",
        "schedule: {a: {stores: trends, every: 1 min}, b: {stores: events, at_most: 5}}",
        ("sound: {corrections: {windscreen: {4 kHz: 0.3 dB}}, start: above 80 dB, audio: 5 s,"
         " erase_back: 5 s, integration: 2 s, range: 30..120 dB, calibrator: {level: 94 dB, frequency: 1 kHz,"
         " correction: 0.1 dB, before: 94 dB, after: 94 dB, drift: 0.4 dB}, evaluations: {a: {time: slow,"
         " stores: all, bands: octave, lowest: 63 Hz, highest: 8 kHz, peak: yes}}}"),
        ("wiring: {system: split-phase, nominal: 120 V, voltages: direct, currents: 1 mV/A,"
         " rotation: L1 L3 L2, power: import, least_current: 1 A}"),
        "rules: {night: {when: every 10 min, do: {log: still here}, quiet: '20:00..06:00'}}",
    ],
}  # fmt: skip


def test_every_key_of_a_setup_is_among_those_that_are_drawn():
    """A new key without an end in the account would else pass unseen."""
    texts = [(EXAMPLES / name).read_text("utf-8") for name in NAMES]
    drawn = "\n".join([*texts, *MORE["channel"], *MORE["top"]])
    schema = setup_schema()
    for part in (schema, *schema["$defs"].values()):
        for key in part.get("properties", {}):
            assert re.search(rf"\b{key}:", drawn), key


@given(st.data())
def test_every_entry_of_a_setup_ends_in_exactly_one_way(data):
    text = (EXAMPLES / data.draw(st.sampled_from(NAMES))).read_text("utf-8")
    lines = text.splitlines()
    for extra in data.draw(st.sets(st.sampled_from(MORE["top"]), max_size=3)):
        if not re.search(rf"^{extra.partition(':')[0]}:", text, re.MULTILINE):
            lines.append(extra)
    at = [
        k
        for k, line in enumerate(lines)
        if re.match(r" {4}(terminal|reading|computed|label): ", line)
    ]
    # A setup without channels, as that of a receiver, has no place for their keys.
    most = 2 if at else 0
    for extra in data.draw(st.sets(st.sampled_from(MORE["channel"]), max_size=most)):
        where = data.draw(st.sampled_from(at))
        lines.insert(where, f"    {extra}")
        at = [k + (k >= where) for k in at]
    broken = data.draw(st.none() | st.sampled_from(range(len(lines))))
    if broken is not None:
        lines[broken] = re.sub(r"\d", "7", lines[broken])
    try:
        found = checked("\n".join(lines))
    except (lw.SetupError, lw.FileProblem):
        return  # it is not a setup: nothing of it is done
    account, root = found.account, found.setup.source.root
    assert isinstance(root, Map)
    assert [entry.path for entry in account.entries] == list(leaves(root))
    assert sum(account.count(fate) for fate in Fate) == len(account.entries)
    assert not any("no use for" in entry.how for entry in account.entries)
    # Refused is what has an error, and nothing else; stored is what some setting is asked for.
    assert (account.count(Fate.REFUSED) > 0) <= (not found.ok)
    wished = {wanted.path for wanted in found.wanted if found.datasheet.has(wanted.known)}
    for entry in account.entries:
        if entry.fate is Fate.STORED and found.ok:
            ways = (entry.path[:k] for k in range(1, len(entry.path) + 1))
            near = any(w[: len(entry.path)] == entry.path for w in wished) or any(
                way in wished for way in ways
            )
            further = entry.path[0] == "settings" and entry.path[1] in found.settings.values
            own = entry.path[0] in {"channels", "outputs"} and any(
                w[:2] == entry.path[:2] for w in wished
            )
            assert near or further or own, entry


def test_the_account_in_three_lines():
    guard = checked((EXAMPLES / "kiln-guard.yaml").read_text("utf-8"))
    stored, worked, people = guard.account.lines()
    assert stored.endswith(" entries stored in the device and read back")
    assert "; only while 'leitwerk attend' runs: alarm air_top.fast, alarm air_top.stuck" in worked
    assert people == f"{guard.account.count(Fate.PEOPLE)} for people only, 0 refused"
    assert "leitwerk attend" not in kiln().account.lines()[1]


# ---------------------------------------------------------------------- what cannot be stored


def test_a_mistyped_name_in_a_datasheet_refuses_what_it_would_store(tmp_path, leitwerk):
    slip = FICHTE.replace("  channel.{n 1..12}.range:", "  channel.{n 1..12}.rnage:")
    assert slip != FICHTE
    sheet = lw.parse_datasheet(slip, file="fichte-8.yaml")
    assert "did you mean 'channel.{n}.range'?" in "\n".join(map(str, sheet.doubts))
    found = lw.check_setup(lw.parse_setup(KILN, file="kiln.yaml"), sheet)
    errors = {f.path: f for f in found.findings if f.is_error}
    assert errors["channels.air_top.range"].rule == "cannot-store"
    assert "doubtful-datasheet" in {f.rule for f in found.findings}
    with pytest.raises(lw.SetupError):
        found.require()
    # A setup that names no range is told that none is set.
    without = re.sub(r"^ *range: .*\n", "", KILN, flags=re.MULTILINE)
    rules = {f.rule for f in lw.check_setup(lw.parse_setup(without), sheet).findings}
    assert "range-not-set" in rules
    (tmp_path / "slip.yaml").write_text(slip, encoding="utf-8")
    (tmp_path / "kiln.yaml").write_text(KILN, encoding="utf-8")
    checking = leitwerk(
        "check", str(tmp_path / "kiln.yaml"), "--datasheet", str(tmp_path / "slip.yaml")
    )
    assert (checking.exit_code, "has no setting channel.{n}.range" in checking.stdout) == (1, True)


@pytest.mark.parametrize(
    ("line", "key"),
    [
        ("channel.{n 1..12}.unit:", None),  # Leitwerk shows the unit itself
        ("channel.{n 1..12}.label:", None),  # for people
        ("sample.interval:", "sample"),
        ("channel.{n 1..12}.sensor:", "channels.air_top.sensor"),
        ("alarm.{k 1..12}.trip:", None),  # then Leitwerk watches the alarm, and says so
    ],
)
def test_what_a_model_lacks_is_an_error_or_worked_and_said(line, key):
    head = f"  {line}"
    assert head in FICHTE
    lacking = re.sub(rf"^{re.escape(head)}.*\n(?:    .*\n)*", "", FICHTE, flags=re.MULTILINE)
    found = lw.check_setup(lw.parse_setup(KILN), lw.parse_datasheet(lacking))
    errors = {f.path for f in found.findings if f.is_error}
    assert (key in errors) if key else not errors, found.findings
    if "trip" in line:
        assert "alarm air_top.too_hot" in found.account.lines()[1]
        assert "host-only" in {f.rule for f in found.findings}


# ---------------------------------------------------------------------- what a setup does not name


def test_a_relay_of_an_earlier_setup_does_not_fire_for_the_new_alarm(device, logger, tmp_path):
    guard = checked((EXAMPLES / "kiln-guard.yaml").read_text("utf-8"))
    lw.upload(guard, device, kept(tmp_path))
    assert device.read_settings().values["relay.1.alarms"] == 1.0
    plan = lw.plan_upload(kiln(), device)
    assert "not used, cleared: channel 7, 8, 10..12, alarm 3..12, relay 1, 2" in str(plan)
    assert ("relay.1.alarms", 1.0, 0.0) in [(c.setting, c.old, c.new) for c in plan.changes]
    lw.upload(kiln(), device, kept(tmp_path))
    assert device.read_settings().values["relay.1.alarms"] == 0.0
    # The alarm that is number 1 now is held active: the relay does not move.
    number = kiln().settings.values["alarm.1.channel"]
    terminal = next(t.name for t in device.datasheet.terminals.values() if t.slot == number)
    logger.disturbances.reversed.add(terminal)
    for _ in range(60):
        logger.clock.wait(1.0)
        logger.tick()
    assert device.status_points()["relay.1.state"] == "off"


# ---------------------------------------------------------------------- one vocabulary


def test_names_of_points_stand_in_one_place():
    """As literals in code, nowhere but in the vocabulary."""
    names = {name for _, name in VOCABULARY if "." in name}
    parts = {name.partition("{")[0] + name.partition("}")[2] for name in names}
    source = ROOT / "src" / "leitwerk"
    found = []
    for path in source.rglob("*.py"):
        if path.parts[-2] == "standins" or path.name == "vocabulary.py":
            continue  # a stand-in has readings of its own
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.JoinedStr):
                text = "".join(v.value for v in node.values if isinstance(v, ast.Constant))
                hit = "{" not in text and text in parts and text.count(".") > 1
            else:
                hit = isinstance(node, ast.Constant) and node.value in names
            if hit:
                found.append(f"{path.relative_to(source)}:{node.lineno}")
    assert found == []


def test_empty_groups_and_an_interval_of_nothing_are_no_traceback():
    head = (
        "leitwerk: 1\ntitle: x\ndevice: {model: fichte-8, at: 'modbus+tcp://h:1?unit=1', serial: 1}\n"
        "sample: every 10 s\n"
    )
    groups = ["channels", "outputs", "rules", "settings", "schedule", "groups", "contacts"]
    empty = checked(head + "".join(f"{group}: {{}}\n" for group in groups) + "secrets: []\n")
    assert empty.ok
    assert len(empty.account.entries) == 14
    for key in ("sample", "store", "report"):
        with pytest.raises(lw.SetupError, match="is not an interval"):
            checked(head.replace("sample: every 10 s", f"{key}: every 0 s") + "channels: {}\n")
