"""The check of a wiring at the device: phasors read for some seconds, and judged."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from leitwerk.check.channels import measured
from leitwerk.check.checked import CheckedSetup
from leitwerk.check.wiring import judged_by
from leitwerk.datasheet.settings import diff_settings
from leitwerk.datasheet.vocabulary import (
    CURRENT,
    CURRENT_ANGLE,
    VOLTAGE,
    VOLTAGE_ANGLE,
    VOLTAGE_BETWEEN,
    VOLTAGE_BETWEEN_ANGLE,
    WIRING_SETTINGS,
    KnownPoint,
)
from leitwerk.devices.device import Device
from leitwerk.errors import DeviceRefused, QuantityError
from leitwerk.monitoring.samples import Sample, samples
from leitwerk.parsing.units import Unit, convert, parse_unit
from leitwerk.power.phasors import phasor
from leitwerk.power.system import PHASES
from leitwerk.power.wiring import Wiring, WiringVerdict, judge_wiring
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.results import Outcome

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Complex = NDArray[np.complex128]

_READINGS = 10


@dataclass(frozen=True)
class WiringCheck:
    """What was read of a wiring, and what it shows. Phasors are means, in V and A, to the first voltage."""

    wiring: Wiring
    terminals: Mapping[str, str]
    voltages: Complex
    currents: Complex
    count: int
    verdict: WiringVerdict

    @property
    def outcome(self) -> Outcome:
        """How it ended."""
        return self.verdict.outcome

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why it is not passed, or why that is unknown."""
        return self.verdict.reasons

    def named(self) -> dict[str, tuple[complex, str]]:
        """The phasors by name, with their units."""
        system = self.wiring.system
        found = {
            f"U {name}": (complex(u), "V")
            for name, u in zip(system.voltages, self.voltages, strict=True)
        }
        found |= {f"I {PHASES[k]}": (complex(self.currents[k]), "A") for k in system.sensors}
        return found

    def to_dict(self) -> dict[str, Any]:
        """The check as plain data for JSON."""
        return {
            "outcome": self.outcome.value,
            "system": self.wiring.system.name,
            "terminals": dict(self.terminals),
            "readings": self.count,
            "phasors": {
                name: {
                    "amount": _finite(abs(p)),
                    "unit": unit,
                    "angle": _finite(math.degrees(math.atan2(p.imag, p.real))),
                }
                for name, (p, unit) in self.named().items()
            },
            "mistakes": [mistake.to_dict() for mistake in self.verdict.mistakes],
            "alternatives": list(self.verdict.alternatives),
            "not_shown": list(self.verdict.not_shown),
        }


def check_wiring(
    setup: CheckedSetup,
    device: Device,
    *,
    duration_s: float = 5.0,
    power: str | None = None,
    clock: Clock = REAL_TIME,
) -> WiringCheck:
    """Read the phasors of an analyzer for some seconds, and judge how it is wired.

    Parameters
    ----------
    setup : CheckedSetup
        With the section ``wiring``.
    device : Device
        It has to hold the settings of the wiring: with others its readings mean something else.
    duration_s : float, in s
    power : str, optional
        What flows now: *import*, *export*, or what another meter shows, ``13 ± 1 kW``.
    clock : Clock

    Raises
    ------
    QuantityError
        The setup has no wiring, the model shows no angles, or ``power`` is none.
    DeviceRefused
        The device is set for another wiring.
    WrongDevice, LinkError
        Another device answered, or none.

    """
    wiring = judged_by(setup, power)
    device.require(setup.setup.device.model, setup.setup.device.serial)
    _require_settings(setup, device)
    between = wiring.system.between_phases
    points = (
        (VOLTAGE_BETWEEN, VOLTAGE_BETWEEN_ANGLE) if between else (VOLTAGE, VOLTAGE_ANGLE),
        (CURRENT, CURRENT_ANGLE),
    )
    names = [
        [_channel_of(setup, known, k + 1) for known in pair]
        for pair in points
        for k in range(wiring.system.phases)
    ]
    found = list(
        samples(setup, device, period_s=duration_s / _READINGS, duration_s=duration_s, clock=clock)
    )
    read = np.array([_mean(found, amount, angle) for amount, angle in names])
    u, i = np.split(read, 2)
    return WiringCheck(
        wiring=wiring,
        terminals=setup.datasheet.wirings[wiring.system.name],
        voltages=u,
        currents=i,
        count=len(found),
        verdict=judge_wiring(wiring, u, i),
    )


def _require_settings(setup: CheckedSetup, device: Device) -> None:
    """Whether the device is set for the wiring of the setup."""
    asked = {known.name for known in WIRING_SETTINGS}
    changes = diff_settings(device.read_settings(), setup.settings, setup.datasheet)
    other = [str(change) for change in changes if change.setting in asked]
    if other:
        raise DeviceRefused(
            f"the device is set for another wiring: {'; '.join(other)}",
            remedy="upload the setup first",
        )


def _channel_of(setup: CheckedSetup, known: KnownPoint, index: int) -> tuple[str, Unit]:
    """The channel that shows a reading, and its unit."""
    wanted = known.at(index)
    for channel in measured(setup.channels):
        if channel.kind == wanted:
            return channel.name, channel.unit
    raise QuantityError(
        f"no channel shows {wanted} of {setup.datasheet.model}",
        valid="an analyzer that shows amounts and angles of voltages and currents",
    )


def _mean(found: Sequence[Sample], amount: tuple[str, Unit], angle: tuple[str, Unit]) -> complex:
    """The mean phasor of some samples; not a number where one of them is bad."""
    name, unit = amount
    base = parse_unit("V" if unit.dimension == "voltage" else "A")
    amounts = np.array([convert(sample[name], unit, base) for sample in found])
    angles = np.array([convert(sample[angle[0]], angle[1], parse_unit("°")) for sample in found])
    return complex(phasor(amounts, angles).mean())


def _finite(number: float) -> float | None:
    return number if math.isfinite(number) else None
