"""The verdict on a wiring: mistakes planted in a net that is built here conductor by conductor."""

import cmath
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import leitwerk as lw
from conftest import SteppedTime
from leitwerk.power import SYSTEMS, Wiring, judge_wiring
from leitwerk.power.phasors import unbalance
from leitwerk.results import Outcome
from leitwerk.standins.mains import Wires
from leitwerk.standins.power import PowerAnalyzer
from leitwerk.standins.profile import find_profile

FOUR, THREE, TWO = (
    SYSTEMS[name] for name in ("3-phase 4-wire", "3-phase 3-wire", "3-phase 3-wire, 2 currents")
)


def polar(amount, degrees):
    return cmath.rect(amount, math.radians(degrees))


def net(lags=(30.0, 32.0, 28.0), amps=(40.0, 44.0, 38.0), volts=(231.0, 229.5, 232.0)):
    """Voltages to the neutral and currents of a right net: the currents lag."""
    places = (0.0, -120.0, 120.0)
    u = [polar(v, p) for v, p in zip(volts, places, strict=True)]
    i = [polar(a, p - lag) for a, p, lag in zip(amps, places, lags, strict=True)]
    return u, i


def between(u):
    return [u[0] - u[1], u[1] - u[2], u[2] - u[0]]


def exchange(values, a, b):
    values[a], values[b] = values[b], values[a]


def scale(values, k, factor):
    values[k] *= factor


MISTAKES = {
    "voltages exchanged": (lambda u, _: exchange(u, 1, 2), "voltages L2 and L3"),
    "rotation": (lambda u, i: (exchange(u, 1, 2), exchange(i, 1, 2)), "the other way"),
    "current reversed": (lambda _, i: scale(i, 0, -1), "sensor L1 is reversed"),
    "current reversed (two)": (
        lambda _, i: (scale(i, 1, -1), scale(i, 2, -1)),
        "L2 and L3 are reversed",
    ),
    "all currents reversed": (
        lambda _, i: [scale(i, k, -1) for k in range(3)],
        "all current sensors",
    ),
    "currents exchanged": (lambda _, i: exchange(i, 0, 1), "sensors L1 and L2"),
    "currents moved round": (lambda _, i: i.insert(0, i.pop()), "moved round"),
    "currents exchanged, current reversed": (
        lambda _, i: (exchange(i, 0, 2), scale(i, 1, -1)),
        "sensor L2 is reversed",
    ),
    "voltage missing": (lambda u, _: scale(u, 2, 0.01), "L3-N"),
    "voltage reversed": (lambda u, _: scale(u, 1, -1), "voltage L2"),
    "neutral open": (
        lambda u, _: u.__setitem__(slice(None), [x + polar(40, 70) for x in u]),
        "neutral is open",
    ),
    "voltage ratio": (lambda u, _: [scale(u, k, 3**0.5) for k in range(3)], "√3"),
    "voltage ratio of one": (lambda u, _: scale(u, 1, 0.5), "L2-N"),
    "current ratio of one": (lambda _, i: scale(i, 2, 4.0), "L3"),
    "same conductor": (lambda _, i: i.__setitem__(1, i[0]), "L1 and L2"),
}


@pytest.mark.parametrize("kind", MISTAKES)
def test_each_planted_mistake_is_named(kind):
    u, i = net(amps=(40.0, 40.4, 39.0))
    plant, words = MISTAKES[kind]
    plant(u, i)
    verdict = judge_wiring(Wiring(FOUR, 230.0, flow="import"), np.array(u), np.array(i))
    assert verdict.outcome is Outcome.FAILED
    assert [mistake.kind for mistake in verdict.mistakes] == [kind.removesuffix(" (two)")]
    assert words in str(verdict.mistakes[0]), verdict.mistakes


@given(
    flow=st.sampled_from(["import", "export"]),
    lag=st.floats(-10, 70),
    apart=st.tuples(*[st.floats(-12, 12)] * 3),
    amps=st.tuples(*[st.floats(20, 34)] * 3),
    volts=st.tuples(*[st.floats(215, 245)] * 3),
    system=st.sampled_from([FOUR, THREE, TWO]),
    rotation=st.sampled_from(["L1 L2 L3", "L1 L3 L2"]),
)
def test_none_is_named_on_the_right_wiring(flow, lag, apart, amps, volts, system, rotation):
    # A generator that takes reactive power is a load, mirrored.
    mean = lag if flow == "import" else 180.0 - lag
    u, i = net([mean + a for a in apart], amps, volts)
    if system.between_phases:
        star = sum(i) / 3.0
        i = [x - star for x in i]  # without a neutral they sum up to 0
        u = between(u)
    if system is TWO:
        i[1] = 0.0
    if rotation == "L1 L3 L2":
        u, i = [x.conjugate() for x in u], [x.conjugate() for x in i]
        i = [cmath.rect(abs(c), 2 * cmath.phase(v) - cmath.phase(c)) if system is FOUR else c
             for v, c in zip(u, i, strict=True)]  # fmt: skip
        if system is not FOUR:
            return
    nominal = 230.0 * (3**0.5 if system.between_phases else 1.0)
    verdict = judge_wiring(Wiring(system, nominal, rotation, flow), np.array(u), np.array(i))
    assert verdict.mistakes == (), verdict.mistakes


@pytest.mark.parametrize("third", [True, False])
def test_three_wires_on_a_net_with_a_neutral(third):
    u, i = net(amps=(60.0, 40.0, 38.0))
    found = judge_wiring(
        Wiring(TWO, 400.0, flow="import", expected_w=26e3, within_w=9e3),
        np.array(between(u)),
        np.array([i[0], i[1] if third else 0.0, i[2]]),
    )
    told = " ".join((*found.reasons, *found.not_shown))
    assert found.outcome is (Outcome.FAILED if third else Outcome.UNKNOWN)
    assert ("the net has a neutral" if third else "two sensors cannot show it") in told


def test_another_kind_of_net_is_told():
    u, i = net()
    found = judge_wiring(
        Wiring(SYSTEMS["split-phase"], 230.0, flow="import"), np.array(u[:2]), np.array(i[:2])
    )
    assert "the voltages are not those of split-phase" in str(found.mistakes[0])


@pytest.mark.parametrize(
    "phasors", [[0, 0, 0], [1, 1, 1], [1e-16, 1e-16, 1e-16], [230, 230, 230 + 1e-6j]]
)
def test_the_unbalance_of_nothing_is_nothing(phasors):
    u2, u0 = unbalance(np.array(phasors, complex))
    assert np.isnan(u2)
    assert np.isnan(u0)
    dead = unbalance(np.array([230.0, 0.0, 0.0]))
    assert dead[0] == pytest.approx(100.0)


def test_the_readings_of_the_analyzer_are_of_one_moment():
    """What can be worked out of others is what is shown: sequence components, powers, factors, sums."""
    clock = SteppedTime()
    sheet = lw.find_datasheet("ulme-3p")
    meter = PowerAnalyzer(sheet, find_profile("ulme-3p"), clock, wires=Wires())
    clock.wait(7.3)
    first = meter.measured()
    clock.wait(0.4)
    shown = meter.measured()
    assert {n: first[n] for n in ("voltage.1", "current.1")} == {
        n: shown[n] for n in ("voltage.1", "current.1")
    }
    turn = complex(-0.5, math.sqrt(0.75))
    u = [
        cmath.rect(shown[f"voltage.{k}"], math.radians(shown[f"angle.voltage.{k}"]))
        for k in (1, 2, 3)
    ]
    i = [
        cmath.rect(shown[f"current.{k}"], math.radians(shown[f"angle.current.{k}"]))
        for k in (1, 2, 3)
    ]
    for name, x in (("voltage", u), ("current", i)):
        positive = abs(x[0] + turn * x[1] + turn**2 * x[2]) / 3.0
        assert shown[f"sequence.{name}.positive"] == pytest.approx(positive, rel=0.1)
        assert shown[f"sequence.{name}.positive"] <= 1.0001 * max(abs(one) for one in x)
    assert shown["unbalance"] == pytest.approx(
        100.0 * shown["sequence.voltage.negative"] / shown["sequence.voltage.positive"]
    )
    for k in (1, 2, 3):
        apparent = shown[f"voltage.{k}"] * shown[f"current.{k}"] / 1e3
        assert shown[f"power.apparent.{k}"] == pytest.approx(apparent, rel=1e-6)
        assert shown[f"power.factor.{k}"] == pytest.approx(
            shown[f"power.active.{k}"] / shown[f"power.apparent.{k}"]
        )
    for what in ("active", "reactive", "apparent"):
        total = sum(shown[f"power.{what}.{k}"] for k in (1, 2, 3))
        assert shown[f"power.{what}"] == pytest.approx(total)
