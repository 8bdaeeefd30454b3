"""The simulated main board of the saw hall: a net, its loads and a generator, and an analyzer's wires to it.

Written apart from the product's own computations of power: what is wrong there must not be wrong here, too.
"""

from __future__ import annotations

import cmath
import math
import re
from dataclasses import dataclass, field

import numpy as np

from leitwerk.errors import QuantityError

_HOUR_S = 3600.0
TRANSFORMER = (200.0, 5.0)  # the one that is really there: 200 A give 5 A
_NETWORK_OHM = 0.08
_GENERATOR = -18_000.0 + 5_000.0j  # VA: it gives power, and takes its magnetisation from the net
_SAWS = 29_000.0 + 19_000.0j
_LIGHTS = (900.0, 700.0, 400.0)  # W in L1, L2, L3
_RECTIFIER = 1_200.0 + 300.0j
_RISE = (0.4, -0.9, 0.6)
# Hours since the run began: a neighbour's machine runs up.
_SAGS = ((3 * 24 + 10.0, 3 * 24 + 11.5),)
_ACT = re.compile(r"(exchange|reverse|open|same|round|transformer) +(\w+)(?: +(\w+))?")
_TERMINALS = ("U1", "U2", "U3", "I1", "I2", "I3")


@dataclass
class Net:
    """Voltages to the neutral and currents of the three phases, as they are; rms phasors in V and A."""

    voltages: list[complex]
    currents: list[complex]
    frequency: float
    distorted_u: list[float]
    distorted_i: list[float]


@dataclass
class Terminals:
    """What an analyzer has at its terminals: volts, and amperes of the transformers' secondary sides."""

    u: list[complex]
    i: list[complex]
    neutral: complex


@dataclass
class Wires:
    """The wires from the board to the analyzer, with what is wrong about them."""

    acts: list[tuple[str, str, str]] = field(default_factory=list)

    def connect(self, net: Net) -> Terminals:
        """What comes to the terminals."""
        ratio = TRANSFORMER[1] / TRANSFORMER[0]
        place = dict(
            zip(_TERMINALS, [*net.voltages, *(ratio * i for i in net.currents)], strict=True)
        )
        neutral = ratio * sum(net.currents)
        for act, first, second in self.acts:
            _spoil(place, act, first, second)
        u, i = [place[t] for t in _TERMINALS[:3]], [place[t] for t in _TERMINALS[3:]]
        return Terminals(u, i, neutral)


def _spoil(place: dict[str, complex], act: str, first: str, second: str) -> None:
    """One mistake at the terminals."""
    if act == "exchange":
        place[first], place[second] = place[second], place[first]
    elif act == "reverse":
        place[first] = -place[first]
    elif act == "same":
        place[first] = place[second]
    elif act == "round":
        place["I1"], place["I2"], place["I3"] = place["I3"], place["I1"], place["I2"]
    elif act == "transformer":
        for terminal in _TERMINALS[3:] if first == "I" else (first,):
            place[terminal] *= TRANSFORMER[0] / float(second)
    elif first == "N":
        # Without a neutral its point goes where the loads pull it.
        shift = cmath.rect(0.17 * abs(place["U1"]), math.radians(75.0))
        for terminal in _TERMINALS[:3]:
            place[terminal] += shift
    else:
        place[first] *= 0.004  # open


def parse_act(text: str) -> tuple[str, str, str]:
    """One mistake of wiring, as the command line names it.

    Raises
    ------
    QuantityError
        There is no such mistake.

    Examples
    --------
    >>> parse_act("exchange U2 U3"), parse_act("transformer I 50")
    (('exchange', 'U2', 'U3'), ('transformer', 'I', '50'))

    """
    valid = "exchange U2 U3, reverse I1, open U3, open N, same I2 I1, round I, transformer I 50"
    match = _ACT.fullmatch(text.strip())
    if match is None:
        raise QuantityError(f"{text[:40]!r} is no mistake of wiring", valid=valid)
    act, first, second = match[1], match[2], match[3] or ""
    known = {"open": (*_TERMINALS, "N"), "round": ("I",), "transformer": ("I", *_TERMINALS[3:])}
    fits = first in known.get(act, _TERMINALS)
    if act in {"exchange", "same"}:
        fits = fits and second in _TERMINALS
    elif act == "transformer":
        fits = fits and second.isdecimal() and int(second) > 0
    else:
        fits = fits and not second
    if not fits:
        raise QuantityError(f"{text[:40]!r} is no mistake of wiring", valid=valid)
    return act, first, second


class Board:
    """What goes on at the board: the sawing day is from 6 to 14, the race drives the generator."""

    def __init__(self, seed: int) -> None:
        self._noise = np.random.default_rng(seed)

    def at(self, since_s: float) -> Net:
        """The net at a time since a Monday, 0:00."""
        hours = since_s / _HOUR_S
        day, hour = divmod(hours, 24.0)
        saws = day % 7 < 5 and 6.0 <= hour < 14.0 and not 10.0 <= hour < 10.5
        noise = self._noise.standard_normal
        race = 1.0 + 0.05 * math.sin(2.0 * math.pi * hours / 31.0)
        shared = (
            _GENERATOR * race
            + (_SAWS * (1.0 + 0.05 * float(noise())) if saws else 0.0)
            + _RECTIFIER * (1.0 + 0.05 * float(noise()))
        )
        loads = [shared / 3.0 + lights for lights in _LIGHTS]
        active = sum(load.real for load in loads)
        voltages, currents = [], []
        for k in range(3):
            volts = 231.0 - active / 3.0 * _NETWORK_OHM / 230.0 + _RISE[k] + 0.4 * float(noise())
            if k == 1 and any(begin <= hours < end for begin, end in _SAGS):
                volts -= 27.0
            u = cmath.rect(volts, math.radians((0.0, -120.0, 120.0)[k] + 0.2 * float(noise())))
            voltages.append(u)
            currents.append((loads[k] / u).conjugate())
        distorted = (3.4 if saws else 1.9) + 0.1 * float(noise())
        harmonic = 100.0 * 0.28 * abs(_RECTIFIER) / 3.0
        return Net(
            voltages,
            currents,
            50.0 + 0.008 * float(noise()),
            [distorted + 0.05 * k for k in range(3)],
            [harmonic / max(abs(u * i), 1.0) for u, i in zip(voltages, currents, strict=True)],
        )
