"""Choosing a model by what a job needs."""

import json

import pytest

import leitwerk as lw
from leitwerk.datasheet.needs import Needs, _protects, parse_counted, unmet_needs

SHEET = lw.find_datasheet("fichte-8")


def reasons(*inputs, **more):
    return unmet_needs(Needs(inputs=tuple(parse_counted(i) for i in inputs), **more), SHEET)


@pytest.mark.parametrize(
    ("inputs", "more", "says"),
    [
        (["4 Pt100", "2 type K", "2 contact"], {}, None),
        (["8 4..20 mA"], {"interval_s": 1.0, "keep_s": 86400.0}, None),
        (["2 -5..5 V"], {}, None),
        (["9 Pt100"], {}, "it has 8 inputs for Pt100"),
        (["5 Pt100", "4 type K"], {}, "do not suffice for all of them together: 1 too few"),
        (["1 0..30 V"], {}, "it has no inputs for 0..30 V"),
        (["1 dB"], {}, "it has no inputs for dB"),
        (["8 voltage", "2 contact"], {}, "it keeps 8 channels"),
        ([], {"interval_s": 0.1}, "it samples every 0.5 s to 86400 s"),
        ([], {"interval_s": 1.0, "keep_s": 7 * 86400.0}, "its memory lasts 27.8 h"),
        ([], {"alarms": 13}, "it has 12 alarms"),
        ([], {"outputs": (parse_counted("3 relay"),)}, "it has 2 relay outputs"),
        ([], {"surroundings_c": (-30.0, 40.0)}, "it stands -20 to 50 °C"),
        ([], {"protection": "IP65"}, "its protection is IP54"),
    ],
)
def test_what_stands_against_a_model(inputs, more, says):
    found = reasons(*inputs, **more)
    assert found == [] if says is None else any(says in reason for reason in found)


@pytest.mark.parametrize(
    ("has", "needs", "fits"),
    [("IP54", "IP54", True), ("IP67", "IP54", True), ("IP54", "IP44", True), ("IP54", "IP65", False),
     ("IP54", "IPX4", True), ("IPX7", "IP54", False), ("", "IP20", False)],
)  # fmt: skip
def test_degrees_of_protection(has, needs, fits):
    assert _protects(has, needs) is fits


def test_the_command(leitwerk):
    chosen = leitwerk("models", "--need", "1 l/s", "--need", "1 m", "--stands", "-25..30 °C")
    assert (chosen.exit_code, chosen.stdout.splitlines()[0].split(":")[0]) == (0, "fits      weide")
    none = leitwerk("models", "--need", "99 Pt100", "--json")
    assert none.exit_code == 1
    assert not any(fit["fits"] for fit in json.loads(none.stdout))
    for words, says in (
        (["--need", "Pt100"], "does not say how many"),
        (["--need", "2 Pt1oo"], "is not a kind of input"),
        (["--output", "1 steam"], "valid: 4..20 mA, relay"),
        (["--keep-for", "1 d"], "an interval as well"),
        (["--protection", "IP99Z"], "not a degree of protection"),
    ):
        result = leitwerk("models", *words)
        assert (result.exit_code, says in result.stderr) == (2, True), result.output
