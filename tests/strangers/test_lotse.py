"""The panel's guarded exchange, with an end that was written from the guide's page alone."""

import random
import re

import pytest
import serial
from lotse import Lotse, escaped, fingerprint

import leitwerk as lw
from conftest import example

pytestmark = pytest.mark.process
NUMBER, TEXT = ["number", "", [], 1, 1], ["text", "", [], 1, 1]
SAYS = [["KILN", [NUMBER, NUMBER]]]
UNDERSTANDS = [["ASK", []], ["TEXT", [TEXT]], ["SET", [NUMBER]]]


@pytest.fixture
def talking(tmp_path, monkeypatch, leitwerk):
    """The talking port of a simulated panel that holds the example's exchange, guarded."""
    monkeypatch.setenv("LEITWERK_PASSWORD_OPERATOR", "bark")
    with lw.start_standin("birke", "--rtu") as one:
        path = re.search(r"//(/[^?]+)", one.process.stdout.readline())[1]
        text = example("cabin", one.address).replace("manner: machines", "manner: guarded")
        (tmp_path / "cabin.yaml").write_text(text, "utf-8")
        assert leitwerk("upload", str(tmp_path / "cabin.yaml")).exit_code == 0
        with serial.Serial(path, 9600, timeout=1) as port:
            yield port


def test_the_vectors_of_the_guide():
    ways = [["T", [NUMBER, TEXT]]], [["ASK", []], ["SW", [["state", "", ["off", "on"], 1, 1]]]]
    assert fingerprint(*ways) == "cb1fc0ac"
    end = Lotse(None, "cb1fc0ac", 0)
    said = end.frame("D", 0x1A2B, 1, f"T;21.5;{escaped('a;b 5 % ä!')}")
    assert said == b"D1A2B0001cb1fc0ac001CT;21.5;a%3Bb 5 %25 %C3%A4%21E91B3F83\r\n"
    assert end.frame("A", 0x1A2B, 1) == b"A1A2B0001cb1fc0ac0000A59B0167\r\n"


def test_a_stranger_talks_guarded_with_the_panel(talking):
    end = Lotse(talking, fingerprint(SAYS, UNDERSTANDS), 0x0815)
    keyword, air, humidity = end.answer_to(end.say("ASK"))
    assert (keyword, 21 < float(air) < 22, 54 < float(humidity) < 56) == ("KILN", True, True)
    assert end.answer_to(end.say("TEXT", escaped('a;b "ä"'))) in (["%2B"], ["%2D", "8"])
    assert end.answer_to(end.say("SET", "77.5")) == ["%2B"]
    assert end.answer_to(end.say("SET", "120")) == ["%2D", "4"]
    assert end.answer_to(end.say("SET", "x")) == ["%2D", "3"]
    assert end.answer_to(end.say("FOO")) == ["%2D", "1"]


def test_on_a_bad_line_nothing_is_lost_or_taken_twice(talking):
    chance = random.Random(5)

    def spoil(line):
        """Every other line is damaged, lost or repeated."""
        act = chance.choice(("", "", "", "damage", "lose", "repeat"))
        at = chance.randrange(len(line) - 2)
        damaged = line[:at] + bytes([line[at] ^ 1]) + line[at + 1 :]
        return {"damage": [damaged], "lose": [], "repeat": [line, line]}.get(act, [line])

    end = Lotse(talking, fingerprint(SAYS, UNDERSTANDS), 0x0816, spoil)
    for k in range(6):
        assert end.answer_to(end.say("SET", str(30 + k))) == ["%2B"]
    confirmed = [body for body in end.got if body.endswith(";%2B")]
    assert len(confirmed) == len(set(confirmed)) == 6


def test_another_description_is_refused_at_the_first_line(talking):
    end = Lotse(talking, fingerprint(SAYS, UNDERSTANDS[:2]), 0x0817)
    end.put(end.frame("D", 0x0817, 1, "ASK"))
    assert end.listen(5.0, lambda: end.refused == ["1"])
    late = Lotse(talking, fingerprint(SAYS, UNDERSTANDS), 0x0818)
    late.put(late.frame("D", 0x0818, 7, "ASK"))
    assert late.listen(5.0, lambda: late.refused == ["2"])
