"""What one end says, the other understands exactly: any exchange without errors, any values, any pieces."""

import random

import pytest
from hypothesis import HealthCheck, Phase, assume, event, given, settings
from hypothesis import strategies as st
from strategies import exchanges, has_findings, rounded, values_of

from leitwerk.exchange.definition import Manner
from leitwerk.exchange.end import End
from leitwerk.exchange.saying import repeated
from leitwerk.exchange.values import CannotSay


def pieces(data, chance):
    """The same bytes, in pieces of any size."""
    at = 0
    while at < len(data):
        size = chance.choice((1, 2, 3, 7, 50))
        yield data[at : at + size]
        at += size


def expected(exchange, line, values):
    if exchange.manner is Manner.GUARDED:
        return tuple(None if isinstance(v, float) and abs(v) == float("inf") or v != v else v for v in values)
    parts = [p for p in repeated(line, len(values)) if not p.is_constant]
    return tuple(rounded(p.form, v) for p, v in zip(parts, values, strict=True))


@settings(suppress_health_check=list(HealthCheck), max_examples=int(__import__("os").environ.get("EX","300")), deadline=None,
          phases=(Phase.explicit, Phase.reuse, Phase.generate, Phase.shrink))
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
            event("cannot be said")
        else:
            said.append((line.name, expected(exchange, line, values)))
    heard = []
    for _ in range(10):
        for piece in pieces(there.output(), chance):
            heard += here.receive(piece, 0.0)
        for piece in pieces(here.output(), chance):
            there.receive(piece, 0.0)
    assert [h.trouble for h in heard] == [None] * len(said)
    assert [(h.name, h.values) for h in heard] == said
    event(f"{exchange.manner}: {len(said)} lines")
