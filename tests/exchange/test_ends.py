"""What one end says, the other understands exactly: any exchange without errors, any values, any pieces."""

import math
import os
import random

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st
from strategies import exchanges, has_findings, rounded, values_of

from leitwerk.exchange.definition import Direction, Exchange, Form, LineForm, Part
from leitwerk.exchange.end import End
from leitwerk.exchange.hearing import Listener
from leitwerk.exchange.saying import repeated, require_exact, speaker
from leitwerk.exchange.terms import Kind, Layout, Manner
from leitwerk.exchange.values import CannotSay

CHECKS = [HealthCheck.filter_too_much, HealthCheck.too_slow, HealthCheck.data_too_large]
NUMBER = Part(Form(Kind.NUMBER, decimals=1), "v")
LINE = LineForm("line", "T", (NUMBER, Part(Form(Kind.TEXT), "t")))
GUARDED = Exchange(
    "office", Manner.GUARDED, says=Direction(lines=(LINE,)), understands=Direction(lines=(LINE,))
)


def pieces(data, chance):
    """The same bytes, in pieces of any size."""
    at = 0
    while at < len(data):
        size = chance.choice((1, 2, 3, 7, 50))
        yield data[at : at + size]
        at += size


def expected(exchange, line, values):
    parts = [p for p in repeated(line, len(values)) if not p.is_constant]
    if exchange.manner is Manner.GUARDED:
        return tuple(None if isinstance(v, float) and v - v != 0 else v for v in values)
    return tuple(rounded(p.form, v) for p, v in zip(parts, values, strict=True))


@settings(
    suppress_health_check=CHECKS, max_examples=int(os.environ.get("LEITWERK_EXCHANGES", "20"))
)
@given(exchange=exchanges(), data=st.data(), seed=st.integers(0, 99))
def test_what_one_end_says_the_other_understands(exchange, data, seed):
    assume(not has_findings(exchange))
    chance = random.Random(seed)
    here, there = End(exchange, session=1), End(exchange.mirrored(), session=2)
    said = []
    for _ in range(data.draw(st.integers(1, 4))):
        line = data.draw(st.sampled_from(there.exchange.says.lines))
        values = data.draw(values_of(line))
        try:
            there.say(line.name, values, 0.0)
        except CannotSay:
            continue  # told at once, instead of being understood as something else
        said.append((line.name, expected(exchange, line, values)))
    heard = []
    for _ in range(2 * len(said) + 1):
        for piece in pieces(there.output(), chance):
            heard += here.receive(piece, 0.0)
        for piece in pieces(here.output(), chance):
            there.receive(piece, 0.0)
    assert [(h.name, h.values, h.trouble) for h in heard] == [(*line, None) for line in said]


@given(
    values=st.lists(st.floats(-1e20, 1e20) | st.floats(), min_size=3, max_size=3),
    spaces=st.booleans(),
)
def test_the_quick_way_and_the_careful_one_agree(values, spaces):
    """Lines of plain numbers are said and understood by one pattern; unless that is certain, with care."""
    line = LineForm("line", "T", (NUMBER,) * 3)
    way = Direction(lines=(line,))
    try:
        text = speaker(line, way)(values)
    except CannotSay:
        assert max(abs(v) for v in values if v == v) >= 1e25 or any(v - v != 0 for v in values)
        return
    if spaces:
        text = text.replace(";", " ; ")
    listener = Listener(way)
    assert listener.hear(text.encode())[:5] == listener._carefully(text, b"")[:5]
    assert listener.hear(text.encode()).values == tuple(rounded(NUMBER.form, v) for v in values)


# ---------------------------------------------------------------------- guarded, on a bad line


HARMS = ("corrupt", "lose", "repeat", "swap", "cut")


def harmed(lines, number, harm, chance):
    """The same lines with one of them damaged, lost, repeated, cut or swapped with the next."""
    lines = list(lines)
    if number < len(lines):
        line = lines[number]
        if harm == "corrupt":
            at = chance.randrange(len(line))
            lines[number] = (
                line[:at] + bytes([line[at] ^ (1 << chance.randrange(8))]) + line[at + 1 :]
            )
        elif harm == "lose":
            del lines[number]
        elif harm == "repeat":
            lines.insert(number, line)
        elif harm == "cut":
            lines[number] = line[: chance.randrange(len(line))]
        elif number + 1 < len(lines):
            lines[number], lines[number + 1] = lines[number + 1], line
    return lines


SAID = st.tuples(st.floats(allow_nan=False, allow_infinity=False), st.text(max_size=40))


@given(
    values=st.lists(SAID, min_size=1, max_size=5),
    harm=st.sampled_from(HARMS),
    turn=st.integers(0, 6),
    number=st.integers(0, 2),
    to_there=st.booleans(),
    seed=st.integers(0, 9),
)
def test_one_bad_line_changes_nothing_in_the_guarded_manner(
    values, harm, turn, number, to_there, seed
):
    try:
        [text.encode() for _, text in values]
    except UnicodeEncodeError:
        return  # half of a pair of surrogates is no text
    chance = random.Random(seed)
    here, there = End(GUARDED, session=7), End(GUARDED.mirrored(), session=9)
    heard = {True: [], False: []}
    for one in values:  # both ends say the same
        here.say("line", one, 0.0)
        there.say("line", one, 0.0)
    now_s = 0.0
    for step in range(60):
        now_s += 0.5
        for speaker_, listener, forward in ((here, there, True), (there, here, False)):
            speaker_.look(now_s)
            lines = speaker_.output().splitlines(keepends=True)
            if step == turn and forward is to_there:
                lines = harmed(lines, number, harm, chance)
            for line in lines:
                for piece in pieces(line, chance):
                    heard[forward] += listener.receive(piece, now_s)
    for got in heard.values():
        assert [h.values for h in got] == values
    assert here.guard.lost == there.guard.lost == []


def test_two_descriptions_notice_each_other_at_the_first_line():
    other = Exchange("x", Manner.GUARDED, says=Direction(lines=(LineForm("line", "T", (NUMBER,)),)))
    here, there = End(GUARDED), End(other)
    there.say("line", (1.0,), 0.0)
    assert here.receive(there.output(), 0.0) == []
    assert here.guard.other_description == other.fingerprint != GUARDED.fingerprint
    assert here.output()[:1] == b"N"
    assert GUARDED.fingerprint == GUARDED.mirrored().fingerprint


def crc32(data):
    """CRC-32 as ITU-T V.42, 8.1.1.6.2 and ISO/IEC 8802-3 have it, bit by bit."""
    register = 0xFFFFFFFF
    for byte in data:
        register ^= byte
        for _ in range(8):
            register = (register >> 1) ^ (0xEDB88320 if register & 1 else 0)
    return register ^ 0xFFFFFFFF


def test_a_guarded_line_is_what_the_guide_says():
    """Taken apart by hand: kind, session, number, fingerprint, length, body, CRC, each where it stands."""
    end = End(GUARDED, session=0x1A2B)
    end.say("line", (21.5, "a;b % ä!"), 0.0)
    line = end.output()
    assert line.endswith(b"\r\n")
    line = line[:-2]
    body = b"T;21.5;a%3Bb %25 %C3%A4%21"
    assert line[:1] == b"D"
    assert line[1:5] == b"1A2B"
    assert line[5:9] == b"0001"
    assert line[9:17] == GUARDED.fingerprint.encode()
    assert line[17:21] == b"%04X" % len(body)
    assert line[21:-8] == body
    assert line[-8:] == b"%08X" % crc32(line[:-8])


def test_a_receiver_that_starts_anew_gets_the_line_that_waits():
    here = End(GUARDED, session=1)
    there = End(GUARDED.mirrored(), session=2)
    here.say("line", (1.0, "a"), 0.0)
    there.receive(here.output(), 0.0)
    here.receive(there.output(), 0.0)
    here.say("line", (2.0, "b"), 1.0)
    again = End(GUARDED.mirrored(), session=3)
    assert again.receive(here.output(), 1.0) == []
    here.receive(again.output(), 1.0)
    assert [h.values for h in again.receive(here.output(), 1.0)] == [(2.0, "b")]


def test_an_answer_names_its_line_also_when_others_came_since():
    """A device may take long to store a value: meanwhile the next line is heard."""
    here, there = End(GUARDED, session=1), End(GUARDED.mirrored(), session=2)
    heard, asked = [], []
    for k in range(2):
        there.say("line", (float(k), "a"), 0.0)
        asked.append(there.asked)
        heard += here.receive(there.output(), 0.0)
        there.receive(here.output(), 0.0)
    here.confirm(heard[0], 0.0)
    assert [h.answers for h in there.receive(here.output(), 0.0)] == asked[:1]


def test_what_is_never_acknowledged_is_given_up_and_said_so():
    here = End(GUARDED, session=1)
    here.say("line", (1.0, "a"), 0.0)
    for second in range(10):
        here.look(float(second))
    assert here.guard.lost == ["T;1.0;a"]
    assert here.guard.is_idle
    assert here.output().count(b"\r\n") == 5


@pytest.mark.parametrize(
    ("form", "value", "says"),
    [
        (Form(Kind.STATE, states=(("on", "1"), ("off", "0"))), "maybe", "valid"),
        (Form(Kind.INTEGER), 7.5, "would be said as '8'"),
        (Form(Kind.HEXADECIMAL), 2.25, "would be said as '2'"),
        (Form(Kind.COUNTER, width=3), 1234.0, "would be said as '234'"),
        (Form(Kind.NUMBER, decimals=1), 7.55, "would be said as"),
        (Form(Kind.NUMBER, decimals=1), math.nan, "would be said as"),
        (Form(Kind.NUMBER, decimals=1), "7.5", "would be said as"),
        (Form(Kind.TIME, layout=Layout.SECONDS), -5.0, "would be said as"),
    ],
)
def test_what_is_said_by_hand_is_said_exactly_or_refused(form, value, says):
    way = Direction()
    line = LineForm("lim", "LIM", (Part(form, "p"),))
    with pytest.raises(CannotSay) as refused:
        require_exact(line, way, [value])
    assert says in str(refused.value)


def test_what_is_exact_is_said():
    way = Direction()
    for form, value in (
        (Form(Kind.STATE, states=(("on", "1"), ("off", "0"))), "on"),
        (Form(Kind.INTEGER), 7.0),
        (Form(Kind.NUMBER, decimals=1, width=8), 7.5),
        (Form(Kind.NUMBER, decimals=1), None),
    ):
        require_exact(LineForm("lim", "LIM", (Part(form, "p"),)), way, [value])
    with pytest.raises(CannotSay, match="carries 1 values, not 2"):
        require_exact(LineForm("lim", "LIM", (Part(Form(Kind.INTEGER), "p"),)), way, [1.0, 2.0])
