"""What happens at the main board in the first half-hour of a recording, as voltages and currents.

A dip, a swell, a short interruption, the start of a saw motor, a transient; each as a waveform, and found in
it by plain loops over half cycles, apart from the product's own search.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.standins.mains import Net

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]

RATE_HZ = 6_400
_CYCLE_S = 0.02
_CYCLE = round(RATE_HZ * _CYCLE_S)
_FIFTH = 0.02  # of the fundamental


@dataclass(frozen=True, slots=True)
class Happening:
    """Something that happens: when, in s since the recording began, for how long, and in which phases.

    ``factor`` is what is left of the voltage there; ``times_current`` how often its current there is.
    """

    at_s: float
    lasts_s: float
    phases: tuple[int, ...]
    factor: float = 1.0
    times_current: float = 1.0
    transient_v: float = 0.0


HAPPENINGS = (
    Happening(300.0, 0.28, (0, 1), factor=0.62),
    Happening(720.0, 0.45, (2,), factor=1.16),
    Happening(1080.0, 1.3, (0, 1, 2), factor=0.012, times_current=0.0),
    Happening(1440.0, 1.9, (0, 1, 2), factor=0.935, times_current=6.5),
    Happening(1620.0, 0.002, (1,), transient_v=420.0),
)


@dataclass(frozen=True, slots=True)
class Found:
    """An event: begin in s since the recording began, duration in s, phases from 1, extreme in V or A."""

    kind: str
    begin_s: float
    lasts_s: float
    phases: tuple[int, ...]
    extreme: float


def waveform(one: Happening, net: Net, before_s: float, after_s: float) -> tuple[float, Array]:
    """Voltages and currents around a happening: the time of the first sample, and shape (n, 6) in V and A."""
    begin_s = one.at_s - before_s
    count = round((before_s + one.lasts_s + after_s) * RATE_HZ)
    t = begin_s + np.arange(count) / RATE_HZ
    inside = (t >= one.at_s) & (t < one.at_s + one.lasts_s)
    since = np.where(inside, t - one.at_s, 0.0)
    columns = []
    for k, phasor in enumerate(net.voltages):
        u = math.sqrt(2.0) * _wave(phasor, t, _FIFTH)
        if k in one.phases:
            u = np.where(inside, one.factor * u, u)
            ring = np.exp(-since / 0.0006) * np.sin(2.0 * math.pi * 1400.0 * since)
            u = u + np.where(inside, one.transient_v * ring, 0.0)
        columns.append(u)
    for k, phasor in enumerate(net.currents):
        i = math.sqrt(2.0) * _wave(phasor, t, 0.0)
        if k in one.phases and one.times_current != 1.0:
            # A motor takes less and less as it comes up to speed.
            rest = 1.0 - since / one.lasts_s if one.times_current > 1.0 else 1.0
            i = np.where(inside, (1.0 + (one.times_current - 1.0) * rest) * i, i)
        columns.append(i)
    return begin_s, np.stack(columns, axis=1)


def _wave(phasor: complex, t: Array, fifth: float) -> Array:
    angle = 2.0 * math.pi * t / _CYCLE_S + math.atan2(phasor.imag, phasor.real)
    found: Array = abs(phasor) * (np.cos(angle) + fifth * np.cos(5.0 * angle))
    return found


def find_events(
    begin_s: float, samples: Array, nominal_v: float, triggers: Mapping[str, float]
) -> list[Found]:
    """The events in a waveform. ``triggers`` are parts of the nominal voltage, and A for the inrush."""
    u = [_half_cycles(samples[:, k]) for k in range(3)]
    i = [_half_cycles(samples[:, k]) for k in range(3, 6)]
    back = triggers["hysteresis"] * nominal_v
    dip, swell, gone = (triggers[key] * nominal_v for key in ("dip", "swell", "interruption"))
    found = [
        *_search("dip", u, lambda x: x < dip, lambda x: x < dip + back, min),
        *_search("swell", u, lambda x: x > swell, lambda x: x > swell - back, max),
        *_search("interruption", u, lambda x: x < gone, lambda x: x < gone + back, min, every=True),
        *_search(
            "inrush", i, lambda x: x > triggers["inrush"],
            lambda x: x > 0.98 * triggers["inrush"], max,
        ),
    ]  # fmt: skip
    events = [
        Found(kind, begin_s + first * _CYCLE_S / 2.0, count * _CYCLE_S / 2.0, phases, extreme)
        for kind, first, count, phases, extreme in found
    ]
    calm = not any(event.kind in {"dip", "swell", "interruption"} for event in events)
    return events + (
        _transients(begin_s, samples, nominal_v, triggers["transient"]) if calm else []
    )


def _half_cycles(x: Array) -> list[float]:
    """RMS over a cycle, begun anew at each half cycle."""
    half = _CYCLE // 2
    return [
        math.sqrt(float(np.mean(x[k : k + _CYCLE] ** 2)))
        for k in range(0, x.size - _CYCLE + 1, half)
    ]


def _search(
    kind: str,
    phases: Sequence[Sequence[float]],
    begins: Callable[[float], bool],
    goes_on: Callable[[float], bool],
    worst: Callable[[list[float]], float],
    *,
    every: bool = False,
) -> list[tuple[str, int, int, tuple[int, ...], float]]:
    """Kind, first half cycle, how many, phases and extreme of each event."""
    whole, found, first = all if every else any, [], None
    for k in range(len(phases[0])):
        now = [phase[k] for phase in phases]
        if first is None and whole(begins(x) for x in now):
            first = k
        elif first is not None and not whole(goes_on(x) for x in now):
            part = tuple(
                n for n, phase in enumerate(phases, start=1) if any(map(begins, phase[first:k]))
            )
            values = [x for phase in phases for x in phase[first:k]]
            found.append((kind, first, k - first, part, worst(values)))
            first = None
    return found


def _transients(begin_s: float, samples: Array, nominal_v: float, part: float) -> list[Found]:
    """Where a voltage leaves the cycle before."""
    limit, found = part * math.sqrt(2.0) * nominal_v, []
    for k in range(3):
        x = samples[:, k]
        away = np.abs(x[_CYCLE:] - x[:-_CYCLE])
        outside = np.flatnonzero(away > limit)
        if outside.size:
            first = _CYCLE + int(outside[0])
            last = _CYCLE + int(outside[outside < outside[0] + _CYCLE // 2][-1])
            peak = float(away[outside[outside < outside[0] + _CYCLE // 2]].max())
            lasts = (last - first + 1) / RATE_HZ
            found.append(Found("transient", begin_s + first / RATE_HZ, lasts, (k + 1,), peak))
    return found
