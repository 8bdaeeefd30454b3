"""Exchanges in setups: what is found wrong before a wire is laid, with its place and remedy."""

import pytest

import leitwerk as lw
from conftest import EXAMPLES, KILN, checked
from leitwerk.exchange.compare import compare
from leitwerk.exchange.terms import Manner

CABIN = (EXAMPLES / "cabin.yaml").read_text("utf-8")
KILN_EXCHANGE = """
exchanges:
  yard:
    at: text+serial:///dev/ttyUSB1?line=9600,8N1
    says:
      messages:
        top:
          keyword: TOP
          fields:
            - {channel: air_top, decimals: 2}
            - {state: air_top.too_hot, states: {active: HOT, not active: OK}}
          when: [air_top changes by 0.5 K, air_top.too_hot is active]
          at_most: once in 1 s
    understands:
      quotes: '"'
      keywords:
        ask: {keyword: "?", answer: message top}
        text: {keyword: NAME, values: [{text: 12, to: setting name}]}
"""


def rules_of(text):
    try:
        found = checked(text)
    except lw.SetupError as error:
        return {f.rule: f for f in error.findings}
    return {f.rule: f for f in found.findings}


@pytest.mark.parametrize(
    ("old", "new", "rule", "words"),
    [
        (
            "end: CR LF\n      messages",
            'end: ";"\n      messages',
            "marks-alike",
            "taken for the beginning",
        ),
        (
            'separator: ";"\n      end: CR LF\n      messages',
            'separator: "."\n      end: CR LF\n      messages',
            "mark-in-number",
            "a number may hold the separator '.'",
        ),
        (
            "{channel: air, decimals: 1}",
            "{channel: air, decimals: 1, after: ;}",
            "mark-in-text",
            "';' holds",
        ),
        (
            "{channel: air, decimals: 1}",
            "{channel: air, decimals: 1, unit: yes}",
            "not-encodable",
            "ascii cannot",
        ),
        (
            "{channel: air, decimals: 1}",
            "{channel: air, decimals: 0}",
            "loses-digits",
            "resolved to 0.1",
        ),
        (
            "{channel: air, decimals: 1}",
            "{channel: air, bad: '0'}",
            "bad-looks-good",
            "reads as one",
        ),
        (
            "{channel: air, decimals: 1}",
            "{channel: air, setting: name}",
            "bad-value",
            "carries one thing",
        ),
        ("{channel: air, decimals: 1}", "{channel: ear}", "unknown-name", "no channel 'ear'"),
        (
            "{channel: air, decimals: 1}",
            "{channel: air, decimals: 1, width: 9}",
            "cannot-store",
            "field_1.width",
        ),
        ("keyword: TEXT", "keyword: ASK", "keyword-twice", "the same keyword 'ASK'"),
        ("keyword: TEXT", "keyword: ask", "keywords-alike", "differ by capital letters only"),
        ("keyword: TEXT", "keyword: ASKED", "keywords-alike", "the beginning of the other"),
        ("keyword: TEXT", "keyword: OK", "keyword-confirms", "also what confirms"),
        ("quotes: '\"'", "spaces: drop", "text-divides", "a text may hold the separator"),
        ("answer: message readings", "answer: message reading", "unknown-name", "is no answer"),
        (
            "when: [key 1, every 10 s]",
            "when: [key 1, every 20 ms]",
            "line-load",
            "more than the line can carry",
        ),
        ("when: [key 1, every 10 s]", "when: air above 50 °C", "cannot-do", "on a timer, at a key"),
        ("when: [key 1, every 10 s]", "at_most: once in 1 s", "cannot-store", "at_most"),
        (
            "ask: {keyword: ASK, answer: message readings}",
            "ask: {keyword: ASK}",
            "nothing-done",
            "is understood",
        ),
        (
            "[{text: 16, to: setting display.1}]",
            "[{text: 20, to: setting display.1}]",
            "too-long",
            "takes 16",
        ),
        (
            "[{text: 16, to: setting display.1}]",
            "[{text: 16, to: setting bar.low}]",
            "text-to-number",
            "would be lost",
        ),
        (
            "[{text: 16, to: setting display.1}]",
            "[{number: 1, to: setting display.1}]",
            "wrong-kind",
            "takes a text",
        ),
        (
            "[{text: 16, to: setting display.1}]",
            "[{text: 16, to: nowhere}]",
            "bad-value",
            "nowhere a value can go",
        ),
        ("span: 20..95", "span: 20..99999", "outside-span", "takes -999.9..9999.9"),
        ("manner: machines", "manner: robots", "bad-value", "'robots' is not known"),
        ("line: 9600,8N1", "line: 9600,9N1", "bad-value", "not a serial line"),
        ("line: 9600,8N1", "wires: RS-485", "cannot-store", "talk.wires"),
        ("line: 9600,8N1", "turn_around: 5 ms", "useless-key", "a matter of two wires"),
        ("end: CR LF\n      quotes", 'end: "#"\n      quotes', "not-storable", "'#'"),
        ("keyword: KILN\n          fields", "fields", "cannot-do", "by their keywords"),
        ("        readings:\n", "        'x y':\n", "bad-name", "is not a name"),
    ],
)
def test_a_mistake_is_found(old, new, rule, words):
    assert old in CABIN
    found = rules_of(CABIN.replace(old, new, 1))
    assert rule in found, found
    assert any(words in f.message for f in found.values() if f.rule == rule), found[rule].message
    assert found[rule].line >= CABIN.splitlines().index("exchanges:")


@pytest.mark.parametrize(
    ("old", "new", "rule"),
    [
        ("    at: text+serial:///dev/ttyUSB1?line=9600,8N1\n", "", "no-talking-port"),
        ("at: text+serial:///dev/ttyUSB1?line=9600,8N1", "at: modbus+tcp://127.0.0.1", "bad-value"),
        (
            "          when: [air_top changes by 0.5 K, air_top.too_hot is active]\n",
            "          when: heard yard.tip\n",
            "unknown-name",
        ),
        ("changes by 0.5 K", "changes by 0.5 bar", "wrong-unit"),
        ("fields:\n", "fields:\n            - {text: 'A;'}\n", "mark-in-text"),
        (
            "air_top.too_hot, states: {active: HOT, not active: OK}",
            "air_top.too_hot, states: {active: OK, not active: OK}",
            "states-alike",
        ),
        (
            "air_top.too_hot, states: {active: HOT",
            "air_top.too_hot, states: {hot: HOT",
            "wrong-state",
        ),
        (
            'ask: {keyword: "?", answer: message top}',
            'ask: {keyword: "?"}\n        all: {values: [{text: 9}]}',
            "no-keyword",
        ),
        ("        text: {keyword", "        text: {do: {say: yard.tip}, keyword", "unknown-name"),
        (
            "        text: {keyword",
            "        text: {do: {exchange: yard.tip, to: off}, keyword",
            "unknown-name",
        ),
        ("says:\n", "says:\n      longest: 10\n", "line-too-long"),
        ("    says:\n", "    manner: people\n    address: '#1'\n    says:\n", "not-for-people"),
    ],
)
def test_a_mistake_in_an_exchange_of_leitwerk_is_found(old, new, rule):
    assert old in KILN_EXCHANGE
    assert rules_of(KILN + KILN_EXCHANGE) == {}
    assert rule in rules_of(KILN + KILN_EXCHANGE.replace(old, new, 1))


def test_a_name_with_a_point_in_it_is_a_finding(tmp_path):
    """Also where a rule names one of its messages: the part before the point is no exchange."""
    path = tmp_path / "cabin.yaml"
    path.write_text(CABIN.replace("  office:", "  1..5:"), "utf-8")
    found = {f.rule: f.message for f in lw.check_file(path).findings}
    assert found["bad-name"] == "'1..5' is not a name for an exchange"


@pytest.mark.parametrize(
    "rule", ["when: heard office.ask, do: {log: x}", "when: every 1 h, do: {say: office.readings}"]
)
def test_rules_do_not_reach_an_exchange_of_the_device(rule):
    assert "rules: {a: {when" not in CABIN
    found = rules_of(f"{CABIN}rules: {{a: {{{rule}}}}}\n")
    assert "rules of Leitwerk do not reach office" in found["cannot-do"].message


def test_messages_wait_as_rules_do():
    found = checked(KILN + KILN_EXCHANGE)
    triggers = [str(rule.trigger) for rule in found.rules]
    assert triggers == ["air_top changes by 0.5 °C", "air_top.too_hot is active"]
    assert {str(action) for rule in found.rules for action in rule.actions} == {"say yard.top"}


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("end: CR LF", "end: CR", "this end ends lines with 'CR', the other end waits for 'CR LF'"),
        ("keyword: KILN", "keyword: KILL", "this end says 'KILL', the other end does not know it"),
        ("line: 9600,8N1", "line: 19200,8N1", "this end's line is 19200,8N1, the other's 9600,8N1"),
        (
            "{text: 16,",
            "{text: 12,",
            "value 1 behind 'TEXT': the other end says up to 16 characters, this end takes 12",
        ),
        (
            "- {channel: humidity, decimals: 1}",
            "",
            "this end says 1 values behind 'KILN', the other end takes 2",
        ),
    ],
)
def test_two_ends_are_held_together(old, new, words):
    one = checked(CABIN).exchanges[0].exchange
    assert compare(one, one.mirrored()) == []
    other = checked(CABIN.replace(old, new, 1)).exchanges[0].exchange
    assert words in [d.message for d in compare(other, one.mirrored())]


def test_spaces_at_the_ends_of_a_text_are_kept():
    text = KILN_EXCHANGE.replace(
        "{channel: air_top, decimals: 2}", "{channel: air_top, before: 'T ', after: ' C'}"
    )
    form = (
        checked(KILN + text.replace("    at:", "    address: '#3 '\n    at:"))
        .exchanges[0]
        .exchange.says.lines[0]
        .parts[0]
        .form
    )
    assert (form.before, form.after) == ("T ", " C")


def test_a_value_in_another_unit_is_noticed():
    one = checked(CABIN).exchanges[0].exchange
    other = checked(CABIN.replace("{number: 1, to", "{number: °C, to")).exchanges[0].exchange
    assert compare(one, one.mirrored()) == []
    far = (
        checked(CABIN.replace("{number: 1, to", "{number: °F, to")).exchanges[0].exchange.mirrored()
    )
    assert "takes it for °C" in compare(far, other)[0].message + compare(other, far)[0].message


def test_the_mirror_of_a_mirror_is_the_exchange():
    found = checked(CABIN.replace("manner: machines", "manner: guarded")).exchanges[0].exchange
    assert found.manner is Manner.GUARDED
    again = found.mirrored().mirrored()
    assert compare(found, again.mirrored()) == []
    assert found.fingerprint == found.mirrored().fingerprint == again.fingerprint
