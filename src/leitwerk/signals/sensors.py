"""The sensors that a setup can name, each with its curve and how it is wired."""

from __future__ import annotations

import difflib
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal

from leitwerk.errors import QuantityError
from leitwerk.signals.rtd import ResistanceThermometer
from leitwerk.signals.scale import Ends, Scale
from leitwerk.signals.thermocouple import TYPES, Thermocouple


@dataclass(frozen=True, slots=True)
class Sensor:
    """A sensor with a standard's curve.

    ``quantity`` is the kind of input it is wired to, ``signal_unit`` and ``unit`` are those of its
    curve ``scale``. ``wires`` is for resistance thermometers: 2, 3 or 4. ``usual`` is a value at which
    it is compared with something, and its resolution is stated.
    """

    name: str
    quantity: str
    signal_unit: str
    unit: str
    scale: Scale
    wires: Literal[0, 2, 3, 4] = 0
    usual: float = 20.0

    @property
    def span(self) -> Ends:
        """What it can deliver, in ``unit``."""
        return self.scale.span

    @property
    def has_cold_junction(self) -> bool:
        """Whether it shows the difference to the temperature of the terminals."""
        return isinstance(self.scale, Thermocouple)

    def at_junction(self, temperature: float | None) -> Scale:
        """Its curve with the terminals at a temperature in °C."""
        if isinstance(self.scale, Thermocouple) and temperature is not None:
            return replace(self.scale, cold_junction=temperature)
        return self.scale


def _thermometers() -> list[Sensor]:
    made: list[tuple[str, ResistanceThermometer]] = [
        *((f"Pt{r0}", ResistanceThermometer(float(r0))) for r0 in (100, 1000, 500)),
        ("Ni100", ResistanceThermometer(100.0, "nickel")),
        ("Cu100", ResistanceThermometer(100.0, "copper")),
    ]
    wirings: tuple[Literal[2, 3, 4], ...] = (4, 3, 2)
    return [
        Sensor(f"{name}, {wires}-wire", "resistance", "Ω", "°C", scale, wires)
        for name, scale in made
        for wires in wirings
    ]


SENSORS = {
    sensor.name: sensor
    for sensor in (
        *_thermometers(),
        *(
            # At room temperature type B shows nothing.
            Sensor(
                f"type {kind}",
                "voltage",
                "mV",
                "°C",
                Thermocouple(kind),
                usual=1000.0 if kind == "B" else 20.0,
            )
            for kind in TYPES
        ),
    )
}


def _folded(name: str) -> str:
    return "".join(c for c in name.lower() if c.isalnum())


_BY_FOLDED_NAME = {_folded(name): sensor for name, sensor in SENSORS.items()}
for _kind in TYPES:
    for _spelling in (_kind, f"thermocouple {_kind}", f"thermocouple type {_kind}"):
        _BY_FOLDED_NAME[_folded(_spelling)] = SENSORS[f"type {_kind}"]


@lru_cache(maxsize=256)
def is_sensor(name: str) -> bool:
    """Whether a sensor of that name is known; case, commas and spaces do not count."""
    return _folded(name) in _BY_FOLDED_NAME


def find_sensor(name: str) -> Sensor:
    """The sensor of that name; case, commas and spaces do not count.

    Raises
    ------
    QuantityError
        There is none with that name; the nearest is named.

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
        f"{name[:40]!r} is not a sensor known here", valid=", ".join(SENSORS), remedy=remedy
    )
