"""The sensors that a setup can name, each with its span and its relation to the signal."""

from __future__ import annotations

import difflib
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import TypeAlias

import numpy as np
from numpy.typing import ArrayLike, NDArray

from leitwerk.errors import QuantityError
from leitwerk.signals import platinum, thermocouple

Curve: TypeAlias = Callable[[ArrayLike], NDArray[np.float64]]


@dataclass(frozen=True, slots=True)
class Sensor:
    """A sensor with a standard's curve.

    ``quantity`` is the kind of input it is wired to, ``signal_unit`` the unit of its curve.
    ``span`` is what it can deliver, in ``unit``. A sensor with ``cold_junction`` shows the
    difference to the temperature of the terminals.
    """

    name: str
    quantity: str
    signal_unit: str
    unit: str
    span: tuple[float, float]
    signal: Curve
    value: Curve
    cold_junction: bool = False

    def signal_span(self, cold_junction_c: float = 0.0) -> tuple[float, float]:
        """The signal over the whole span of the sensor, in ``signal_unit``."""
        low, high = (float(x) for x in self.signal(np.array(self.span)))
        offset = float(self.signal(cold_junction_c)) if self.cold_junction else 0.0
        return low - offset, high - offset


SENSORS = {
    sensor.name: sensor
    for sensor in (
        Sensor(
            name="Pt100, 4-wire",
            quantity="resistance",
            signal_unit="Ω",
            unit="°C",
            span=platinum.SPAN_C,
            signal=platinum.resistance,
            value=platinum.temperature,
        ),
        Sensor(
            name="type K",
            quantity="voltage",
            signal_unit="mV",
            unit="°C",
            span=thermocouple.span_c("K"),
            signal=partial(thermocouple.emf, kind="K"),
            value=partial(thermocouple.temperature, kind="K"),
            cold_junction=True,
        ),
    )
}


def _folded(name: str) -> str:
    return "".join(c for c in name.lower() if c.isalnum())


_BY_FOLDED_NAME = {_folded(name): sensor for name, sensor in SENSORS.items()}
_BY_FOLDED_NAME |= {"k": SENSORS["type K"], "thermocouplek": SENSORS["type K"]}
_BY_FOLDED_NAME |= {"thermocoupletypek": SENSORS["type K"]}


@lru_cache(maxsize=256)
def find_sensor(name: str) -> Sensor:
    """The sensor of that name; case, commas and spaces do not count.

    Raises
    ------
    QuantityError
        There is none; the nearest is named.

    Examples
    --------
    >>> find_sensor("pt100 4-wire").name
    'Pt100, 4-wire'

    """
    found = _BY_FOLDED_NAME.get(_folded(name))
    if found is not None:
        return found
    near = difflib.get_close_matches(_folded(name)[:40], _BY_FOLDED_NAME, n=1, cutoff=0.5)
    remedy = f"did you mean {_BY_FOLDED_NAME[near[0]].name!r}?" if near else ""
    raise QuantityError(
        f"{name[:40]!r} is no sensor known here", valid=", ".join(SENSORS), remedy=remedy
    )
