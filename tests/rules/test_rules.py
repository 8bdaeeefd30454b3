"""Rules: conditions, what is due and when, outputs within their times, texts, and the check of it all."""

import json
import math
import time
from importlib import resources

import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import EXAMPLES
from leitwerk.alarms.conditions import holds, parse_condition
from leitwerk.check.compile import check_setup
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import Quantity
from leitwerk.project.library import Library
from leitwerk.rules.definition import Change, Escalation, Happening, Notify, Rule, Trigger, WriteLog
from leitwerk.rules.engine import Engine
from leitwerk.rules.message_text import fill, message_parts, names_in
from leitwerk.rules.switches import Switch, Switches
from leitwerk.setup.model import draft_setup

GUARD = (EXAMPLES / "kiln-guard.yaml").read_text("utf-8")
DO = (WriteLog("x"),)


class Facts:
    """What tests say is so."""

    def __init__(self, time_of_day_s=0.0, **known):
        self.time_of_day_s = time_of_day_s
        self.known = known

    def value(self, channel):
        return self.known.get(channel)

    def states(self, subject):
        found = self.known.get(subject.replace(".", "_"))
        return None if found is None else frozenset(found.split("+"))


# ---------------------------------------------------------------------- conditions

A, B, T = "air above 40", "door is ajar", "time 22:00..06:00"


@pytest.mark.parametrize(
    ("condition", "facts", "want"),
    [
        (A, Facts(air=41.0), True),
        (A, Facts(air=40.0), False),
        (A, Facts(), None),
        ("air below 40", Facts(air=39.0), True),
        (B, Facts(door="ajar"), True),
        ("door is not ajar", Facts(door="shut"), True),
        ("door is not ajar", Facts(), None),
        ([A, B], Facts(air=10.0), False),  # false decides, whatever is unknown
        ([A, B], Facts(air=50.0), None),
        ({"any of": [A, B]}, Facts(air=50.0), True),
        ({"any of": [A, B]}, Facts(air=10.0), None),
        ({"not": {"any of": [A, B]}}, Facts(air=10.0, door="shut"), True),
        ("kiln.hot is active", Facts(kiln_hot="unacknowledged+active"), True),
        (T, Facts(22 * 3600.0), True),
        (T, Facts(6 * 3600.0), False),
        (T, Facts(5 * 3600.0), True),
        ("time 08:00..16:00", Facts(16 * 3600.0), False),
    ],
)
def test_conditions_hold_or_not_or_are_unknown(condition, facts, want):
    parsed = parse_condition(condition)
    assert holds(parsed, facts) is want
    if isinstance(condition, str):
        assert parse_condition(str(parsed)) == parsed


@pytest.mark.parametrize(
    "wrong",
    ["", "air > 40", "air above", "door", "time 25:00..06:00", "time 22:00..06:61", [], {}, {"or": [A]},
     {"all of": A}, {"all of": []}, None, 5, "x" * 300, [[[[[[[[[[A]]]]]]]]]]],
)  # fmt: skip
def test_what_is_no_condition_says_what_one_is(wrong):
    with pytest.raises(QuantityError) as error:
        parse_condition(wrong)
    assert error.value.valid


# ---------------------------------------------------------------------- the engine


def run(rule, *moments):
    """How many actions are due at each moment (time, facts or happening)."""
    engine = Engine([rule])
    due = []
    for now, what in moments:
        happened = [what] if isinstance(what, Happening) else []
        facts = what if isinstance(what, Facts) else Facts()
        due.append(len(engine.step(now, int(now // 86_400), facts, happened)))
    return due


def when(text, **more):
    return Rule("r", Trigger(condition=parse_condition(text)), DO, **more)


HOT, COLD, LOST = Facts(air=50.0), Facts(air=10.0), Facts()
AJAR, SHUT = Facts(air=50.0, door="ajar"), Facts(air=50.0, door="shut")
DAILY = [(0, 0.0), (3600, 3600.0), (7200, 7200.0), (86_400, 0.0), (90_100, 3700.0)]
TIMES = {
    "at the start, and once": (when(A), [(0, HOT), (1, HOT)], [1, 0]),
    "each time": (when(A), [(0, COLD), (1, HOT), (2, COLD), (3, HOT)], [0, 1, 0, 1]),
    "unknown ends nothing": (when(A), [(0, HOT), (1, LOST), (2, HOT)], [1, 0, 0]),
    "unknown begins nothing": (when(A), [(0, LOST), (1, HOT)], [0, 1]),
    "not, from the start": (when("door is not ajar"), [(0, SHUT)], [0]),
    "not any more": (when("door is not ajar"), [(0, AJAR), (1, SHUT)], [0, 1]),
    "conditions that come later": (when(A, only_if=parse_condition(B)), [(0, SHUT), (1, AJAR)], [0, 1]),
    "again": (when(A, again_s=10.0), [(0, HOT), (9, HOT), (10, HOT), (15, HOT), (20, HOT)],
              [1, 0, 1, 0, 1]),
    "at most": (when(A, pause_s=60.0), [(0, HOT), (5, COLD), (6, HOT), (59, COLD), (61, HOT)],
                [1, 0, 0, 0, 1]),
    "a timer makes up for nothing": (Rule("r", Trigger(every_s=10.0), DO),
                [(9, LOST), (10, LOST), (11, LOST), (45, LOST), (50, LOST)], [0, 1, 0, 1, 1]),
    "daily": (Rule("r", Trigger(daily_s=3600), DO), [(t, Facts(day)) for t, day in DAILY],
              [0, 1, 0, 0, 1]),
    "a message": (Rule("r", Trigger(message="STATUS"), DO),
                  [(0, Happening("Status", "ida")), (1, Happening("STOP", "ida"))], [1, 0]),
    "an event": (Rule("r", Trigger(event="lost"), DO),
                 [(0, Happening(event="lost")), (1, Happening(event="found"))], [1, 0]),
}  # fmt: skip


@pytest.mark.parametrize(("rule", "moments", "want"), TIMES.values(), ids=TIMES)
def test_a_rule_acts_when_it_should(rule, moments, want):
    assert run(rule, *moments) == want


def test_notifications_wait_for_the_end_of_quiet_hours_and_nothing_is_lost():
    tell = (Notify(("ida",), "hot"), WriteLog("hot"))
    rule = Rule("r", Trigger(condition=parse_condition(A)), tell, quiet=parse_condition(T))
    engine = Engine([rule])
    night, morning = Facts(23 * 3600.0, air=50.0), Facts(6 * 3600.0, air=10.0)
    assert [type(d.action) for d in engine.step(0.0, 0, night)] == [WriteLog]
    kept = json.loads(json.dumps(engine.to_dict(0.0)))
    engine = Engine([rule])
    engine.resume(kept, 1.0, 1.0)  # another process
    (late,) = engine.step(1.0, 1, morning)
    assert (late.action, "kept back" in late.why) == (tell[0], True)


def test_escalation_when_nobody_acknowledges():
    rule = when("kiln.hot is active", escalation=Escalation(60.0, (WriteLog("help"),)))
    seen, unseen = Facts(kiln_hot="acknowledged+active"), Facts(kiln_hot="unacknowledged+active")
    assert run(rule, (0, unseen), (59, unseen), (60, unseen), (120, unseen)) == [1, 0, 1, 0]
    assert run(rule, (0, unseen), (30, seen), (60, seen)) == [1, 0, 0]
    assert run(rule, (0, unseen), (30, Facts(kiln_hot="normal")), (90, unseen)) == [1, 0, 1]


def test_an_engine_goes_on_where_another_stood():
    first, second = Engine([when(A)]), Engine([when(A)])
    assert first.step(0.0, 0, HOT)
    second.resume(json.loads(json.dumps(first.to_dict(0.0))), 0.5, 0.5)
    assert not second.step(1.0, 0, HOT)
    with pytest.raises(ValueError, match="other rules"):
        Engine([]).resume(first.to_dict(0.0), 0.0)


def test_a_change_beyond_the_dead_band_acts_once():
    change = Trigger(change=Change("air", Quantity(0.5)))
    engine = Engine([Rule("m", change, DO, pause_s=10.0)])
    found = [
        (now_s, bool(engine.step(now_s, 1, Facts(air=air))))
        for now_s, air in (
            (0, None), (1, 20.0), (2, 20.4), (20, 20.4), (21, 20.6), (22, 30.0), (30, 30.0), (32, 30.0),
            (50, 30.4),
        )
    ]  # fmt: skip
    assert [now_s for now_s, acted in found if acted] == [1, 21, 32]
    again = Engine(engine.rules)
    again.resume(json.loads(json.dumps(engine.to_dict(50.0))), 60.0)
    assert not again.step(70.0, 1, Facts(air=30.4))
    assert again.step(71.0, 1, Facts(air=30.5))


def test_rules_of_one_name_share_their_pause():
    """A message that waits for two things is said as seldom as one that waits for one of them."""
    heard, timer = Trigger(event="heard x.y"), Trigger(every_s=2.0)
    engine = Engine([Rule("m", trigger, DO, pause_s=5.0) for trigger in (heard, timer)])
    said = [
        now_s for now_s in range(1, 13)
        if engine.step(float(now_s), 1, Facts(), [Happening(event="heard x.y")])
    ]  # fmt: skip
    assert said == [1, 6, 11]


# ---------------------------------------------------------------------- outputs

WISHES = st.lists(
    st.tuples(st.floats(0.1, 4.0), st.sampled_from(["on", "off", "pulse", ""])), max_size=30
)


@given(
    WISHES,
    st.sampled_from([0.0, 1.0, 3.0]),
    st.sampled_from([0.0, 2.0]),
    st.sampled_from([None, 5.0]),
)
def test_an_output_never_switches_too_soon_and_never_stays_unsafe(wishes, on_s, off_s, limit_s):
    switches = Switches([Switch("fan", least_on_s=on_s, least_off_s=off_s, limit_s=limit_s)])
    now, state, since, asked = 0.0, "off", -math.inf, 0.0
    for pause, wish in wishes:
        now += pause
        if wish:
            asked = now
            switches.request(
                "fan",
                "on" if wish == "pulse" else wish,
                now,
                lasts_s=0.5 if wish == "pulse" else None,
            )
        for _, new in switches.due(now):
            assert switches.due(now) == [("fan", new)]  # until it is done
            switches.switched("fan", new, now)
            assert new != state
            assert now - since >= (on_s if state == "on" else off_s)
            state, since = new, now
        if limit_s is not None and now - max(asked, since) >= limit_s + on_s:
            assert state == "off"
    assert switches.states == {"fan": state}
    assert switches.unsafe() == ([("fan", "off")] if state == "on" else [])
    switches.failed("fan")
    assert switches.unsafe() == [("fan", "off")]  # nobody knows what it is


# ---------------------------------------------------------------------- texts


def test_templates_are_filled_and_nothing_else_is_looked_at():
    text = "{{x}} {air_top}: {kiln.hot}"
    assert names_in(text) == ["air_top", "kiln.hot"]
    assert (
        fill(text, lambda name: f"<{name}>{{title}}") == "{x} <air_top>{title}: <kiln.hot>{title}"
    )


@pytest.mark.parametrize(
    "text", ["{", "}", "{}", "{a b}", "{a!r}", "{a:>100}", "{a[0]}", "{a.__class__!s}"]
)
def test_a_brace_without_a_name_is_told(text):
    with pytest.raises(QuantityError, match="not a name in braces"):
        names_in(text)


@pytest.mark.parametrize(
    ("text", "parts"),
    [("x" * 160, 1), ("x" * 161, 2), ("x" * 306, 2), ("x" * 307, 3), ("€" * 80, 1), ("€" * 81, 2),
     ("ł" * 70, 1), ("ł" * 71, 2), ("😀" * 36, 2), ("", 1)],
)  # fmt: skip
def test_how_many_text_messages_a_text_takes(text, parts):
    assert message_parts(text) == parts


# ---------------------------------------------------------------------- the check

NOTIFY = '{notify: foreman, text: "The kiln door stands open"}'
FAN = "    follows: [air_top.too_hot]\n"
MISTAKES = [
    ("when: door.open is active", "when: door.opn is active", "unknown-name", "no alarm 'door.opn'"),
    ("when: door.open is active", "when: door.open is on", "wrong-state", "never 'on'"),
    ("when: door.open is active", "when: dor is ajar", "unknown-name", "no contact, alarm or output"),
    ("when: door.open is active", "when: humidity is high", "wrong-state", "has a number"),
    ("when: door.open is active", "when: door above 1", "wrong-state", "has states and no number"),
    ("when: door.open is active", "when: sometimes", "bad-value", "is not a condition"),
    ("when: door.open is active", "when: every -5 min", "bad-value", "is not a duration"),
    ("when: door.open is active", "when: daily at 24:30", "bad-value", "not a time of day"),
    ("only_if: air_top below 75 °C", "only_if: air_top below 75 V", "wrong-unit", "V is a unit of"),
    ("only_if: air_top below 75 °C", "only_if: air_top above 2000 °C", "never-holds", "can never be true"),
    (NOTIFY, "{notify: baker, text: x}", "unknown-contact", "no contact 'baker'"),
    (NOTIFY, "{notify: foreman}", "bad-value", "'text' is missing"),
    (NOTIFY, '{notify: foreman, text: "{password}"}', "secret-in-text", "reveal a secret"),
    (NOTIFY, '{notify: foreman, text: "{API_KEY}"}', "secret-in-text", "reveal a secret"),
    (NOTIFY, '{notify: foreman, text: "{air_tp}"}', "unknown-name", "nothing is called 'air_tp'"),
    (NOTIFY, '{notify: foreman, text: "{air_top"}', "bad-text", "not a name in braces"),
    (NOTIFY, f'{{notify: foreman, text: "{"x" * 700}"}}', "long-text", "takes 5 text messages"),
    (NOTIFY, '{notify: fire_watch, text: "{serial}"}', "reveals-device", "is outside"),
    (NOTIFY, "{shout: loud}", "bad-value", "an action does one thing, this nothing"),
    (NOTIFY, "{set: horn, pulse: horn}", "bad-value", "an action does one thing"),
    (NOTIFY, "{set: horn, to: maybe}", "bad-value", "'to' on or off"),
    (NOTIFY, "{set: siren, to: on}", "unknown-output", "no switched output 'siren'"),
    (NOTIFY, "{set: fan, to: on}", "output-follows", "follows alarms"),
    (NOTIFY, "{set: horn, to: on}", "never-switched-back", "nothing switches horn off"),
    (NOTIFY, "{change: sample.intervl, to: 5 s}", "unknown-setting", "no setting"),
    (NOTIFY, "{change: sample.interval, to: 5 V}", "not-storable", "V is a unit of"),
    (NOTIFY, "{shelve: door.opn, for: 1 h}", "unknown-name", "no alarm 'door.opn'"),
    ("escalate_after: 15 min", "again: 1 h", "duplicate-key", "again"),
    ("    escalate_after: 15 min\n", "", "missing-key", "belong together"),
    ("at_most: once in 1 h", "at_most: seldom", "bad-value", "says not how often"),
    ("  text_messages: http://127.0.0.1:8081/messages\n", "", "no-service", "text_messages"),
    ("http://127.0.0.1:8081/messages", "http://me:pw@127.0.0.1/m", "bad-value", "holds no password"),
    ("http://127.0.0.1:8081/messages", "ftp://127.0.0.1/m", "bad-value", "not an address of that kind"),
    ("mail: foreman@tannried.example", "mail: foreman", "bad-value", "not a mail address"),
    ("+49 170 0000002, outside: yes", "drop table", "bad-value", "not a telephone number"),
    ("terminal: R1", "terminal: R2", "duplicate-terminal", "already taken by"),
    ("terminal: R1", "terminal: R9", "unknown-terminal", "has no output R9"),
    (FAN, "    follows: [air_top.cold]\n", "unknown-alarm", "no alarm 'air_top.cold'"),
    (FAN, "    follows: [door.open]\n", "host-only", "does not watch door.open itself"),
    (FAN, "    shows: air_top\n", "useless-key", "is a relay"),
    ("zone: Europe/Berlin", "zone: Europe/Berln", "bad-value", "no time zone 'Europe/Berln'"),
    ("start: 2026-03-02 06:00", "start: 2026-03-29 02:30", "bad-time", "does not exist"),
    ("start: 2026-03-03 18:00", "start: 2026-03-03 17:00", "runs-overlap", "while drying still records"),
    ("stop: after 12 h", "stop: 2026-03-01 06:00", "run-reversed", "before it has begun"),
    ("stop: after 12 h", "stop: after -12 h", "bad-value", "is not a duration"),
    ("store: every 1 min", "store: every 2.5 s", "intervals-do-not-fit", "not a whole number of times"),
    ("statistics: mean, maximum", "statistics: mean, mode", "bad-value", "'mode' is not a statistic"),
    ("autonomy: 14 d", "autonomy: 90 d", "memory-budget", "does not last for 90 d"),
    ("time_constant: 8 s", "time_constant: 1 s", "sampled-slowly", "what happens between"),
    ("time_constant: 8 s", "time_constant: 10 min", "sampled-fast", "the same again and again"),
    ("time_constant: 8 s", "group: slow", "unknown-group", "no group 'slow'"),
    ("zone: Europe", "integration: 2.5 ms\nzone: Europe", "mains-not-averaged", "hum does not average"),
    ("zone: Europe", "integration: 5 ms\nzone: Europe", "unknown-integration", "cannot measure for"),
    ("right: {to: 75", "right: {to: 25", "band-order", "begins at 30 %"),
    ("right: {to: 75", "right: {start: 40, to: 75", "band-gap", "lies no band"),
    ("right: {to: 75", "right: {start: 20, to: 75", "band-overlap", "before dry ends"),
    ("clear: 75 °C", "clear: 77.98 °C", "lost-to-rounding", "as one number"),
    ("above: 78 °C, clear: 75 °C", "above: 21.8 °C", "trips-when-expected", "within what is expected"),
    ("above: 78 °C, clear: 75 °C", "below: 60 °C", "trips-when-expected", "is tripped already at 21.5 °C"),
    ("above: 78 °C, clear: 75 °C", "inside: 10..30 °C", "trips-when-expected", "is tripped already"),
    ("store: every 1 min", "groups: {a: {sample: every 5 s}}", "unused-group", "no channel"),
    ("after: 5 s, severity: high", "after: -5 s, severity: high", "bad-value", "is not a duration"),
    ("hysteresis: 2 %", "hysteresis: -2 %", "bad-value", "is negative"),
    ("only_while: door is shut", "only_while: door is open", "wrong-state", "never 'open'"),
    ("differs_from: air_bottom", "differs_from: air_botom", "bad-alarm", "no channel 'air_botom'"),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "rule", "says"), MISTAKES, ids=lambda v: str(v)[:40])
def test_a_mistake_in_rules_outputs_and_times_is_found(tmp_path, old, new, rule, says):
    assert old in GUARD
    path = tmp_path / "guard.yaml"
    path.write_text(GUARD.replace(old, new, 1), encoding="utf-8")
    found = [f for f in lw.check_file(path).findings if f.rule == rule]
    assert any(says in str(f) for f in found), [str(f) for f in lw.check_file(path).findings]
    assert all(f.line > 1 or rule == "missing-key" for f in found)


def guarded(rules):
    head = GUARD[: GUARD.index("rules:\n")]
    return lw.parse_setup(head + "rules:\n" + "".join(rules), file="guard.yaml")


def rules_of(setup, sheet):
    return {f.rule for f in check_setup(setup, sheet).findings}


def test_rules_that_fight_and_rules_in_a_ring(sheet):
    line = "  {}: {{when: {}, do: {{set: horn, to: {}}}}}\n"
    fight = [line.format("a", "air_top above 50 °C", "on"), line.format("b", "door is ajar", "off")]
    assert "outputs-fight" in rules_of(guarded(fight), sheet)
    apart = [
        line.format("a", "air_top above 50 °C", "on"),
        line.format("b", "air_top below 49 °C", "off"),
    ]
    assert "outputs-fight" not in rules_of(guarded(apart), sheet)
    ring = [line.format("a", "horn is off", "on"), line.format("b", "horn is on", "off")]
    assert "rule-ring" in rules_of(guarded(ring), sheet)


def test_ten_thousand_rules_are_checked_and_followed(sheet):
    line = "  r{}: {{when: air_top above {} °C, do: {{set: horn, to: {}}}}}\n"
    many = [line.format(k, 20 + k % 50, "on" if k % 2 else "off") for k in range(10_000)]
    setup = guarded(many)
    began = time.process_time()
    assert len([f for f in check_setup(setup, sheet).findings if f.rule == "outputs-fight"]) == 3
    assert time.process_time() - began < 60.0  # it is no matter of hours
    engine = Engine([when(f"air above {k % 60}") for k in range(10_000)])
    assert len(engine.step(0.0, 0, Facts(air=30.0))) == sum(k % 60 < 30 for k in range(10_000))


# ---------------------------------------------------------------------- contacts

PEOPLE = """\
contact list: 1
contacts:
  ida: {text_message: +49 170 0000003}
  foreman: {mail: other@tannried.example}
"""


def test_contacts_are_shared_and_a_setups_own_count_more(tmp_path):
    (tmp_path / "people.yaml").write_text(PEOPLE, encoding="utf-8")
    path = tmp_path / "guard.yaml"
    path.write_text(GUARD.replace("contacts:\n", "contact_list: people.yaml\ncontacts:\n"), "utf-8")
    contacts = lw.read_setup(path).setup.contacts
    assert (contacts["ida"].text_message, contacts["foreman"].mail) == (
        "+491700000003",
        "foreman@tannried.example",
    )
    (tmp_path / "people.yaml").write_text(PEOPLE.replace("+49", "zz"), encoding="utf-8")
    assert any("not a telephone number" in str(f) for f in lw.check_file(path).findings)
    (tmp_path / "people.yaml").unlink()
    assert any(f.rule == "bad-contacts" for f in lw.check_file(path).findings)


def test_a_station_that_notifies_by_itself_gets_the_numbers():
    text = (EXAMPLES / "head-water.yaml").read_text("utf-8")
    people = "".join(f"  c{k}: {{text_message: +49 170 000000{k}}}\n" for k in range(1, 6))
    setup = lw.parse_setup(text + "contacts:\n" + people)
    sheet = lw.find_datasheet("laerche")
    assert "too-many-contacts" in {f.rule for f in check_setup(setup, sheet).findings}
    fewer = lw.parse_setup(text + "contacts:\n" + "".join(people.splitlines(keepends=True)[:2]))
    image = check_setup(fewer, sheet).settings.values
    assert (image["contact.2.name"], image["contact.2.number"]) == ("c2", "+491700000002")
    assert (image["contact.3.name"], image["contact.3.number"]) == ("", "")


WORDS = [
    "air_top", "door", "is", "above", "not", "5 s", "-3", "1e9", "78 °C", "{", "}", "[", ":", ",", "time",
    "every", "0 s", "message", "{password}", "set", "to", "on", "no reading", "±", "..", "% of span", "NaN",
]  # fmt: skip
LINES = GUARD.splitlines()
EDITS = st.lists(
    st.tuples(
        st.integers(0, len(LINES) - 1),
        st.integers(0, 60),
        st.sampled_from(WORDS) | st.text(max_size=5),
    ),
    min_size=1,
    max_size=4,
)


@given(EDITS)
def test_whatever_stands_in_a_setup_is_a_finding_and_no_traceback(edits):
    lines = list(LINES)
    for number, at, text in edits:
        lines[number] = lines[number][:at] + text + lines[number][at + 3 :]
    setup, findings = draft_setup("\n".join(lines), file="guard.yaml", library=Library())
    if setup is not None:
        check_setup(setup, lw.find_datasheet("fichte-8"), findings=findings)
    assert all(f.message for f in findings.sorted())


def test_a_device_with_a_watchdog_is_to_use_it_where_rules_switch_outputs():
    """A datasheet like that of the logger, with a watchdog."""
    known = (resources.files("leitwerk") / "datasheets" / "fichte-8.yaml").read_text("utf-8")
    point = (
        "\nsettings:\n  watchdog.after: {at: holding 990, type: u16, step: 1 s, span: 0..3600}\n"
    )
    sheet = lw.parse_datasheet(known.replace("\nsettings:\n", point, 1), file="fichte-8.yaml")

    def rules(text):
        return {f.rule for f in lw.check_setup(lw.parse_setup(text), sheet).findings}

    assert "no-watchdog" in rules(GUARD)
    assert "no-watchdog" not in rules(GUARD + "\nsettings: {watchdog.after: 60 s}\n")
    assert "no-watchdog" not in rules(GUARD.replace("{pulse: horn, for: 3 s}", "{log: hot}"))


def test_an_output_that_cannot_give_the_expected_value_is_named():
    text = (EXAMPLES / "mill-race.yaml").read_text("utf-8")
    for span, wrong in (("0..500 l/s", False), ("0..100 l/s", True)):
        setup = lw.parse_setup(text.replace("span: 0..500 l/s", f"span: {span}"))
        found = lw.check_setup(setup, lw.find_datasheet("weide")).findings
        assert ("span-misses-expectation" in {f.rule for f in found}) is wrong
