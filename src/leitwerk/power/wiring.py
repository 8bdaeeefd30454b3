"""Whether a net is wired to an analyzer as the setup says, from phasors that it shows."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.power.hypotheses import EITHER, Hypothesis, are_in_order, complete, explain, lags
from leitwerk.power.phasors import phasor, symmetrical_components, to_star_point
from leitwerk.power.system import PHASES, ROTATIONS, System
from leitwerk.results import Outcome

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Complex = NDArray[np.complex128]

_DEAD = 0.2  # a voltage below this part of the nominal one is missing
_NEAR = 0.15  # a supply stays this near to its nominal voltage, but for minutes
_SAME = 0.04  # a factor is a usual one when it is met this closely
_NEUTRAL = 0.07  # a zero sequence above this part of the nominal voltage: the neutral has moved
_SKEWED = 0.06  # negative by positive sequence of a net that is itself in order
_RETURN = 0.06  # a sum of currents above this part of the largest one flows somewhere else
_LIKELY = 2.0  # what costs more than two mistakes does not make unusual angles doubtful
_AMBIGUOUS = 0.4  # hypotheses whose costs differ by less are both told
_USUAL_FACTORS = (2.0, 2.5, 3.0, 4.0, 5.0, 8.0, 10.0, 20.0, 25.0, 40.0, 50.0, 100.0, 1000.0)


@dataclass(frozen=True, slots=True)
class Wiring:
    """What is wired, and what is expected of it.

    ``nominal_v`` is the voltage that the system measures: to the neutral, or between phases. ``flow`` says
    where power flows while it is judged, ``least_a`` below which current an angle means nothing;
    ``expected_w`` and ``within_w`` are the power that is expected, where it is known.
    """

    system: System
    nominal_v: float
    rotation: str = ROTATIONS[0]
    flow: str = EITHER
    least_a: float = 0.0
    expected_w: float | None = None
    within_w: float = 0.0

    @property
    def angles(self) -> Complex:
        """The voltages as they are expected, as unit phasors."""
        turn = 1.0 if self.rotation == ROTATIONS[0] else -1.0
        return phasor(1.0, turn * np.array(self.system.angles))


@dataclass(frozen=True, slots=True)
class Mistake:
    """A mistake of wiring: its kind, what shows it, and what to do."""

    kind: str
    what: str
    shows: str
    remedy: str

    def to_dict(self) -> dict[str, str]:
        """The mistake as plain data for JSON."""
        return {
            "kind": self.kind,
            "what": self.what,
            "shows": self.shows,
            "remedy": self.remedy,
        }

    def __str__(self) -> str:
        return f"{self.what}: {self.shows}; {self.remedy}"


@dataclass(frozen=True, slots=True)
class WiringVerdict:
    """What the phasors show of the wiring.

    ``alternatives`` are further explanations of the same readings, which these do not tell apart;
    ``not_shown`` is what they cannot show.
    """

    mistakes: tuple[Mistake, ...]
    alternatives: tuple[str, ...]
    not_shown: tuple[str, ...]

    @property
    def outcome(self) -> Outcome:
        """Not passed with a mistake; unknown where something was not shown."""
        if self.mistakes:
            return Outcome.FAILED
        return Outcome.UNKNOWN if self.not_shown else Outcome.PASSED

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why it is not passed, or why that is unknown."""
        return tuple(map(str, self.mistakes)) or self.not_shown


def judge_wiring(wiring: Wiring, voltages: Complex, currents: Complex) -> WiringVerdict:
    """Judge the wiring from phasors of one moment, or their means over some seconds.

    Parameters
    ----------
    wiring : Wiring
    voltages : complex array, one for each phase
        As the system measures them, in V; 0 where there is none.
    currents : complex array, one for each phase
        In A. Where the system has two sensors of three phases, the one that it leaves out may be 0.

    """
    u, i = np.asarray(voltages, complex), np.asarray(currents, complex)
    found = list(_of_voltages(wiring, u))
    not_shown: list[str] = []
    alternatives: list[str] = []
    missing = [k for k in range(u.size) if abs(u[k]) < _DEAD * wiring.nominal_v]
    if len(missing) == u.size:
        return WiringVerdict(tuple(found), (), ("the currents: there is no voltage",))
    sensors = i[list(wiring.system.sensors)]
    if not np.isfinite(u).all() or not np.isfinite(sensors).all():
        return WiringVerdict(tuple(found), (), ("a reading is bad or missing",))
    found += _of_amounts(wiring, i)
    star, least = _star(wiring, u, missing), _least(wiring, sensors)
    without = [PHASES[k] for k in wiring.system.sensors if abs(i[k]) < least]
    if len(without) < sensors.size:
        ways = explain(star, sensors, wiring.system, wiring.angles, wiring.flow, least)
        told, alternatives, unclear = _of_angles(wiring, star, i, ways)
        found += told
        not_shown += unclear
    if without:
        not_shown.append(
            f"no current in {', '.join(without)}: switch on a load there, or look whether the sensor is "
            "closed and plugged"
        )
    left_out = [k for k in range(wiring.system.phases) if k not in wiring.system.sensors]
    if any(not abs(i[k]) >= least for k in left_out):
        not_shown.append(
            "whether a neutral carries current: two sensors cannot show it; measure the third once"
        )
    if wiring.flow == EITHER and not found:
        not_shown.append("the direction: power may flow either way; state where it flows now")
    if without:
        return WiringVerdict(tuple(found), tuple(alternatives), tuple(not_shown))
    if wiring.expected_w is None and not found:
        not_shown.append(
            "the ratio of the currents: no power is expected; state what another meter shows now"
        )
    found += _of_power(wiring, star, sensors, found)
    return WiringVerdict(tuple(found), tuple(alternatives), tuple(not_shown))


def _least(wiring: Wiring, sensors: Complex) -> float:
    """The current below which an angle means nothing."""
    return max(wiring.least_a, 0.05 * float(np.abs(sensors).max(initial=0.0)), 1e-9)


def _star(wiring: Wiring, u: Complex, missing: Sequence[int]) -> Complex:
    """Voltages to the star point; one that is missing is taken as it would be."""
    if wiring.system.between_phases:
        return to_star_point(u)
    if wiring.system.phases < len(PHASES):
        return u
    if not missing:
        zero = symmetrical_components(u)[0]
        # A neutral that has moved turns the voltages, not the net behind them.
        return u - zero if _moved_neutral(wiring, u) else u
    have = [k for k in range(u.size) if k not in missing]
    first = u[have[0]] / wiring.angles[have[0]]
    filled = u.copy()
    for k in missing:
        filled[k] = first * wiring.angles[k]
    return filled


# ---------------------------------------------------------------------- amounts


def _of_voltages(wiring: Wiring, u: Complex) -> Iterator[Mistake]:
    names, nominal = wiring.system.voltages, wiring.nominal_v
    amounts = np.abs(u)
    dead = amounts < _DEAD * nominal
    if dead.any():
        which = " and ".join(name for name, gone in zip(names, dead, strict=True) if gone)
        there = ", ".join(
            f"{name} {amount:.1f} V" for name, amount in zip(names, amounts, strict=True)
        )
        yield Mistake(
            "voltage missing", f"voltage {which} is missing", there,
            "look at its fuse, its clip and its switch",
        )  # fmt: skip
    live = amounts[~dead]
    if not live.size:
        return
    if _moved_neutral(wiring, u):
        zero, positive, negative = np.abs(symmetrical_components(u))
        yield Mistake(
            "neutral open", "the neutral is open",
            f"the voltages to it differ ({', '.join(f'{a:.0f} V' for a in amounts)}), those between the "
            f"phases do not: zero sequence {100 * zero / positive:.0f} %, negative "
            f"{100 * negative / positive:.1f} %",
            "switch off, and look at the neutral conductor up to the transformer",
        )  # fmt: skip
        return
    middle = float(np.median(live))
    for name, amount in zip(names, amounts, strict=True):
        factor = usual_factor(float(amount) / middle)
        if factor and amount >= _DEAD * nominal and abs(middle / nominal - 1.0) < _NEAR:
            yield Mistake(
                "voltage ratio of one", f"voltage {name} has another ratio than the others",
                f"it reads {amount:.1f} V, the others {middle:.1f} V: {factor}", _RATIO_REMEDY,
            )  # fmt: skip
    if abs(middle / nominal - 1.0) > _NEAR and not dead.any():
        factor = usual_factor(middle / nominal)
        if factor:
            root = "√3" in factor
            yield Mistake(
                "voltage ratio", "the ratio of the voltages is wrong",
                f"they read {middle:.1f} V where {nominal:g} V are nominal: {factor}",
                "is one of them between phases, the other to the neutral? Look at the nominal voltage "
                "and at the kind of wiring" if root else _RATIO_REMEDY,
            )  # fmt: skip
        else:
            yield Mistake(
                "not the nominal voltage", "the voltages are far from the nominal one",
                f"they read {middle:.1f} V where {nominal:g} V are nominal",
                "look at the nominal voltage, the transformers and the terminals",
            )  # fmt: skip


_RATIO_REMEDY = "compare the plate of the transformer with the ratio in the setup"


def _moved_neutral(wiring: Wiring, u: Complex) -> bool:
    if not wiring.system.has_neutral or wiring.system.phases < len(PHASES):
        return False
    parts = np.abs(symmetrical_components(u))
    along = parts[2] if wiring.rotation != ROTATIONS[0] else parts[1]
    against = parts[1] if wiring.rotation != ROTATIONS[0] else parts[2]
    if against > along:  # the rotation is wrong, which is told elsewhere
        along, against = against, along
    return bool(parts[0] > _NEUTRAL * wiring.nominal_v and against < _SKEWED * along)


def usual_factor(ratio: float) -> str:
    """The usual factor that a ratio meets, in words; empty where it meets none, or 1.

    Examples
    --------
    >>> usual_factor(4.02), usual_factor(0.577), usual_factor(1.1)
    ('4 times', '1/√3 times', '')

    """
    if not ratio > 0.0:
        return ""
    for factor, text in ((math.sqrt(3.0), "√3"), *((f, f"{f:g}") for f in _USUAL_FACTORS)):
        if abs(ratio / factor - 1.0) < _SAME:
            return f"{text} times"
        if abs(ratio * factor - 1.0) < _SAME:
            return f"1/{text} times"
    return ""


def _of_amounts(wiring: Wiring, i: Complex) -> Iterator[Mistake]:
    """What the amounts of the currents show: a ratio that one has alone, a current that leaves the three."""
    system = wiring.system
    if system.phases < len(PHASES):
        return
    amounts = np.abs(i)
    largest = float(amounts.max())
    if largest < _least(wiring, i[list(system.sensors)]):
        return
    total = abs(i.sum())
    if system.between_phases and amounts.min() > 0.0 and total > _RETURN * largest:
        yield Mistake(
            "four wires", "the net has a neutral, and is measured with three wires",
            f"the currents sum up to {total:.1f} A; without a neutral they sum up to 0",
            "wire it as 3-phase 4-wire, or look whether a sensor is reversed",
        )  # fmt: skip
    if len(system.sensors) < len(PHASES):
        return
    for k, phase in enumerate(PHASES):
        others = np.delete(amounts, k)
        if others.min() <= 0.0 or np.ptp(others) > 0.1 * others.max():
            continue
        factor = usual_factor(float(amounts[k] / others.mean()))
        if factor and "√" not in factor:
            yield Mistake(
                "current ratio of one", f"current {phase} has another ratio than the others",
                f"it reads {amounts[k]:.1f} A, the others {others.mean():.1f} A: {factor}",
                f"{_RATIO_REMEDY}; or is the load of {phase} really so?",
            )  # fmt: skip


def _of_power(
    wiring: Wiring, star: Complex, sensors: Complex, found: Sequence[Mistake]
) -> Iterator[Mistake]:
    """Against the power that is expected, where nothing else is wrong."""
    if wiring.expected_w is None or found:
        return
    power = float(np.real(np.sum(star * np.conj(complete(sensors, wiring.system)))))
    if abs(power - wiring.expected_w) <= wiring.within_w:
        return
    ratio = power / wiring.expected_w if wiring.expected_w else math.nan
    slack = wiring.within_w / abs(wiring.expected_w) if wiring.expected_w else 0.0
    factor = usual_factor(ratio) or _near_factor(ratio, slack)
    yield Mistake(
        "current ratio", "the ratio of the currents is wrong" if factor else "not the expected power",
        f"{power / 1e3:.2f} kW where {wiring.expected_w / 1e3:.2f} ± {wiring.within_w / 1e3:.2f} kW are "
        f"expected{': ' + factor if factor else ''}",
        _RATIO_REMEDY if factor else "compare with the expectation in the setup",
    )  # fmt: skip


def _near_factor(ratio: float, slack: float) -> str:
    """A usual factor that a ratio meets within what the expectation leaves open."""
    for factor in _USUAL_FACTORS:
        for text, one in ((f"{factor:g}", factor), (f"1/{factor:g}", 1.0 / factor)):
            if abs(ratio / one - 1.0) <= min(slack, 0.24):
                return f"about {text} times"
    return ""


# ---------------------------------------------------------------------- angles


def _of_angles(
    wiring: Wiring, star: Complex, i: Complex, ways: Sequence[Hypothesis]
) -> tuple[list[Mistake], list[str], list[str]]:
    """Mistakes, further explanations, and what stays unclear."""
    sensors = list(wiring.system.sensors)
    full = complete(i[sensors], wiring.system)
    shown = ", ".join(
        f"{phase} {lag:.0f}°" for phase, lag in zip(PHASES, lags(star, full).tolist(), strict=False)
    )
    pair = _one_conductor(i, wiring.system.sensors)
    if pair is not None:
        return [_same_conductor(i, pair, shown)], [], []
    if not are_in_order(star, wiring.angles):
        stand = _angle_text(np.rad2deg(np.angle(star * np.conj(star[0]) / abs(star[0]))))
        wanted = _angle_text(np.rad2deg(np.angle(wiring.angles)))
        what = f"the voltages are not those of {wiring.system.name}"
        shows = f"they stand at {stand} where {wanted} are expected"
        remedy = "look at the kind of wiring in the setup, and at the voltage terminals"
        return [Mistake("voltages not in order", what, shows, remedy)], [], []
    if not ways:
        what = "the angles fit no load and no single mistake"
        shows, remedy = (
            f"the currents lag their voltages by {shown}",
            "go through the terminals one by one",
        )
        return [Mistake("not explained", what, shows, remedy)], [], []
    right = next((way for way in ways if way.is_right), None)
    if right is not None and right.usual:
        return [], [], []
    likely = [way for way in ways if way.usual and way.cost <= _LIKELY]
    if right is not None and not likely:
        return [], [], []
    if right is not None:
        doubt = (
            f"whether the sensors are at their phases: by the angles ({shown}) it may also be that "
            f"{_words(likely[0])}; measure again with another load"
        )
        return [], [], [doubt]
    best = ways[0]
    others = [
        _words(way)
        for way in ways[1:4]
        if way.cost - best.cost < _AMBIGUOUS
        and way.spread < best.spread + 15.0
        and _words(way) != _words(best)
    ]
    return [
        Mistake(_kind(best, wiring), _words(best), _shows(best, wiring, star, shown), _remedy(best))
    ], others, []  # fmt: skip


def _one_conductor(i: Complex, sensors: Sequence[int]) -> tuple[int, int] | None:
    """Two sensors that read the same, angle and all: no two phases do."""
    for first, second in combinations(sensors, 2):
        if abs(i[first] - i[second]) < 0.03 * abs(i[first]):
            return first, second
    return None


def _same_conductor(i: Complex, pair: tuple[int, int], shown: str) -> Mistake:
    first, second = (PHASES[k] for k in pair)
    return Mistake(
        "same conductor", f"the current sensors {first} and {second} are on one conductor",
        f"both read {abs(i[pair[0]]):.1f} A at one angle (behind their voltages: {shown})",
        "move one of them to its phase",
    )  # fmt: skip


def _kind(way: Hypothesis, wiring: Wiring) -> str:
    if way.is_both:
        return "rotation"
    kinds = []
    if way.voltages:
        kinds.append("voltages exchanged")
    if way.turned_voltage is not None:
        kinds.append("voltage reversed")
    if way.moved:
        kinds.append("currents exchanged" if len(way.moved) == 2 else "currents moved round")
    if way.turned:
        every = len(way.turned) == len(wiring.system.sensors) > 1
        kinds.append("all currents reversed" if every else "current reversed")
    return ", ".join(kinds)


def _words(way: Hypothesis) -> str:
    """What is wrong, in words."""
    parts = []
    if way.is_both:
        parts.append(
            "two phases are exchanged, in voltages and currents alike, or the net turns the other way"
        )
    else:
        if way.voltages:
            first, second = (PHASES[k] for k in way.voltages)
            parts.append(f"the voltages {first} and {second} are exchanged")
        if len(way.moved) == 2:
            (first, second) = (PHASES[sensor] for sensor, _ in way.moved)
            parts.append(f"the current sensors {first} and {second} are exchanged")
        elif way.moved:
            places = ", ".join(f"{PHASES[a]} is at {PHASES[b]}" for a, b in way.moved)
            parts.append(f"the current sensors are moved round ({places})")
    if way.turned_voltage is not None:
        parts.append(f"the voltage {PHASES[way.turned_voltage]} is reversed")
    if way.turned:
        names = " and ".join(PHASES[k] for k in way.turned)
        parts.append(
            f"current sensor {names} is reversed"
            if len(way.turned) == 1
            else "all current sensors are reversed"
            if len(way.turned) == len(PHASES)
            else f"current sensors {names} are reversed"
        )
    return "; ".join(parts) or "nothing is wrong"


def _shows(way: Hypothesis, wiring: Wiring, star: Complex, shown: str) -> str:
    angles = np.rad2deg(np.angle(star * np.conj(star[0]) / abs(star[0])))
    parts = []
    if way.voltages or way.turned_voltage is not None:
        wanted = _angle_text(np.rad2deg(np.angle(wiring.angles)))
        parts.append(f"the voltages stand at {_angle_text(angles)} where {wanted} are expected")
    if way.moved or way.turned or not parts:
        parts.append(f"the currents lag their voltages by {shown}")
    return ", and ".join(parts)


def _angle_text(degrees: NDArray[np.float64]) -> str:
    return ", ".join(f"{angle:.0f}°" for angle in degrees.tolist())


def _remedy(way: Hypothesis) -> str:
    if way.is_both:
        return (
            "exchange both the voltages and the sensors, or state the other rotation in the setup"
        )
    parts = []
    if way.voltages or way.turned_voltage is not None:
        parts.append("change the voltage terminals")
    if way.moved:
        parts.append("move the sensors to their phases")
    if way.turned:
        parts.append("turn the sensor round: its arrow points to the load")
    return ", ".join(parts)
