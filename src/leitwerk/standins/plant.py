"""The plant: the electrical signal at each terminal, from a small model of the kiln at Tannried.

The kiln stands cold and closed, at the temperature of the hall. Sensors are ideal; the readings
wander a little, as air and steam do.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from leitwerk.errors import QuantityError
from leitwerk.evaluation.course import Course, parse_course
from leitwerk.signals import rtd, thermocouple

# The logger hangs in the cabin, a little warmer than the hall; thermocouples see the difference.
TERMINALS_C = 22.9


@dataclass(frozen=True, slots=True)
class Signal:
    """What a sensor puts on its terminal: in Ω, mV, mA, mV/V, or 0 and 1 for a contact."""

    quantity: str
    value: float


@dataclass(frozen=True, slots=True)
class _Spot:
    """A point of the plant: its value at rest, how far it wanders and how fast, its noise."""

    rest: float
    swing: float
    period_s: float
    noise: float
    signal: Callable[[float], Signal]


def _thermocouple(temperature: float) -> Signal:
    at_tip, at_terminals = thermocouple.emf([temperature, TERMINALS_C], "K")
    return Signal("voltage", float(at_tip - at_terminals))


_SPOTS = {
    "air_top": _Spot(
        21.5, 0.06, 45.0, 0.01, lambda t: Signal("resistance", float(rtd.resistance(t)))
    ),
    "air_bottom": _Spot(
        21.2, 0.05, 60.0, 0.01, lambda t: Signal("resistance", float(rtd.resistance(t)))
    ),
    "timber_core": _Spot(19.0, 0.05, 300.0, 0.05, _thermocouple),
    # 0 to 1 V stand for 0 to 100 % relative humidity.
    "humidity": _Spot(55.0, 0.4, 30.0, 0.05, lambda rh: Signal("voltage", 10.0 * rh)),
    # 4 to 20 mA stand for 0 to 100 % open.
    "steam_valve": _Spot(
        40.0, 0.05, 20.0, 0.02, lambda open_: Signal("current", 4.0 + 0.16 * open_)
    ),
    # A load cell of 2 mV/V at 5 t; the empty trolley on it weighs 850 kg.
    "stack_weight": _Spot(
        2310.0, 1.5, 90.0, 0.4, lambda kg: Signal("bridge", 2.0 * (kg + 850.0) / 5000.0)
    ),
    # On the saw's carriage: 12 pulses for each turn of the motor's shaft, 60 for one of the drive's;
    # the values are in 1/min.
    "motor_shaft": _Spot(0.0, 0.0, 1.0, 0.0, lambda n: Signal("frequency", 12.0 * n / 60.0)),
    "drive_shaft": _Spot(0.0, 0.0, 1.0, 0.0, lambda n: Signal("frequency", 60.0 * n / 60.0)),
    # A sensor of 250 mV for 1 m/s², bolted to a sloping plate: at rest it feels gravity on all axes.
    "vibration_x": _Spot(4.90, 0.0, 1.0, 0.01, lambda a: Signal("voltage", 250.0 * a)),
    "vibration_y": _Spot(-1.47, 0.0, 1.0, 0.01, lambda a: Signal("voltage", 250.0 * a)),
    "vibration_z": _Spot(8.366, 0.0, 1.0, 0.01, lambda a: Signal("voltage", 250.0 * a)),
    "door": _Spot(1.0, 0.0, 1.0, 0.0, lambda closed: Signal("contact", closed)),
}


SPOTS = tuple(_SPOTS)


def parse_spot(text: str, spots: Sequence[str] = SPOTS) -> tuple[str, Course]:
    """A spot and its course: ``air_top: 21; to 85 in 20 s``.

    Raises
    ------
    QuantityError
        There is no such spot, or the rest is no course.

    """
    spot, colon, rest = text.partition(":")
    if not colon or spot.strip() not in spots:
        message = f"{text[:40]!r} does not name a spot of the plant"
        raise QuantityError(message, valid=f"'SPOT: …' with one of {', '.join(spots)}")
    return spot.strip(), parse_course(rest)


class Plant:
    """The kiln. ``factor`` lets its time run faster; ``seed`` makes its noise repeatable.

    A spot that has a course goes that way from ``begins_s`` on, instead of standing still.
    """

    def __init__(
        self,
        *,
        factor: float = 1.0,
        seed: int = 8,
        courses: Mapping[str, Course] | None = None,
        begins_s: float = 0.0,
    ) -> None:
        self.factor = factor
        self._courses = {spot: (course, begins_s) for spot, course in (courses or {}).items()}
        self._noise = np.random.default_rng(seed)

    def follow(self, spot: str, course: Course, begins_s: float) -> None:
        """Let a spot go along a course from a time on, in place of what it did."""
        self._courses[spot] = course, begins_s

    def signal(self, spot: str, time_s: float) -> Signal:
        """The signal of one point of the plant at a time (any clock, in s)."""
        s = _SPOTS[spot]
        phase = 2.0 * math.pi * time_s * self.factor / s.period_s
        rest = s.rest
        if spot in self._courses:
            course, begins_s = self._courses[spot]
            since = np.array([max(0.0, time_s - begins_s) * self.factor])
            rest = float(course.at(since)[0])
        noise = s.noise * float(self._noise.standard_normal())
        return s.signal(rest + s.swing * math.sin(phase) + noise)
