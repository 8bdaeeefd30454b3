"""Planning requests, against brute force; decoding, against the slow and obvious way."""

from itertools import combinations, pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.datasheet.register_points import RegisterPoint
from leitwerk.protocols.modbus import (
    MAX_READ,
    MAX_WRITE,
    ReadPlan,
    plan_reads,
    plan_writes,
    shared_registers,
)


@st.composite
def layouts(draw, most=8):
    """Points that do not overlap, some touching, some apart."""
    points, at = [], 0
    for n in range(draw(st.integers(1, most))):
        at += draw(st.sampled_from([0, 0, 1, 5, 40]))
        words = draw(st.sampled_from([1, 2, 2, 30, 60]))
        kind = {1: "u16", 2: "f32"}.get(words, "text")
        points.append(RegisterPoint(f"p{n}", "holding", at, words, kind))
        at += words
    return points


def fewest(points, bridge, limit):
    """By trying every way of cutting the sorted points into runs."""
    points = sorted(points, key=lambda p: p.start)

    def fits(run):
        gaps = [b.start - a.end for a, b in pairwise(run)]
        return run[-1].end - run[0].start <= limit and all(gap <= bridge for gap in gaps)

    for count in range(1, len(points) + 1):
        for cuts in combinations(range(1, len(points)), count - 1):
            edges = [0, *cuts, len(points)]
            if all(fits(points[a:b]) for a, b in pairwise(edges)):
                return count
    raise AssertionError


@given(layouts(), st.sampled_from([0, 1, 20]))
def test_reads_are_the_fewest_and_cover_every_point(points, bridge):
    requests = plan_reads(points, bridge)
    assert len(requests) == fewest(points, bridge, MAX_READ)
    for p in points:
        assert any(r.start <= p.start and p.end <= r.start + r.count for r in requests)
    assert all(r.count <= MAX_READ for r in requests)


@given(layouts())
def test_writes_are_the_fewest_and_touch_no_other_register(points):
    requests = plan_writes({p: "x" if p.is_text else 1.0 for p in points})
    assert len(requests) == fewest(points, 0, MAX_WRITE)
    written = [r.start + i for r in requests for i in range(len(r.words))]
    assert sorted(written) == sorted(i for p in points for i in range(p.start, p.end))


def test_fields_of_one_register_are_written_together_and_leave_the_rest_alone():
    low = RegisterPoint("low", "holding", 5, 1, "u16", bits=(0, 3))
    high = RegisterPoint("high", "holding", 5, 1, "u16", bits=(12, 15))
    other = RegisterPoint("other", "holding", 6, 1, "u16")
    assert [str(r) for r in shared_registers([low, high, other])] == ["read holding 5..5"]
    (request,) = plan_writes({low: 9.0, high: 1.0, other: 7.0}, {5: 0xABCD})
    assert (request.start, request.words) == (5, (0x1BC9, 7))
    assert request.names == ("low", "high", "other")


def test_coils_are_requests_of_their_own():
    coils = [RegisterPoint(f"c{n}", "coil", n, 1, "u16") for n in range(3)]
    register = RegisterPoint("r", "holding", 3, 1, "u16")
    assert [str(r) for r in plan_writes(dict.fromkeys([*coils, register], 1.0))] == [
        "write coil 0..2", "write holding 3..3",
    ]  # fmt: skip
    assert len(plan_reads([*coils, register])) == 2


@given(st.data())
def test_the_quick_and_the_careful_decoding_agree(data):
    kinds = [("u16", 1), ("i16", 1), ("u32", 2), ("i32", 2), ("f32", 2)]
    points, at = [], 100
    for n in range(data.draw(st.integers(1, 6))):
        kind, words = data.draw(st.sampled_from(kinds))
        step = 1.0 if kind == "f32" else data.draw(st.sampled_from([1.0, 0.1]))
        odd = data.draw(st.sampled_from([{}, {"low_word_first": True}, {"bytes_swapped": True}]))
        points.append(RegisterPoint(f"p{n}", "input", at, words, kind, step=step, **odd))
        at += words + data.draw(st.integers(0, 3))
    plan = ReadPlan(points, max_gap=3)
    count = sum(r.count for r in plan.requests)
    words = data.draw(st.lists(st.integers(0, 0x42FF), min_size=count, max_size=count))
    slow = plan.values(words)
    quick = dict(zip((p.name for p in points), plan.numbers(words), strict=True))
    assert quick == pytest.approx(slow, rel=1e-6, nan_ok=True)


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize("words", [(0x7F80, 0x0001), (0xFFC0, 0x0000), (0x7FFF, 0xFFFF)])
def test_each_kind_of_nan_is_no_number_and_no_warning(words):
    point = RegisterPoint("x", "input", 0, 2, "f32")
    assert np.isnan(ReadPlan([point]).numbers(words)).all()
    assert point.decode(words) != point.decode(words)
