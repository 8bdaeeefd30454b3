"""Exchanges and values by chance."""

import math
import string
from dataclasses import replace

from hypothesis import strategies as st

from leitwerk.check.exchange_lines import check_lines
from leitwerk.exchange.definition import Direction, Exchange, Form, LineForm, Part
from leitwerk.exchange.saying import counts, repeated
from leitwerk.exchange.terms import Kind, Layout, Manner, Spaces
from leitwerk.findings import Findings

PLAIN = [st.just("")] * 9
ODD = st.one_of(
    *PLAIN, st.just("x"), st.text(st.sampled_from(string.printable + "°äµ€\x02{}"), max_size=3)
)
SEPARATORS = st.just(";") | st.sampled_from(
    [";", ",", "\t", " ", "|", "; ", "::", "\x1f", "-", ".", "aa", ";\r"]
)
ENDS = st.just("\r\n") | st.sampled_from(["\r\n", "\r", "\n", "\x03", "#", ";;", "\n\r", "0"])


def forms():
    number = st.builds(
        Form, st.just(Kind.NUMBER), decimals=st.none() | st.integers(0, 6),
        digits=st.none() | st.integers(1, 12), exponent=st.booleans(), width=st.integers(0, 12),
        pad=st.sampled_from(" 0"), unit=st.sampled_from(["", "°C", "V", "%"]),
        bad=st.sampled_from(["---", "", "0", "x"]),
        before=ODD, after=ODD,
    )  # fmt: skip
    whole = st.builds(
        Form, st.sampled_from([Kind.INTEGER, Kind.HEXADECIMAL, Kind.COUNTER]), width=st.integers(0, 9),
        pad=st.sampled_from(" 0"), bad=st.sampled_from(["---", "BAD", "n/a"]), before=ODD,
    )  # fmt: skip
    text = st.builds(
        Form,
        st.just(Kind.TEXT),
        before=ODD,
        longest=st.integers(0, 30),
        bad=st.sampled_from(["---", ""]),
    )
    states = st.dictionaries(st.sampled_from(["off", "on", "wet"]), ODD, min_size=1).map(
        lambda d: tuple(d.items())
    )
    state = st.builds(Form, st.just(Kind.STATE), states=states)
    time = st.builds(Form, st.just(Kind.TIME), layout=st.sampled_from(Layout))
    constant = st.builds(Form, st.just(Kind.CONSTANT), text=ODD)
    return st.one_of(number, whole, text, state, time, constant)


@st.composite
def line_forms(draw, name):
    parts = [Part(form, f"p{k}") for k, form in enumerate(draw(st.lists(forms(), max_size=5)))]
    if parts and not parts[-1].is_constant and draw(st.booleans()):
        least = draw(st.integers(0, 2))
        parts[-1] = replace(parts[-1], least=least, most=max(1, least + draw(st.integers(0, 3))))
    keyword = draw(st.one_of(*[st.just(name.upper())] * 8, st.just(f"{name}!"), ODD))
    return LineForm(name, keyword, tuple(parts))


@st.composite
def directions(draw):
    return Direction(
        draw(SEPARATORS), draw(ENDS), draw(st.one_of(*PLAIN, st.just("\x02"), st.just("$"))),
        draw(st.sampled_from(["utf-8", "latin-1", "ascii"])), draw(st.sampled_from(".,")),
        draw(st.integers(20, 300)),
        draw(st.sampled_from(Spaces)), draw(st.sampled_from(["", '"', "'"])), confirms="", refuses="",
        lines=tuple(draw(line_forms(f"k{k}")) for k in range(draw(st.integers(1, 3)))),
    )  # fmt: skip


@st.composite
def exchanges(draw):
    """Any exchange, as one end sees it; most have findings."""
    return Exchange(
        "office", draw(st.sampled_from([*Manner, Manner.MACHINES, Manner.PEOPLE])),
        address=draw(st.one_of(*PLAIN, st.just("#03 "))),
        says=draw(directions()), understands=draw(directions()),
    )  # fmt: skip


def has_findings(exchange):
    findings = Findings("x")
    check_lines(exchange, ("exchanges", "office"), findings)
    return any(f.is_error for f in findings)


def value_of(form):
    """Values of a form, good and bad; some cannot be said."""
    number = st.floats(-1e12, 1e12) | st.floats()
    return (
        st.none()
        | {
            Kind.NUMBER: number,
            Kind.INTEGER: st.integers(-(10**9), 10**9),
            Kind.HEXADECIMAL: st.integers(0, 2**64 - 1),
            Kind.COUNTER: st.integers(0, 10**6),
            Kind.TEXT: st.text(st.sampled_from(string.printable + "°äµ"), max_size=32)
            | st.text(max_size=8),
            Kind.STATE: st.sampled_from([name for name, _ in form.states] or [None]),
            Kind.TIME: st.integers(
                0, 86_399 if form.layout is Layout.TIME_OF_DAY else 4_102_444_799
            ),
            Kind.CONSTANT: st.none(),
        }[form.kind]
    )


@st.composite
def values_of(draw, line):
    few, many = counts(line)
    count = draw(st.integers(few, many))
    return tuple(draw(value_of(p.form)) for p in repeated(line, count) if not p.is_constant)


def rounded(form, value):
    """What a value is after it was written by its form: worked out apart from the code."""
    if value is None or (isinstance(value, float) and not math.isfinite(value)):
        return None
    if form.kind is Kind.NUMBER:
        if form.decimals is not None and not form.exponent:
            return float(f"{value:.{form.decimals}f}")
        if form.digits is None and not form.exponent:
            return value
        return float(f"{value:.{(form.digits or (form.decimals or 0) + 1) - 1}e}")
    if form.kind is Kind.COUNTER and form.width:
        return value % 10**form.width
    return value
