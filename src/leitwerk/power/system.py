"""How a net is wired to an analyzer: the kinds, what is measured in each, and between what."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

PHASES = ("L1", "L2", "L3")
Rotation = Literal["L1 L2 L3", "L1 L3 L2"]
ROTATIONS: tuple[Rotation, Rotation] = ("L1 L2 L3", "L1 L3 L2")


@dataclass(frozen=True, slots=True)
class System:
    """One kind of wiring.

    ``angles`` are those of its voltages in ° for the rotation L1 L2 L3, the first is 0. Voltages are
    between a phase and the neutral, or between two phases: ``between_phases``. ``sensors`` are the phases
    whose current is measured, numbered from 0.
    """

    name: str
    angles: tuple[float, ...]
    sensors: tuple[int, ...]
    between_phases: bool = False
    neutral_current: bool = False

    @property
    def phases(self) -> int:
        """How many phases it has."""
        return len(self.angles)

    @property
    def has_neutral(self) -> bool:
        """Whether it has a neutral conductor."""
        return not self.between_phases

    @property
    def voltages(self) -> tuple[str, ...]:
        """Between what each of its voltages stands."""
        if self.between_phases:
            return ("L1-L2", "L2-L3", "L3-L1")
        return tuple(f"{phase}-N" for phase in PHASES[: self.phases])


_THREE = (0.0, -120.0, 120.0)
SYSTEMS: Mapping[str, System] = {
    system.name: system
    for system in (
        System("1-phase 2-wire", (0.0,), (0,)),
        System("split-phase", (0.0, 180.0), (0, 1)),
        System("3-phase 3-wire, 2 currents", _THREE, (0, 2), between_phases=True),
        System("3-phase 3-wire", _THREE, (0, 1, 2), between_phases=True),
        System("3-phase 4-wire", _THREE, (0, 1, 2)),
        System("3-phase 4-wire, neutral current", _THREE, (0, 1, 2), neutral_current=True),
    )
}
