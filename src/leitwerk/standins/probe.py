"""Simulated moisture probes on one SDI-12 bus."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence

import numpy as np

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.points import Stored
from leitwerk.datasheet.text_points import texts
from leitwerk.errors import QuantityError
from leitwerk.parsing.address import SerialLine
from leitwerk.protocols.sdi12 import UNITS, crc_text
from leitwerk.standins.faults import Faults, spoiler
from leitwerk.standins.firmware import Profile, factory_value
from leitwerk.standins.ports import SerialPort

# Pseudo-terminals know neither parity nor seven bits, which SDI-12 has.
SDI12_LINE = SerialLine(1200, 8, "N", 1)
_READY_S = 0.03  # how soon a measurement is done; the answer promises whole seconds
_SPECIES = {
    "spruce": 0.0,
    "fir": 0.4,
    "beech": -1.1,
    "oak": -1.8,
}  # what they make of the same wood
_AT_PROBE = (19.8, 17.2, 22.6)  # % of moisture as for spruce: one probe after the other
_NO_SENSOR = -99.9
_LONGEST = 80  # characters of a command


class Probe:
    """One probe in factory condition. ``answer`` takes a command without address and mark."""

    def __init__(
        self,
        datasheet: Datasheet,
        profile: Profile,
        unit: str,
        *,
        broken: bool = False,
        spot: int = 0,
    ) -> None:
        self.profile = profile
        self.unit = unit
        self.broken = broken
        self.data: list[str] = []
        self.has_crc = False
        self._noise = np.random.default_rng(11 + spot)
        self._rest = _AT_PROBE[spot % len(_AT_PROBE)]
        self._settings = texts(datasheet.points("settings"))
        self.values: dict[str, Stored] = {
            name: factory_value(datasheet.settings[name], text)
            for name, text in profile.factory.items()
        }

    def answer(self, body: str) -> tuple[str, bool]:
        """Its answer with address and check, and whether a service request follows."""
        if body == "":
            return self.unit, False
        if body == "I":
            unit = self.profile
            said = f"14{'Tannried':8.8}{unit.model:6.6}{unit.firmware:3.3}{unit.serial}"
            return self.unit + said, False
        if len(body) == 2 and body[0] == "A" and body[1] in UNITS:
            self.unit = body[1]
            return self.unit, False
        if body in {"M", "MC", "M1", "MC1", "C", "CC"}:
            self.has_crc = body[1:2] == "C"
            self.data = [f"+{12.1:.1f}"] if body.endswith("1") else self._measure()
            return f"{self.unit}001{len(self.data)}", body[0] == "M"
        if len(body) == 2 and body[0] == "D" and body[1].isdecimal():
            said = self.unit + ("".join(self.data) if body == "D0" else "")
            return said + (crc_text(said) if self.has_crc else ""), False
        return self.unit + self._extended(body), False

    def _measure(self) -> list[str]:
        if self.broken:
            return [f"{_NO_SENSOR:+.1f}"] * 2
        spread = 0.6 / float(self.values["averaging"]) ** 0.5
        moisture = self._rest + _SPECIES[str(self.values["species"])]
        moisture += spread * float(self._noise.standard_normal())
        return [f"{moisture:+.2f}", f"{19.0 + 0.05 * float(self._noise.standard_normal()):+.2f}"]

    def _extended(self, body: str) -> str:
        for point in self._settings:
            if body == point.query:
                return point.encode(self.values[point.name])
            if body.startswith(point.query):
                value = point.decode(body.removeprefix(point.query))
                try:
                    point.storable(value)
                except QuantityError:
                    return "e2"
                self.values[point.name] = value
                return "ok"
        return "e1"


async def serve_sdi12(
    probes: Sequence[Probe], *, faults: Faults, ready: Callable[[str], None]
) -> None:
    """Serve all probes on one pseudo-terminal until cancelled; ``ready`` gets its path."""
    received: asyncio.Queue[bytes] = asyncio.Queue()
    spoil, rest, count = spoiler(faults.corrupt_every), "", 0
    with SerialPort(received.put_nowait) as port:
        ready(port.path)
        while True:
            rest += (await received.get()).decode("latin-1")
            *commands, rest = rest[-_LONGEST:].split("!")
            for command in commands:
                count += 1
                limit = faults.silent_after_requests
                if limit is not None and count > limit:
                    continue
                await asyncio.sleep(faults.slow_s)
                # "?" is answered by every probe; with several, all of them at once.
                asked = [p for p in probes if command[:1] in {p.unit, "?"} and command]
                for probe in asked:
                    line, is_served = probe.answer(command[1:])
                    port.send(spoil(line.encode("ascii", "replace") + b"\r\n"))
                    if is_served:
                        await asyncio.sleep(_READY_S)
                        port.send(probe.unit.encode("ascii") + b"\r\n")
