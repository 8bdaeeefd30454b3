"""Templates: filled in, answered in a terminal up to a verified kiln, left, and brought up to date."""

import os
import pty
import re
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from leitwerk.errors import QuantityError, SetupError
from leitwerk.findings import Findings
from leitwerk.parsing.cells import plain_data
from leitwerk.parsing.yaml_text import parse_yaml
from leitwerk.project.templates import find_template, known_templates
from leitwerk.setup.template import parse_template
from leitwerk.setup.template_text import fill_in, renew_text

KILN = {"model": "fichte-8", "at": "modbus+tcp://127.0.0.1:5020?unit=3", "serial": "K2-00417"}
OVEN = """\
# What the shop has proven.
template: 1
name: oven
version: 1
summary: A drying oven
fits: [fichte-8]
wiring: {1: Pt100 at the ceiling}
parameters:
  name: {ask: Name, help: On the door, text: 30, default: oven}
  limit: {ask: Highest temperature, help: Of the air, span: 40..120 °C, default: 90 °C}
  sensors: {ask: How many, help: In the row, repeats: 0..3, default: 2, each: {terminal: [1, 2, 5]}}
  wires:
    ask: Wires
    help: As they are clamped
    default: four
    choices:
      four: {sensor: "Pt100, 4-wire"}
      three: {sensor: "Pt100, 3-wire", leads: 0.2 Ω}
setup:
  leitwerk: 1
  title: <name>
  device: {model: <model>, at: <at>, serial: <serial>}
  sample: every 10 s
  channels:
    # One for each sensor.
    air_<sensors>:
      label: Sensor <sensors>     # of the row
      terminal: <sensors.terminal>
      <wires>: here
      alarms: {hot: {above: <limit>, hysteresis: 3 K}}

    room:
      terminal: 8
      sensor: type K
"""


def data(text):
    return plain_data(parse_yaml(text, Findings("x")))


def slowly(values, terminals=("1", "2", "5")):
    """What the oven must be, without a text: by hand from its file."""
    limit, count = values.get("limit", "90 °C"), int(values.get("sensors", "2"))
    own = {"sensor": "Pt100, 4-wire"}
    if values.get("wires") == "three":
        own = {"sensor": "Pt100, 3-wire", "leads": "0.2 Ω"}
    channels = {
        f"air_{n}": {"label": f"Sensor {n}", "terminal": terminals[n - 1], **own,
                     "alarms": {"hot": {"above": limit, "hysteresis": "3 K"}}}
        for n in range(1, count + 1)
    }  # fmt: skip
    channels["room"] = {"terminal": "8", "sensor": "type K"}
    return {"leitwerk": "1", "title": values.get("name", "oven"), "device": KILN,
            "sample": "every 10 s", "channels": channels}  # fmt: skip


values_of_oven = st.fixed_dictionaries(
    {},
    optional={
        "name": st.text("aB 7:#'\"[]{}<>-%&,°", min_size=1, max_size=12)
        .map(str.strip)
        .filter(bool),
        "limit": st.integers(40, 120).map(lambda n: f"{n} °C"),
        "sensors": st.integers(0, 3).map(str),
        "wires": st.sampled_from(["four", "three"]),
    },
)


@given(values_of_oven)
def test_a_template_is_filled_in_as_by_hand(values):
    made = fill_in(parse_template(OVEN), values, KILN)
    found = data(made.text)
    assert found.pop("made_from")["template"] == "oven"
    assert found == slowly(values)
    if found["channels"].get("air_1"):
        assert made.text.count("# of the row") == int(values.get("sensors", "2"))
        assert made.chosen["channels", "air_1", "alarms", "hot", "above"] == "limit"


@given(values_of_oven, values_of_oven, st.data())
def test_a_renewal_takes_over_what_changed_and_keeps_what_was_changed_by_hand(old, new, draw):
    """Against a merge of plain data, entry by entry."""
    template = parse_template(OVEN)
    base, newer = (fill_in(template, values, KILN) for values in (old, new))
    mine = base.text
    by_hand = draw.draw(
        st.sets(st.sampled_from(["sample: every 10 s", "sensor: type K", "terminal: 8"]))
    )
    for number, line in enumerate(sorted(by_hand)):
        key = line.partition(":")[0]
        mine = mine.replace(line, f"{key}: changed {number}   # by hand", 1)
    after, changes = renew_text(mine, base.text, newer.text)
    wanted = data(newer.text)
    for number, line in enumerate(sorted(by_hand)):
        place = wanted if line.startswith("sample") else wanted["channels"]["room"]
        place[line.partition(":")[0]] = f"changed {number}"
    assert data(after) == wanted
    assert after.count("# by hand") == len(by_hand)
    before, then = data(base.text), data(newer.text)
    before.pop("made_from"), then.pop("made_from")
    assert (changes == []) == (before == then)
    assert not [change for change in changes if change.done == "kept"]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (("<limit>", "<limt>"), "no parameter 'limt'"),
        (("<sensors.terminal>", "<sensors.slot>"), "stands for nothing here"),
        (("terminal: [1, 2, 5]", "terminal: [1, 2]"), "2 values for up to 0..3 repeats"),
        (("default: 90 °C", "default: 190 °C"), "out of the span"),
        (("default: 90 °C", "default: 3 bar"), "limit: bar is a unit of pressure"),
        (("span: 40..120 °C, ", ""), "needs one of span, choices, text, repeats"),
        (("name: {ask", "model: {ask"), "is not a name for a parameter"),
        (("leads: 0.2 Ω", "leads: <limit>"), "hold a placeholder"),
        (("<wires>: here", "<limit>: here"), "names no parameter that repeats or has choices"),
        (("setup:\n", "set up:\n"), "a template ends with its setup"),
        (("version: 1", "version: one"), "is not a version"),
        (("summary: A drying oven\n", ""), "the key 'summary' is missing"),
    ],
)
def test_mistakes_in_a_template_are_named(change, says):
    with pytest.raises(SetupError, match=re.escape(says)):
        parse_template(OVEN.replace(*change))


@pytest.mark.parametrize(
    ("name", "value", "says"),
    [
        ("limit", "39 °C", "out of the span"),
        ("limit", "400 K", "out of the span"),
        ("sensors", "1.5", "not a whole number"),
        ("wires", "two", "not among the choices"),
        ("name", "x" * 31, "does not fit"),
        ("odd", "1", "has no parameter 'odd'"),
    ],
)
def test_a_value_that_a_parameter_cannot_have_is_refused(name, value, says):
    with pytest.raises(QuantityError, match=says):
        fill_in(parse_template(OVEN), {name: value}, KILN)


def test_a_quantity_in_another_unit_is_kept_in_that_of_the_span():
    made = fill_in(parse_template(OVEN), {"limit": "353.15 K"}, KILN)
    assert data(made.text)["made_from"]["parameters"]["limit"] == "80 °C"


def talk(words, cwd, answers, **environment):
    """What a command prints in a terminal, and its exit code; each question gets the answer that fits it."""
    near, far = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "leitwerk", *words], cwd=cwd, stdin=far, stdout=far, stderr=far,
        env={**os.environ, "TERM": "xterm", "NO_COLOR": "1", "COLUMNS": "200", **environment},
    )  # fmt: skip
    os.close(far)
    shown, asked = "", 0
    while True:
        try:
            shown += os.read(near, 65536).decode(errors="replace")
        except OSError:
            break
        for question, answer in list(answers):
            if question in shown[asked:] and shown.endswith(": "):
                asked = len(shown)
                answers.remove((question, answer))
                os.write(near, f"{answer}\n".encode())
                break
    os.close(near)
    return shown.replace("\r\n", "\n"), process.wait()


@pytest.mark.process
def test_from_nothing_to_a_verified_kiln_by_a_script_in_a_terminal(
    standin, tmp_path, leitwerk, monkeypatch
):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "1834")
    logger = standin()
    answers = [
        ("Address of the device", str(logger.address)), ("Number of the kiln", "7"),
        ("What the run is called", ""), ("Sensor of the air", "?"), ("Sensor of the air", "Pt100"),
        ("Highest temperature of the air", "200 °C"), ("Highest temperature of the air", "76 °C"),
        ("Lowest humidity", ""), ("How many timber cores", "1"),
    ]  # fmt: skip
    shown, code = talk(["begin", "kiln", "kiln.yaml", "--sheet", "sheet.pdf"], tmp_path, answers)
    assert (code, answers) == (0, []), shown
    assert "Those of the library have their uncertainty" in shown  # the help
    assert "200 °C is out of the span" in shown
    assert re.search(
        r"1 +air_top: Air above the stack .* 108\.4 Ω = 21\.5 °C +too_hot: 129\.4 Ω = 76 °C", shown
    )
    assert Path("sheet.pdf").read_bytes().startswith(b"%PDF")
    made = lw.read_setup("kiln.yaml")
    assert (made.setup.title, made.setup.device.serial) == ("Kiln 7, spring drying run", "K2-00417")
    assert made.findings == ()
    assert "settings changed" in leitwerk("upload", "kiln.yaml").output
    live = leitwerk("live", "kiln.yaml", "--for", "0.5 s")
    assert "PASSED: 7 of 7" in live.output, live.output
    # One sensor is replaced: the check names it, and the device takes it.
    done = leitwerk("replace-sensor", "kiln.yaml", "air_top", "--sensor", "kiln-pt100", "--sensor-serial",
                    "R100-0214", "--write")  # fmt: skip
    assert done.exit_code == 0, done.output
    assert "alarm too_hot trips above 76 °C: stays, 129.4 Ω → 129.4 Ω" in done.output
    replaced = lw.read_setup("kiln.yaml")
    assert (
        str(replaced.setup.channels["air_top"].calibration.reference)
        == "Reference thermometer RT-7"
    )
    assert {f.rule for f in replaced.findings} >= {"changed-parameter", "calibration-missing"}
    assert "changed" in leitwerk("upload", "kiln.yaml").output


@pytest.mark.process
def test_a_new_version_is_taken_over_and_a_change_by_hand_stays(tmp_path, leitwerk, monkeypatch):
    monkeypatch.chdir(tmp_path)
    old = fill_in(find_template("kiln", 1), {"too_hot": "80 °C"}, KILN).text
    mine = old.replace("expect: 40 ± 1 %", "expect: 42 ± 1 %   # turned in March")
    mine = mine.replace("    terminal: 4\n", "    terminal: 8\n").replace(
        "  door:", "  # the door sticks\n  door:"
    )
    Path("kiln.yaml").write_text(mine, "utf-8")
    found = {f.rule: f for f in lw.check_file("kiln.yaml").findings}
    assert found["newer-template"].path == "made_from.version"
    assert (
        "terminal: '4' there, '8' here" in found["left-template"].message
        or "expect" in found["left-template"].message
    )
    shown = leitwerk("renew", "kiln.yaml")
    assert shown.exit_code == 1
    assert Path("kiln.yaml").read_text("utf-8") == mine
    assert leitwerk("renew", "kiln.yaml", "--with", "too_dry=30 %", "--write").exit_code == 0
    after = Path("kiln.yaml").read_text("utf-8")
    for kept in (
        "# turned in March",
        "# the door sticks",
        "terminal: 8",
        "above: 80 °C",
        "# Wood cracks",
    ):
        assert kept in after, after
    assert "below: 30 %" in after
    assert "version: 2" in after
    assert "nothing to do" in leitwerk("renew", "kiln.yaml").stderr
    assert leitwerk("renew", "kiln.yaml", "--with", "too_hot=20 °C").exit_code == 2


@pytest.mark.parametrize(
    ("change", "rule"),
    [
        (("version: 2", "version: 7"), "template-missing"),
        (("template: kiln", "template: klin"), "template-missing"),
        (("too_hot: 78 °C\n", "too_hot: 7 bar\n"), "template-unusable"),
        (("  sample: every 10 s", "  sample: every 10 s"), None),
        (("    terminal: D1", "    terminal: D2"), "left-template"),
        (("above: 78 °C", "above: 79 °C"), "changed-parameter"),
        (
            ("label: Timber core 1", "label: Timber core 1\n    time_constant: 40 s"),
            "more-than-template",
        ),
    ],
)
def test_where_a_setup_has_left_its_template(tmp_path, change, rule):
    made = fill_in(find_template("kiln"), {}, KILN).text
    file = tmp_path / "kiln.yaml"
    file.write_text(made.replace(*change), "utf-8")
    rules = {finding.rule for finding in lw.check_file(file).findings}
    assert rules == ({rule} if rule else set())


def test_what_a_version_adds_goes_between_the_braces_of_a_group_that_stands_in_one_line():
    hot = "hot: {above: <limit>, hysteresis: 3 K}"
    block = OVEN.replace(
        f"alarms: {{{hot}}}", f"alarms:\n        {hot}\n        cold: {{below: 5 °C}}"
    )
    base, newer = (fill_in(parse_template(text), {}, KILN).text for text in (OVEN, block))
    after, changes = renew_text(base, base, newer)
    assert data(after) == data(newer)
    assert [change.done for change in changes] == ["added", "added"]


def test_one_s_own_template_stands_before_a_shipped_one(tmp_path, leitwerk, monkeypatch):
    monkeypatch.chdir(tmp_path)
    Path("templates").mkdir()
    Path("templates/mine.yaml").write_text(OVEN.replace("name: oven", "name: saw-hall", 1), "utf-8")
    assert find_template("saw-hall").entry.summary == "A drying oven"
    assert "saw-hall" in known_templates()
    words = [
        "begin",
        "saw-hall",
        "a.yaml",
        "--at",
        KILN["at"],
        "--model",
        "fichte-8",
        "--serial",
        "X",
    ]
    Path("answers.yaml").write_text("limit: 95 °C\nsensors: 1\n", "utf-8")
    done = leitwerk(*words, "--answers", "answers.yaml")
    assert done.exit_code == 0, done.stderr
    assert "above: 95 °C" in Path("a.yaml").read_text("utf-8")
    assert leitwerk(*words).exit_code == 2  # the file is there
    words[2] = "b.yaml"
    assert "not given: address" in leitwerk("begin", "saw-hall", "b.yaml").stderr
    words[6] = "linde"
    assert "is not for linde" in leitwerk(*words).stderr
