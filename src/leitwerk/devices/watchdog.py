"""Trying a device's watchdog: staying silent for longer than it waits, and reading that it acted."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from leitwerk.datasheet.vocabulary import WATCHDOG_AFTER, WATCHDOG_COUNT, WATCHDOG_THEN
from leitwerk.devices.device import Device
from leitwerk.errors import QuantityError
from leitwerk.project.clock import REAL_TIME, Clock
from leitwerk.results import Outcome

_MARGIN_S = 1.0  # beyond the time that is set; the device's own clock is not ours


@dataclass(frozen=True, slots=True)
class WatchdogTest:
    """What a device was to do when nothing is heard for ``after_s``, and how often it did."""

    after_s: float
    then: str
    silent_s: float
    acted: int

    @property
    def outcome(self) -> Outcome:
        """Passed when it acted, once for one silence."""
        return Outcome.PASSED if self.acted == 1 else Outcome.FAILED

    @property
    def reasons(self) -> tuple[str, ...]:
        """How often it acted instead."""
        return () if self.acted == 1 else (f"it acted {self.acted} times",)

    def __str__(self) -> str:
        done = "it did" if self.acted == 1 else self.reasons[0]
        return (
            f"{self.outcome.value.upper()}: after {self.after_s:g} s without a request it is "
            f"to do: {self.then}; nothing was asked for {self.silent_s:.1f} s, and {done}"
        )

    def to_dict(self) -> dict[str, Any]:
        """The result as plain data for JSON."""
        return {**asdict(self), "outcome": self.outcome.value}


def try_watchdog(
    device: Device,
    *,
    clock: Clock = REAL_TIME,
) -> WatchdogTest:
    """Send a device nothing for longer than its watchdog waits, and see what its counter says.

    The names ``watchdog.after`` and ``watchdog.then`` (settings) and ``watchdog.count`` (status)
    are those of the shared vocabulary. Nothing is written.

    Raises
    ------
    QuantityError
        The model has no watchdog, or it is switched off.
    LinkError
        The device was not reached, or did not come back.

    """
    sheet = device.datasheet
    after, count = sheet.family(WATCHDOG_AFTER), sheet.family(WATCHDOG_COUNT)
    if after is None or count is None:
        raise QuantityError(
            f"{sheet.model} has no watchdog that could be tried",
            valid="a model with watchdog.after, watchdog.then and watchdog.count in its datasheet",
        )
    then = sheet.family(WATCHDOG_THEN)
    points = [after.template, *([then.template] if then else [])]
    found = device.read_points(points)
    after_s = float(found[WATCHDOG_AFTER.name])
    if after_s <= 0.0:
        raise QuantityError(
            "its watchdog is switched off", valid="a time above 0 in the setting watchdog.after"
        )
    before = float(device.read_points([count.template])[WATCHDOG_COUNT.name])
    began = clock.monotonic()
    clock.wait(after_s + _MARGIN_S)
    silent_s = clock.monotonic() - began
    now = float(device.read_points([count.template])[WATCHDOG_COUNT.name])
    return WatchdogTest(
        after_s, str(found.get(WATCHDOG_THEN.name, "act")), silent_s, int(now - before)
    )
