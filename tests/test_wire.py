"""Planning requests, against brute force; decoding, against the slow and obvious way."""

from itertools import combinations, pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.datasheet import Point
from leitwerk.wire.modbus import MAX_READ, MAX_WRITE, ReadPlan, plan_reads, plan_writes


@st.composite
def layouts(draw, most=8):
    """Points that do not overlap, some touching, some apart."""
    points, at = [], 0
    for n in range(draw(st.integers(1, most))):
        at += draw(st.sampled_from([0, 0, 1, 5, 40]))
        words = draw(st.sampled_from([1, 2, 2, 30, 60]))
        kind = {1: "u16", 2: "f32"}.get(words, "text")
        points.append(Point(f"p{n}", "holding", at, words, kind))
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


@given(st.data())
def test_the_quick_and_the_careful_decoding_agree(data):
    kinds = [("u16", 1), ("i16", 1), ("u32", 2), ("i32", 2), ("f32", 2)]
    points, at = [], 100
    for n in range(data.draw(st.integers(1, 6))):
        kind, words = data.draw(st.sampled_from(kinds))
        step = 1.0 if kind == "f32" else data.draw(st.sampled_from([1.0, 0.1]))
        points.append(Point(f"p{n}", "input", at, words, kind, step=step))
        at += words + data.draw(st.integers(0, 3))
    plan = ReadPlan(points, bridge=3)
    count = sum(r.count for r in plan.requests)
    words = data.draw(st.lists(st.integers(0, 0x42FF), min_size=count, max_size=count))
    slow = plan.values(words)
    quick = dict(zip((p.name for p in points), plan.numbers(words), strict=True))
    assert quick == pytest.approx(slow, rel=1e-6, nan_ok=True)
