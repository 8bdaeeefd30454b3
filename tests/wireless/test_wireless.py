"""Wireless transmitters: numbers, telegrams from hostile bytes, what is in the air, the one in the hand."""

import binascii
import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from leitwerk.errors import QuantityError
from leitwerk.standins.transmitters import World
from leitwerk.wireless import Air, AirLimits, IdForm, SinglingOut, oddities, with_check_digit
from leitwerk.wireless.telegrams import TelegramReader

HASEL = lw.find_datasheet("hasel").telegrams
FORM, LUHN = HASEL.form, HASEL.ids


def by_hand(number, kind=1, value=2485, flags=0, strength=-70, count=7):
    """A telegram by the table of the manual, put together here."""
    head = struct.pack(">2sIBiBbB", b"\x02\xa5", number, kind, value, flags, strength, count)
    return head + struct.pack(">H", binascii.crc_hqx(head, 0xFFFF))


def read_by_hand(data):
    """The slow way: at each byte, whether a right telegram begins there."""
    found, at = [], 0
    while at + 16 <= len(data):
        frame = data[at : at + 16]
        if frame[:2] == b"\x02\xa5" and binascii.crc_hqx(frame[:14], 0xFFFF) == int.from_bytes(
            frame[14:]
        ):
            found.append(struct.unpack(">IBiBbB", frame[2:14]))
            at += 16
        else:
            at += 1
    return found


# ---------------------------------------------------------------------- numbers


@pytest.mark.parametrize(
    ("form", "labels", "number"),
    [
        (IdForm(), ["3471206", "00 3471 206", "0003471206", "3.471.206", "34-71/206"], 3471206),
        (IdForm(16), ["A3F", "0a-3f", "00:0A:3F"], 0xA3F),
        (LUHN, ["40744252", "00 4074-4252"], 40744252),
    ],
)
def test_a_number_is_the_same_however_it_is_written(form, labels, number):
    assert {form.read(label) for label in labels} == {number}


@given(st.integers(1, 42_000_000), st.integers(0, 8), st.integers(1, 9))
def test_a_wrong_digit_is_noticed(number, place, more):
    right = str(with_check_digit(number))
    assert LUHN.read(right) == int(right)
    k = place % len(right)
    wrong = right[:k] + str((int(right[k]) + more) % 10) + right[k + 1 :]
    with pytest.raises(QuantityError, match="check digit"):
        LUHN.read(wrong)


@pytest.mark.parametrize("label", ["", "  ", "12a", "1" * 30, "99999999999", "-", "١٢٣"])
def test_what_is_no_number_is_refused(label):
    with pytest.raises(QuantityError) as error:
        LUHN.read(label)
    assert error.value.valid


# ---------------------------------------------------------------------- telegrams


@given(
    st.lists(
        st.one_of(
            st.builds(
                by_hand, st.integers(0, 2**32 - 1), st.integers(0, 9), st.integers(-9999, 9999)
            ),
            st.builds(lambda n, k: by_hand(n)[:k], st.integers(0, 2**32 - 1), st.integers(1, 15)),
            st.binary(max_size=20),
            st.sampled_from([b"\x02", b"\x02\xa5", b"\x02\xa5\x02\xa5"]),
        ),
        max_size=12,
    ),
    st.lists(st.integers(1, 40), max_size=12),
)
def test_telegrams_come_out_whatever_is_around_them_and_however_they_are_cut(parts, cuts):
    data = b"".join(parts)
    reader, found, at = TelegramReader(FORM), [], 0
    for size in [*cuts, len(data)]:
        found += reader.feed(data[at : at + size])
        at += size
    expected = read_by_hand(data)
    assert [t.number for t in found] == [one[0] for one in expected]
    assert reader.good == len(expected)
    assert reader.skipped + 16 * reader.good + len(reader._rest) == len(data)
    assert len(reader._rest) < 16


def test_what_a_telegram_says():
    (one,) = TelegramReader(FORM).feed(by_hand(40744252, 1, 2485, 0b10_01_1_1, -97, 255))
    assert one == (40744252, "calliper", 24.85, -97.0, "one relay", 2, True, True, 255)
    (switch,) = TelegramReader(FORM).feed(by_hand(5, 3, 1))
    assert (switch.kind, switch.value, switch.way, switch.operated) == (
        "switch",
        "pressed",
        "direct",
        False,
    )
    (unknown,) = TelegramReader(FORM).feed(by_hand(5, 77, 1))
    assert (unknown.kind, unknown.value) == ("code 77", None)
    sent = FORM.encode({"number": 9, "strength": -60, "count": 3, "battery_low": 1}, "gauge", 1234)
    assert sent == by_hand(9, 2, 1234, 1, -60, 3)


BASE = """\
datasheet: 1
model: x
maker: y
summary: z
link: text
identity: {model: {query: ID, type: text}, serial: {query: SN, type: text}}
readings: {a: {query: A}}
telegrams:
  listen: {on: "1", off: "0"}
  begins: 02 A5
  length: 16
  id: {at: 2, type: u32}
  kind: {at: 6, type: u8, choices: {a: 1}}
  check: crc16-ccitt
"""


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("length: 16", "length: 400", "cannot be"),
        ("length: 16", "length: 2", "cannot be"),
        ("id: {at: 2", "id: {at: 1", "lies outside of the telegram"),
        ("id: {at: 2", "id: {at: 11", "lies outside of the telegram"),
        ("kind: {at: 6", "kind: {at: 5", "two fields lie on byte 5"),
        ("type: u8, choices", "type: i8, bits: 0..1, choices", "no such bits in a i8"),
        ("type: u8, choices", "type: u8, bits: 0..9, choices", "no such bits in a u8"),
        ("check: crc16-ccitt", "check: crc16-ccitt\n  check_from: 14", "the check covers no byte"),
        ("begins: 02 A5", "begins: 2 A5", "are no bytes"),
        ("check: crc16-ccitt", "check: crc64", "crc64"),
    ],
)
def test_a_telegram_that_cannot_be_is_a_finding(old, new, words):
    assert lw.parse_datasheet(BASE).telegrams is not None
    with pytest.raises(lw.SetupError) as error:
        lw.parse_datasheet(BASE.replace(old, new))
    assert words in str(error.value)


# ---------------------------------------------------------------------- in the air


def telegrams(*frames):
    return TelegramReader(FORM).feed(b"".join(frames))


def test_copies_over_relays_count_once_and_what_is_missed_is_counted():
    air = Air()
    for second in range(0, 60, 10):
        count = second // 10 + (5 if second >= 40 else 0)
        for copy, (relay, way) in enumerate([(0, 0), (1, 1)]):
            flags = way << 2 | relay << 4
            (one,) = telegrams(by_hand(5, 2, 10, flags, -99, count))
            air.take(second + 0.03 * copy, one)
    heard = air.heard[5]
    assert (heard.times, heard.copies, heard.missed) == (6, 6, 5)
    assert heard.interval_s == pytest.approx(10.0)
    assert (heard.is_silent(80.0), heard.is_silent(95.0)) == (False, True)
    odd = dict(oddities(air, {5: "saw", 6: "gone"}, 200.0, AirLimits(-95.0)))
    assert set(odd) == {"silent", "weak"}
    assert odd["silent"] == "saw (5) is silent for 150 s; it transmits every 10 s"


def heard_over(*ways, counts=range(8), number=1, kind=2):
    """The air after telegrams that each came over some ways: pairs of hops and relay."""
    air = Air()
    for count in counts:
        for copy, (hops, relay) in enumerate(ways):
            (one,) = telegrams(by_hand(number, kind, 10, hops << 2 | relay << 4, -60, count % 256))
            air.take(10.0 * count + 0.03 * copy, one)
    return air


@pytest.mark.parametrize(
    ("ways", "rules"),
    [
        ([(0, 0)], []),
        ([(1, 1)], []),  # it is needed
        ([(0, 0), (1, 1)], ["relay-doubles"]),
        ([(1, 1), (0, 0)], ["relay-doubles"]),  # in whatever order they come
        ([(1, 1), (1, 2)], ["relay-doubles", "relay-doubles"]),  # one of them is enough
        (
            [(1, 2), (2, 2)],
            ["relays-repeat"],
        ),  # what it has sent comes back to it over the other one
        ([(1, 1), (1, 1)], ["relays-repeat"]),
        ([(0, 0), (1, 1), (1, 2), (2, 1)], ["relay-doubles", "relays-repeat", "relay-doubles"]),
    ],
)
def test_relays_that_double_and_that_repeat_each_other(ways, rules):
    air = heard_over(*ways, counts=range(250, 262))
    assert [one.rule for one in oddities(air, {}, 121.0)] == rules
    heard = air.heard[1]
    assert (heard.times, heard.copies) == (12, 12 * (len(ways) - 1))
    assert sum(count.times for count in heard.paths.values()) == 12 * len(set(ways))


def test_a_relay_that_one_transmitter_needs_does_not_double():
    air = heard_over((0, 0), (1, 1), counts=range(20))
    air.heard.update(heard_over((1, 1), number=2, counts=range(2)).heard)
    assert not list(oddities(air, {}, 200.0))


@pytest.mark.parametrize(
    ("counts", "kinds", "words"),
    [
        (
            [1, 2, 3, 4, 200, 5],
            [2] * 6,
            "",
        ),  # one step back: a new battery, or a telegram that came late
        ([1, 200, 2, 201, 3, 202], [2] * 6, "its count of telegrams went back 3 times"),
        ([1, 2, 3], [1, 2, 1], "it is calliper and gauge"),
    ],
)
def test_a_number_that_two_transmitters_send(counts, kinds, words):
    air = Air()
    for second, (count, kind) in enumerate(zip(counts, kinds, strict=True)):
        (one,) = telegrams(by_hand(7, kind, 10, 0, -60, count))
        air.take(10.0 * second, one)
    odd = [one.message for one in oddities(air, {7: "saw"}, 60.0)]
    assert odd == ([f"two transmitters send the number of saw (7): {words}"] if words else [])


def test_too_many_transmitters_are_counted_only(monkeypatch):
    monkeypatch.setattr("leitwerk.wireless.air.MOST_TRANSMITTERS", 10)
    air = Air()
    for number in range(25):
        (one,) = telegrams(by_hand(number))
        air.take(1.0, one)
    assert (len(air.heard), air.not_remembered) == (10, 15)


# ---------------------------------------------------------------------- the one in the hand


def in_a_world(seed, *, says=True, heard=True, busy=0.005):
    """Operate one of 40 while others are operated, too: what is singled out, and whether that is right."""
    world, random = World(FORM, seed), np.random.default_rng(seed + 1)
    target, reader = world.every[int(random.integers(40))], TelegramReader(FORM)
    tries = SinglingOut(says_operated=says)

    def listen(duration_s, *, operated):
        begin = world.now_s
        for one in world.every:
            if one is not target:
                more = random.uniform(0.0, duration_s, random.poisson(busy * duration_s))
                one.operated_s += (begin + more).tolist()
        if operated:
            world.operate(target.number, begin + float(random.uniform(0.3, duration_s - 0.3)))
        counts = {}
        for _, frame in world.until(begin + duration_s):
            for t in reader.feed(frame):
                if (heard or t.number != target.number) and counts.get(t.number) != t.counter:
                    counts[t.number] = t.counter
                    yield t.number, t.operated

    tries.take_quiet(30.0, listen(30.0, operated=False))
    for _ in range(8):
        tries.take_operated(4.0, listen(4.0, operated=True))
        found = tries.result()
        if found.number is not None:
            return found.number == target.number, found
        pause_s = 4.0 * float(random.uniform(0.5, 2.5))
        tries.take_quiet(pause_s, listen(pause_s, operated=False))
    return None, found


@pytest.mark.parametrize("says", [True, False])
@pytest.mark.parametrize("heard", [True, False])
def test_in_200_worlds_the_right_one_or_none(says, heard):
    """Forty transmitters, collisions, two relays: the one that is operated, or told that it is not known."""
    found = [in_a_world(seed, says=says, heard=heard) for seed in range(200)]
    assert not [seed for seed, (right, _) in enumerate(found) if right is False]
    right = sum(one is True for one, _ in found)
    if says and heard:
        assert right >= 198
    if not heard:
        assert right == 0
    assert all(result.step for one, result in found if one is None)
