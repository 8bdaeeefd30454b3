"""How stand-ins misbehave on request."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field


@dataclass
class Faults:
    """What goes wrong on the link. None and 0: nothing."""

    silent_after_writes: int | None = None
    silent_after_requests: int | None = None
    slow_s: float = 0.0
    corrupt_every: int = 0
    drop_every: int = 0
    wrong_unit_every: int = 0
    power_loss_at_write: int = 0


@dataclass
class Troubles:
    """What is wrong with the device itself."""

    refuses_passwords: bool = False
    flat_battery: bool = False
    full_memory: bool = False


@dataclass
class Disturbances:
    """What can be wrong at the terminals, by terminal name."""

    open: set[str] = field(default_factory=set)
    shorted: set[str] = field(default_factory=set)
    reversed: set[str] = field(default_factory=set)


def spoiler(every: int) -> Callable[[bytes], bytes]:
    """Turns one bit round in every n-th piece that a device sends."""
    count = 0

    def spoil(data: bytes) -> bytes:
        nonlocal count
        count += 1
        if every and count % every == 0:
            return bytes([data[0], data[1] ^ 0x10, *data[2:]]) if len(data) > 1 else data
        return data

    return spoil
