"""What could be wired wrongly, tried one by one: which exchange or reversal makes sense of the phasors.

With the right wiring each current lags its voltage by an angle that loads have, and the voltages follow
each other in the expected order. A mistake turns some of them. So each possible mistake is undone on the
phasors that were read, and what makes sense then, with the fewest mistakes, is what is wrong.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import permutations, product
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.power.phasors import symmetrical_components
from leitwerk.power.system import PHASES, System

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Complex = NDArray[np.complex128]

IMPORT, EXPORT, EITHER = "import", "export", "either"
# By how much a current lags its voltage: what can be, and what loads usually have. A generator that is
# driven by the race takes reactive power, too: its angles are those of a load, mirrored.
_CAN_BE = {IMPORT: (-60.0, 90.0), EXPORT: (90.0, 240.0), EITHER: (-60.0, 240.0)}
_USUAL = {IMPORT: (-20.0, 75.0), EXPORT: (105.0, 200.0), EITHER: (-20.0, 200.0)}
_SPREAD_DEG = 75.0  # between the phases of one net, loads of one phase included
_UNUSUAL = 1.0  # costs as much as one mistake
_ROUND = 1.5  # all sensors moved by one place: one mistake, but a rarer one
_TURNED = 1.3  # all of them reversed
_SKEW = 0.3  # negative and zero sequence of voltages that are in order, by their positive one


@dataclass(frozen=True, slots=True)
class Hypothesis:
    """Mistakes that explain what was read, and how much speaks against them; phases from 0.

    ``voltages`` are two phases whose voltages are exchanged, ``turned_voltage`` one that is reversed;
    ``moved`` are sensors that are not at their phase, with the one where they are, ``turned`` sensors
    that are reversed. ``usual`` says whether the angles that are left are those of usual loads.
    """

    voltages: tuple[int, ...]
    turned_voltage: int | None
    moved: tuple[tuple[int, int], ...]
    turned: tuple[int, ...]
    cost: float
    spread: float
    usual: bool

    @property
    def is_right(self) -> bool:
        """Whether nothing is wrong."""
        return not (self.voltages or self.turned_voltage is not None or self.turned or self.moved)

    @property
    def is_both(self) -> bool:
        """Whether the same two phases are exchanged in voltages and in currents."""
        return bool(self.voltages) and tuple(sensor for sensor, _ in self.moved) == self.voltages


def explain(
    voltages: Complex, currents: Complex, system: System, angles: Complex, flow: str, least_a: float
) -> list[Hypothesis]:
    """All that makes sense of what was read, the likeliest first.

    Parameters
    ----------
    voltages : complex array, one for each phase
        To the neutral, or to the star point.
    currents : complex array, one for each sensor
    system : System
    angles : complex array, one for each phase
        Unit phasors of the voltages as they are expected.
    flow : str
        *import*, *export* or *either*: where power flows now.
    least_a : float
        The current in A below which an angle means nothing.

    """
    found = [
        hypothesis
        for swapped, turned_voltage, u in _voltages(voltages, angles)
        for hypothesis in _currents(
            u, currents, system, flow, least_a, (swapped, turned_voltage)
        )
    ]  # fmt: skip
    return sorted(found, key=lambda h: (h.cost, h.spread))


def are_in_order(voltages: Complex, angles: Complex) -> bool:
    """Whether voltages stand as they are expected, or would with one exchange or reversal undone."""
    return any(True for _ in _voltages(voltages, angles))


def lags(voltages: Complex, currents: Complex) -> NDArray[np.float64]:
    """By how much each current lags its voltage, in ° from -180 to 180."""
    found: NDArray[np.float64] = np.rad2deg(np.angle(voltages * np.conj(currents)))
    return found


def _voltages(u: Complex, angles: Complex) -> Iterator[tuple[tuple[int, ...], int | None, Complex]]:
    """Voltages with each mistake undone that leaves them in the expected order."""
    pairs: list[tuple[int, ...]] = [()]
    if u.size == len(PHASES):
        pairs += [(0, 1), (1, 2), (0, 2)]
    for pair, turned in product(pairs, (None, *range(u.size))):
        tried = u.copy()
        if pair:
            tried[list(pair)] = tried[list(pair[::-1])]
        if turned is not None:
            if u.size == 1:
                continue  # a voltage alone has nothing to be reversed against
            tried[turned] *= -1.0
        if _in_order(tried, angles):
            yield pair, turned, tried


def _in_order(u: Complex, angles: Complex) -> bool:
    if u.size == len(PHASES):
        # Turned back, voltages in order are three alike: the mean stands for the positive sequence.
        zero, _, _ = np.abs(symmetrical_components(u))
        along = np.abs(np.mean(u * np.conj(angles)))
        against = np.abs(np.mean(u * angles))
        return bool(max(zero, against) < _SKEW * along)
    if u.size == 1:
        return True
    ratio = u / angles
    return bool(np.abs(np.rad2deg(np.angle(ratio[1:] / ratio[0]))).max() < 30.0)


def _currents(
    u: Complex,
    i: Complex,
    system: System,
    flow: str,
    least_a: float,
    done: tuple[tuple[int, ...], int | None],
) -> Iterator[Hypothesis]:
    """Exchanges and reversals of current sensors after which every angle is one that a load has."""
    count = i.size
    swapped, turned_voltage = done
    fixed = (1.0 if swapped else 0.0) + (1.0 if turned_voltage is not None else 0.0)
    for order in permutations(range(count)):
        for signs in product((1.0, -1.0), repeat=count):
            read = np.empty_like(i)
            for sensor, phase in enumerate(order):
                read[phase] = signs[sensor] * i[sensor]
            full = complete(read, system)
            lag = _lag_near(u, full, flow, least_a)
            if lag is None:
                continue
            spread = float(np.ptp(lag)) if lag.size else 0.0
            if spread > _SPREAD_DEG:
                continue
            places = system.sensors
            turned = tuple(places[k] for k, sign in enumerate(signs) if sign < 0.0)
            moved = tuple((places[k], places[at]) for k, at in enumerate(order) if at != k)
            # The same two phases exchanged in both is one mistake: or the net turns the other way.
            same = bool(swapped) and tuple(sensor for sensor, _ in moved) == swapped
            moves = 0.0 if same or not moved else 1.0 if len(moved) == 2 else _ROUND
            turns = _TURNED if 1 < len(turned) == count else float(len(turned))
            low, high = _USUAL[flow]
            usual = not lag.size or bool(lag.min() >= low and lag.max() <= high)
            cost = fixed + moves + turns + (0.0 if usual else _UNUSUAL)
            yield Hypothesis(swapped, turned_voltage, moved, turned, cost, spread, usual)


def complete(currents: Complex, system: System) -> Complex:
    """The currents of all phases, where two sensors of three phases leave one to Kirchhoff's law."""
    if system.phases == currents.size:
        return currents
    full = np.zeros(system.phases, complex)
    full[list(system.sensors)] = currents
    missing = [k for k in range(system.phases) if k not in system.sensors]
    full[missing] = -currents.sum()
    return full


def _lag_near(u: Complex, i: Complex, flow: str, least_a: float) -> NDArray[np.float64] | None:
    """The angles of the phases that have a current; None where one cannot be."""
    has = np.abs(i) >= least_a
    low, high = _CAN_BE[flow]
    middle = 0.5 * (low + high)
    lag = lags(u[has], i[has])
    lag = middle + (lag - middle + 180.0) % 360.0 - 180.0
    return lag if ((lag >= low) & (lag <= high)).all() else None
