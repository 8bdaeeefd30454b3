"""Wires between stand-ins: the current of an output flows through a resistor, and into an input."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import parse_quantity
from leitwerk.parsing.units import parse_unit
from leitwerk.standins.firmware import Firmware
from leitwerk.standins.flow import FlowTransmitter
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Signal

_END = re.compile(r"(\S+) (\S+)")
_VALID = "'weide A1, fichte-8 7', with '250 Ω', '12 V' of supply, 'reversed' behind them"
REVERSED = "reversed"


@dataclass(frozen=True, slots=True)
class Wire:
    """From the output of a model to a terminal of another. ``supply_v`` limits what the output can drive."""

    source: tuple[str, str]
    target: tuple[str, str]
    resistance_ohm: float = 0.0
    supply_v: float | None = None
    is_reversed: bool = False


def parse_wire(text: str) -> Wire:
    """The wire that a text names: ``weide A1, fichte-8 7, 250 Ω``.

    Raises
    ------
    QuantityError
        It names none.

    """
    ends, numbers, is_reversed = [], dict[str, float](), False
    for number, part in enumerate(part.strip() for part in text.split(",")):
        match = _END.fullmatch(part)
        if number < 2 and match:
            ends.append((match[1], match[2]))
        elif part == REVERSED:
            is_reversed = True
        elif number >= 2:
            quantity = parse_quantity(part)
            unit = "" if quantity.unit is None else quantity.unit.dimension
            for symbol in ("Ω", "V"):
                if unit == parse_unit(symbol).dimension:
                    numbers[symbol] = quantity.value_in(parse_unit(symbol))
                    break
            else:
                raise QuantityError(f"{part[:40]!r} says nothing of a wire", valid=_VALID)
    if len(ends) != 2:
        raise QuantityError(f"{text[:60]!r} is not a wire", valid=_VALID)
    return Wire(ends[0], ends[1], numbers.get("Ω", 0.0), numbers.get("V"), is_reversed)


@dataclass
class _Current:
    """What an input sees of an output."""

    device: FlowTransmitter
    slot: int
    wire: Wire
    compliance_v: float = field(default=0.0)

    def signal(self, quantity: str) -> Signal | None:
        """The current, or the voltage over the resistor; None where an input is switched to another kind."""
        wire = self.wire
        current_ma = float(self.device.measured()[f"output.{self.slot}"] or 0.0)
        if wire.supply_v is not None and wire.resistance_ohm:
            left_v = max(0.0, wire.supply_v - self.compliance_v)
            current_ma = min(current_ma, 1e3 * left_v / wire.resistance_ohm)
        sign = -1.0 if wire.is_reversed else 1.0
        if quantity == "current":
            return Signal(quantity, sign * current_ma)
        if quantity == "voltage" and wire.resistance_ohm:
            return Signal(quantity, sign * current_ma * wire.resistance_ohm)
        return None


def lay(wire: Wire, devices: Sequence[Firmware]) -> None:
    """Lay a wire between two devices that are there.

    Raises
    ------
    QuantityError
        There is no such device, output or terminal.

    """
    outputs = {
        (d.profile.model, name): (d, terminal)
        for d in devices
        if isinstance(d, FlowTransmitter)
        for name, terminal in d.datasheet.output_terminals.items()
    }
    inputs = {
        (d.profile.model, name): d
        for d in devices
        if isinstance(d, Logger)
        for name in d.datasheet.terminals
    }
    for end, known, what in ((wire.source, outputs, "output"), (wire.target, inputs, "input")):
        if end not in known:
            valid = ", ".join(" ".join(name) for name in known) or "none; name further models"
            raise QuantityError(f"there is no {what} {' '.join(end)!r} to wire", valid=valid)
    device, terminal = outputs[wire.source]
    current = _Current(device, terminal.slot, wire, terminal.compliance_v)
    inputs[wire.target].wires[wire.target[1]] = current.signal
