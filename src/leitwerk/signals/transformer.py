"""Instrument transformers: voltage and current ratios, and their phase displacement."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from leitwerk.errors import QuantityError
from leitwerk.signals.linear import Linear

_SIDE = r"(\d+(?:\.\d+)?)\s*([mk]?[VA])"
_RATIO = re.compile(rf"\s*{_SIDE}?\s*/\s*{_SIDE}\s*")
_FACTOR = {"mV": 1e-3, "V": 1.0, "kV": 1e3, "mA": 1e-3, "A": 1.0, "kA": 1e3}
# IEC 61869-2:2012, 5.201: preferred rated primary currents, and their decimal multiples.
RATED_CURRENTS = (10.0, 12.5, 15.0, 20.0, 25.0, 30.0, 40.0, 50.0, 60.0, 75.0)


@dataclass(frozen=True, slots=True)
class Transformer:
    """A transformer by its ratio, as on its plate.

    ``primary`` and ``secondary`` in ``unit`` (A or V); ``displacement`` in radian, positive when the
    secondary leads.

    Examples
    --------
    >>> parse_transformer("200/5 A").scale.value(2.5)
    array(100.)

    """

    primary: float
    secondary: float
    unit: str
    displacement: float = 0.0

    @property
    def ratio(self) -> float:
        """Primary by secondary."""
        return self.primary / self.secondary

    @property
    def scale(self) -> Linear:
        """From what is measured on the secondary side to what flows or stands on the primary."""
        return Linear(self.ratio)

    def power_error(self, power_factor: float) -> float:
        """The error of active power that the phase displacement makes, as a part of it.

        Parameters
        ----------
        power_factor : float
            cos φ of the load, 0 < cos φ <= 1; the current lags.

        References
        ----------
        IEC 61869-2:2012, 3.4.4 (phase displacement): P measured / P = cos(φ - δ) / cos φ.

        Examples
        --------
        >>> half_degree = Transformer(200.0, 5.0, "A", displacement=math.radians(0.5))
        >>> round(half_degree.power_error(0.5), 4)
        0.0151

        """
        if not 0.0 < power_factor <= 1.0:
            raise QuantityError(f"{power_factor:g} is not a power factor", valid="above 0, up to 1")
        phi = math.acos(power_factor)
        return math.cos(phi - self.displacement) / power_factor - 1.0

    def __str__(self) -> str:
        first, second = _plate(self.primary, self.unit), _plate(self.secondary, self.unit)
        # 200/5 A has its unit once, 20 kV/100 V twice.
        same = first.partition(" ")[2] == second.partition(" ")[2]
        return f"{first.partition(' ')[0] if same else first}/{second}"


def _plate(amount: float, unit: str) -> str:
    for prefix, factor in (("k", 1e3), ("", 1.0), ("m", 1e-3)):
        # Currents of some thousand A stand on plates as they are.
        if amount >= factor and not (prefix == "k" and unit == "A"):
            return f"{amount / factor:g} {prefix}{unit}"
    return f"{amount * 1e3:g} m{unit}"


def parse_transformer(text: str, displacement: float = 0.0) -> Transformer:
    """The transformer that a ratio names: ``200/5 A``, ``20 kV/100 V``.

    Raises
    ------
    QuantityError
        It is not a ratio, or one of a voltage to a current.

    Examples
    --------
    >>> str(parse_transformer("20 kV/100 V")), parse_transformer("230/110 V").ratio > 2
    ('20 kV/100 V', True)

    """
    valid = "a ratio as on the plate, such as 200/5 A or 230/110 V"
    match = _RATIO.fullmatch(text) if len(text) < 60 else None
    if match is None:
        raise QuantityError(f"{text[:60]!r} is not a transformer ratio", valid=valid)
    first, first_unit, second, unit = match.groups()
    # 200/5 A has its unit once; a secondary in mA has a primary that says its own.
    first_unit = first_unit or unit
    if first_unit[-1] != unit[-1]:
        raise QuantityError(f"{text!r} is a ratio of {first_unit} to {unit}", valid=valid)
    primary, secondary = float(first) * _FACTOR[first_unit], float(second) * _FACTOR[unit]
    if not (primary > 0.0 and secondary > 0.0):
        raise QuantityError(f"{text!r} has a side of 0", valid=valid)
    return Transformer(primary, secondary, unit[-1], displacement)
