"""The receiver with anything that may come: random bytes, silence, no end; and a person at the keys."""

import random
import tracemalloc

import pyte
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.exchange.definition import Answer, Direction, Exchange, Form, LineForm, Part
from leitwerk.exchange.end import CONFIRMED, REFUSED, End
from leitwerk.exchange.hearing import Listener, Why
from leitwerk.exchange.terms import AnswerKind, Kind, Manner, Spaces

TEMPERATURE = Part(Form(Kind.NUMBER, unit="°C"), "t", span=(10, 90))
WORD, COUNT = Part(Form(Kind.TEXT, longest=8), "x"), Part(Form(Kind.INTEGER), "n", least=0, most=3)
IS = Part(Form(Kind.CONSTANT, text="IS"))
STATE = Part(Form(Kind.STATE, states=(("on", "1"), ("off", "0"))), "s")
LINES = (
    LineForm("set", "SET", (TEMPERATURE,), Answer(AnswerKind.CONFIRMATION)),
    LineForm("text", "TEXT", (WORD, COUNT)),
    LineForm("state", "S", (IS, STATE)),
)
WAY = Direction(encoding="utf-8", quotes='"', longest=60, lines=LINES)
EXCHANGE = Exchange("x", says=Direction(encoding="utf-8", lines=LINES[:1]), understands=WAY)


def hear(line, way=WAY, **more):
    return Listener(way, **more).hear(line.encode())


@pytest.mark.parametrize(
    ("line", "values"),
    [
        ("SET;21.5 °C", (21.5,)),
        ("SET ; 21 °C ", (21.0,)),
        ("SET;---", (None,)),
        ('TEXT;"a;""b"', ('a;"b',)),
        ("TEXT;a;1;+2;-3", ("a", 1, 2, -3)),
        ("S;IS;1", ("on",)),
    ],
)
def test_a_line_is_understood(line, values):
    heard = hear(line)
    assert (heard.values, heard.trouble) == (values, None)


@pytest.mark.parametrize(
    ("line", "why", "at", "words"),
    [
        ("SOT;1", Why.KEYWORD, 0, "'SOT' is not known"),
        ("SET,21.5 °C", Why.KEYWORD, 0, "the first value came as part of the keyword"),
        ("set;21.5 °C", Why.KEYWORD, 0, "'set' is not known"),
        ("SET", Why.COUNT, 0, "0 fields follow"),
        ("SET;1 °C;2 °C", Why.COUNT, 0, "2 fields follow"),
        ("TEXT;a;1;2;3;4", Why.COUNT, 0, "5 fields follow"),
        ("SET;21.5", Why.VALUE, 4, "without its unit"),
        ("SET;2_1 °C", Why.VALUE, 4, "is not a number"),
        ("SET;inf °C", Why.VALUE, 4, "is not a number"),
        ("SET;٣ °C", Why.VALUE, 4, "is not a number"),
        ("SET; °C", Why.VALUE, 4, "without its unit"),
        ("SET;91 °C", Why.SPAN, 4, "91 is outside the span"),
        ("TEXT;longer than 8", Why.VALUE, 5, "is too long"),
        ("TEXT;a\x00b", Why.VALUE, 5, "control characters"),
        ("TEXT;ä;1.5", Why.VALUE, 8, "is not a number of this kind"),
        ('TEXT;"a', Why.VALUE, 0, "a quote is not closed"),
        ('TEXT;"a"b', Why.VALUE, 0, "stands behind a closing quote"),
        ("S;ARE;1", Why.VALUE, 2, "is another text"),
        ("S;IS;2", Why.VALUE, 5, "is not one of its states"),
    ],
)
def test_a_line_fails_at_its_byte(line, why, at, words):
    trouble = hear(line).trouble
    assert (trouble.why, trouble.at) == (why, at)
    assert words in trouble.message


def test_what_cannot_be_decoded_is_counted_with_its_bytes():
    end = End(EXCHANGE)
    (heard,) = end.receive(b"SET;\xff\r\n", 0.0)
    assert (heard.trouble.why, heard.trouble.at, heard.raw) == (Why.CHARACTERS, 4, b"SET;\xff")
    assert end.counts[Why.CHARACTERS.words] == 1


def test_lines_for_another_address_are_nothing_of_ours():
    assert hear("#04 SET;21 °C", address="#03 ") is None
    assert hear("#03 SET;21 °C", address="#03 ").values == (21.0,)


def test_a_line_that_stands_still_is_given_up():
    end = End(EXCHANGE)
    assert end.receive(b"SET;2", 0.0) == []
    (given_up,) = end.look(3600.0)
    assert "without an end for 10 s" in given_up.trouble.message
    assert [h.values for h in end.receive(b"SET;30 \xc2\xb0C\r\n", 3600.5)] == [(30.0,)]


def test_a_hundred_megabytes_without_an_end_take_no_memory():
    end = End(EXCHANGE)
    piece = b"x" * 1_000_000
    tracemalloc.start()
    troubles = [h for _ in range(100) for h in end.receive(piece, 0.0)]
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert len(troubles) == 1
    assert peak < 10_000_000
    assert [h.values for h in end.receive(b"\r\nSET;30 \xc2\xb0C\r\n", 0.0)] == [(30.0,)]


@given(data=st.binary(max_size=400), manner=st.sampled_from(Manner), seed=st.integers(0, 9))
def test_any_bytes_in_any_pieces_are_taken(data, manner, seed):
    chance = random.Random(seed)
    end, now_s = End(Exchange("x", manner, understands=WAY)), 0.0
    while data:
        size = chance.randrange(1, 40)
        for heard in end.receive(data[:size], now_s):
            if heard.trouble is not None:
                end.refuse(heard, now_s)
        data, now_s = data[size:], now_s + chance.choice((0.0, 0.1, 20.0))
    end.output()


@pytest.mark.parametrize("manner", Manner)
def test_a_receiver_that_takes_nothing_costs_no_memory(manner):
    end = End(Exchange("x", manner, says=EXCHANGE.says, understands=WAY))
    for second in range(20_000):
        end.say("set", (21.5,), float(second))
        end.receive(b"\x1bx\r\n", float(second))
    assert len(end.output()) < 200_000
    assert end.counts["not sent"] or end.guard or end.editor


def test_answers_of_the_other_end_are_known():
    heard = End(EXCHANGE).receive(b"OK\r\nERR 4\r\n", 0.0)
    assert [(h.name, h.values, h.trouble) for h in heard] == [
        (CONFIRMED, (), None),
        (REFUSED, ("4",), None),
    ]


def test_spaces_belong_to_a_value_where_that_is_said():
    way = Direction(spaces=Spaces.KEEP, lines=(LineForm("t", "T", (Part(Form(Kind.TEXT), "x"),)),))
    assert hear("T; a ", way).values == (" a ",)


# ---------------------------------------------------------------------- a person


class Terminal:
    """A person at a screen of 80 by 24, as the terminal of another package draws it."""

    def __init__(self, end):
        self.end = end
        self.screen = pyte.Screen(80, 24)
        self.stream = pyte.ByteStream(self.screen)
        self.heard = []
        self.look()

    def type(self, keys):
        for key in keys.encode():
            for heard in self.end.receive(bytes([key]), 0.0):
                self.heard.append(heard)
                if heard.trouble:
                    self.end.refuse(heard, 0.0)
                else:
                    self.end.confirm(heard, 0.0)
            self.look()
        return [line.rstrip() for line in self.screen.display if line.strip()]

    def look(self):
        self.stream.feed(self.end.output())


@pytest.fixture
def terminal():
    return Terminal(End(Exchange("x", Manner.PEOPLE, says=EXCHANGE.says, understands=WAY)))


def test_a_person_corrects_what_was_typed(terminal):
    assert terminal.type("set;2\x7f30 °D\x7fC\r")[-3:] == ["> set;30 °C", "OK", ">"]
    assert [h.values for h in terminal.heard] == [(30.0,)]


def test_a_message_does_not_disturb_what_is_being_typed(terminal):
    terminal.type("SET;5")
    terminal.end.say("set", (21.5,), 0.0)
    terminal.look()
    assert terminal.type("0 °C\r")[-4:] == ["SET;21.5 °C", "> SET;50 °C", "OK", ">"]


def test_a_person_is_told_what_is_wrong(terminal):
    assert terminal.type("SET;500 °C\n")[-2] == "ERR 4: 500 is outside the span"


def test_help_lists_what_is_understood(terminal):
    shown = "\n".join(terminal.type("help\r\n"))
    assert "SET;" in shown
    assert "TEXT;" in shown


def test_keys_that_mean_nothing_do_nothing(terminal):
    terminal.type("SE\x1b[D\x1bOA\x1b[15~T;\x0730 °C\x00")
    assert terminal.type("\r")[-2:] == ["OK", ">"]


def test_earlier_lines_go_when_the_person_wants_it(terminal):
    terminal.type("SET;30 °C\r")
    terminal.type("clear\r")
    assert terminal.type("SET;31 °C\r") == ["OK", ">"]
    terminal.type("keep\r")
    assert len(terminal.type("SET;31 °C\r")) > 3


def test_the_whole_line_is_taken_back(terminal):
    assert terminal.type("nonsense\x15SET;30 °C\r")[-3:] == ["> SET;30 °C", "OK", ">"]
