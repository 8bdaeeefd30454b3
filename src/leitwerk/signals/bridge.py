"""Strain-gauge bridges: ratiometric signals in mV/V."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import TYPE_CHECKING

import numpy as np

from leitwerk.errors import DomainError
from leitwerk.signals.linear import Linear
from leitwerk.signals.scale import Ends, Scale

if TYPE_CHECKING:
    from numpy.typing import NDArray


class Arms(Enum):
    """Which arms of the bridge are gauges, as the number of them that see the whole strain.

    ``quarter``: one gauge. ``half_poisson``: one along and one across. ``half_bending``: two with
    opposite strain. ``full_poisson``: two along and two across. ``full_bending``: four with opposite
    strain in pairs.
    """

    QUARTER = "quarter"
    HALF_POISSON = "half, Poisson"
    HALF_BENDING = "half, bending"
    FULL_POISSON = "full, Poisson"
    FULL_BENDING = "full, bending"


@dataclass(frozen=True, slots=True)
class StrainBridge(Scale):
    """Strain in µm/m from the output of a strain-gauge bridge in mV/V.

    Tension is positive, and gives a positive output. The bridges with one gauge, and with one along
    and one across, are not linear, and are turned back exactly; a linear formula is 0.1 % off at
    1000 µm/m.

    Parameters
    ----------
    arms : Arms
    gauge_factor : float
        Relative change of resistance per strain, from the gauge's package.
    poisson : float
        Poisson's ratio of what is measured; counts for the arrangements with gauges across.
    unstrained : float, in mV/V
        Output at rest.

    Raises
    ------
    DomainError
        A gauge factor or Poisson's ratio that no material has.

    References
    ----------
    VDI/VDE/GESA 2635 part 1:2007; the bridge equation (Wheatstone) solved for the strain.

    Examples
    --------
    >>> quarter = StrainBridge(Arms.QUARTER, gauge_factor=2.0)
    >>> float(quarter.signal(1000.0).round(5)), float(quarter.value(0.4995005).round(2))
    (0.4995, 1000.0)

    """

    arms: Arms
    gauge_factor: float = 2.0
    poisson: float = 0.3
    unstrained: float = 0.0

    def __post_init__(self) -> None:
        if not 0.1 <= abs(self.gauge_factor) <= 300.0 or not 0.0 <= self.poisson <= 0.5:
            raise DomainError(
                f"gauge factor {self.gauge_factor:g} with Poisson's ratio {self.poisson:g} is no "
                "strain gauge",
                remedy="the gauge factor of metal is about 2, of semiconductors up to 200",
            )

    @property
    def span(self) -> Ends:
        """As far as a gauge survives: a tenth of its length, or half of its resistance."""
        most = min(1e5, 0.5e6 / abs(self.gauge_factor))
        return -most, most

    @property
    def domain(self) -> Ends:
        """What that span gives, in mV/V."""
        ends = np.array(self.span)
        out = np.empty(2)
        self.backward(ends, out)
        return float(out.min()), float(out.max())

    def _shape(self) -> tuple[float, float]:
        """K and n of the output in V/V = k·x / (1 + n·x), x = gauge factor · strain."""
        nu = self.poisson
        return {
            Arms.QUARTER: (0.25, 0.5),
            Arms.HALF_POISSON: ((1.0 + nu) / 4.0, (1.0 - nu) / 2.0),
            Arms.HALF_BENDING: (0.5, 0.0),
            Arms.FULL_POISSON: ((1.0 + nu) / 2.0, (1.0 - nu) / 2.0),
            Arms.FULL_BENDING: (1.0, 0.0),
        }[self.arms]

    def forward(self, x: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The bridge equation solved for the strain."""
        k, n = self._shape()
        np.subtract(x, self.unstrained, out=out)
        out *= 1e-3
        if n:
            out /= k - n * out
        else:
            out /= k
        out *= 1e6 / self.gauge_factor

    def backward(self, y: NDArray[np.float64], out: NDArray[np.float64]) -> None:
        """The bridge equation."""
        k, n = self._shape()
        np.multiply(y, self.gauge_factor * 1e-6, out=out)
        if n:
            out *= k / (1.0 + n * out)
        else:
            out *= k
        out *= 1e3
        out += self.unstrained

    def __str__(self) -> str:
        return f"strain bridge, {self.arms.value}, gauge factor {self.gauge_factor:g}"


def load_cell(sensitivity: float, full_scale: float, zero: float = 0.0) -> Linear:
    """The scale of a sensor from its data sheet: load from mV/V.

    Parameters
    ----------
    sensitivity : float, in mV/V
        Output at full scale, less that at zero.
    full_scale : float, in the unit of the load
    zero : float, in mV/V
        Output without load.

    Raises
    ------
    DomainError
        Sensitivity or full scale is 0.

    Examples
    --------
    >>> float(load_cell(2.0, 500.0).value(1.0))
    250.0

    """
    if sensitivity == 0.0 or full_scale == 0.0:
        raise DomainError(
            f"a sensitivity of {sensitivity:g} with a full scale of {full_scale:g} is not a scale",
            remedy="look both up in the sensor's data sheet; neither is 0",
        )
    gain = full_scale / sensitivity
    return Linear(gain, 0.0 - zero * gain)


@dataclass(frozen=True, slots=True)
class ShuntCheck:
    """What a resistor across one arm should do to the output, and what it did.

    ``expected`` and ``found`` in mV/V, ``error`` as a part of what was expected.
    """

    expected: float
    found: float

    @property
    def error(self) -> float:
        """How far off, as a part: 0.01 is 1 %."""
        return self.found / self.expected - 1.0

    @property
    def cause(self) -> str:
        """What a deviation points to; empty when it is small."""
        if abs(self.error) <= 0.01:
            return ""
        if abs(self.found + self.expected) <= 0.05 * abs(self.expected):
            return "the output has the wrong sign: signal or excitation wires are swapped"
        if -0.5 < self.error < 0.0:
            return "the output is too small: long excitation leads without sense wires do this"
        return "wrong resistor, wrong arm, or not the bridge that the setup says"


def check_shunt(
    found: float, shunt: float, gauge_resistance: float = 350.0, *, tension: bool = False
) -> ShuntCheck:
    """Shunt calibration: the step that a resistor across an arm makes.

    Across the active gauge it makes that arm smaller, which looks like *compression*: a negative
    step. Across the neighbouring arm it looks like tension.

    Parameters
    ----------
    found : float, in mV/V
        The output with the resistor, less the output without it.
    shunt, gauge_resistance : float, in Ω
        The resistor, and the arm it is put across.
    tension : bool
        Whether it is put across the neighbouring arm.

    References
    ----------
    The bridge equation with R·Rs/(R + Rs) in one arm: -R / (4·Rs + 2·R).

    Examples
    --------
    >>> check = check_shunt(-0.864, shunt=100e3)
    >>> round(check.expected, 4), round(check.error, 3)
    (-0.8735, -0.011)

    """
    if shunt <= 0 or gauge_resistance <= 0:
        raise DomainError(f"{shunt:g} Ω across {gauge_resistance:g} Ω is not a shunt calibration")
    step = 1e3 * gauge_resistance / (4.0 * shunt + 2.0 * gauge_resistance)
    return ShuntCheck(step if tension else -step, found)
