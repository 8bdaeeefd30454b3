"""Devices of the tests behind a proxy that does harm, each with a setup, and the commands that talk to it."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from broker import Broker
from espe import Espe
from hasel import Hasel
from ilex import EIBISCH, ILEX, Eibisch, Ilex, Robinie
from ilex import PASSWORD as ILEX_PASSWORD
from ulme import PASSWORD as ULME_PASSWORD
from ulme import Ulme

HERE = Path(__file__).parent
EVERY = os.environ.get("LEITWERK_HOSTILE") == "all"
EACH_CUT = 1 if EVERY else 3  # of the requests at which an upload is cut


class HaselNeighbour(Hasel):
    """The same model with another serial number, another level, and another setting."""

    def __init__(self):
        super().__init__()
        self.holding[20] = 1800

    def shown(self, function):
        found = super().shown(function)
        return {**found, 6: 4477, 11: 77} if function == 4 else found


class UlmeNeighbour(Ulme):
    def __init__(self):
        super().__init__()
        self.serial, self.voltage = "PM-0043", "7.7E+01"
        self.settings["CALC:LIM"] = "77"


def _other_espe(*, rtu: bool) -> Espe:
    device = Espe(4102, level=77, rtu=rtu)
    device.holding[10] = 1800
    return device


def _other_eibisch() -> Eibisch:
    device = Eibisch("EB008", "+77.00")
    device.settings["A"] = "7"
    return device


def _other_ilex() -> Ilex:
    device = Ilex("PX 78", "77.0")
    device.settings["L"] = "77.0"
    return device


@dataclass(frozen=True)
class Scene:
    """``state`` is what the setup sets, read from the device itself; ``new`` after an upload.

    ``odd`` are texts that only the other device has. ``at`` is the address behind the proxy.
    """

    right: Callable[[], Any]
    wrong: Callable[[], Any]
    datasheet: str
    setup: str
    at: str
    serial: str
    state: Callable[[Any], Mapping[Any, Any]]
    new: Mapping[Any, Any]
    odd: tuple[str, ...]
    backup: str
    on_a_wire: bool = False
    password: str = ""
    # Longer than the longest pause of a proper device.
    timeout: str = "0.15"
    commands: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    # The exit codes of commands that end well; 0 for the others.
    well: Mapping[str, int] = field(default_factory=lambda: {"compare": 1})

    def words(self, command: str, where: str) -> list[str]:
        return [word.format(at=where) for word in self.commands[command]]


SETTINGS = {
    "upload": ("upload", "setup.yaml"),
    "live": ("live", "setup.yaml", "--for", "0.3 s", "--every", "0.1 s", "--samples", "samples.csv"),
    "device": ("device", "setup.yaml"),
    "adopt": ("adopt", "setup.yaml", "--to", "adopted.yaml"),
    "find": ("find", "{at}"),
    "compare": ("compare", "setup.yaml", "{at}"),
    "try": ("datasheet", "datasheets/one.yaml", "--try", "{at}"),
    "restore": ("restore", "backup.json", "{at}"),
    "recover": ("recover", "setup.yaml", "--finish"),
    "batch": ("batch", "setup.yaml", "table.csv"),
}  # fmt: skip
OUTPUTS = {
    "attend": ("attend", "setup.yaml", "--for", "0.5 s", "--every", "0.05 s", "--arm"),
    "prove": ("prove", "setup.yaml", "level.high", "--for", "3 s", "--every", "0.03 s", "--arm"),
    "loop": ("loop", "setup.yaml", "display", "--arm", "--measured", "4,8,12,16,20", "--settle", "10 ms"),
    "pulse": ("pulse", "setup.yaml", "horn", "--arm", "--for", "50 ms"),
    "readdress": ("readdress", "{at}", "--serial", "4101", "--to", "9"),
    "fetch": ("fetch", "setup.yaml"),
    "record": ("record", "setup.yaml", "start"),
}  # fmt: skip


def _on_a_bus(units: str) -> dict[str, tuple[str, ...]]:
    """The commands, of which ``find`` asks only some units."""
    return SETTINGS | {"find": (*SETTINGS["find"], "--units", units)}


_HASEL_NAME = [int.from_bytes(b"Tannried"[k : k + 2], "big") for k in range(0, 8, 2)]
HASEL = Scene(
    right=Hasel,
    wrong=HaselNeighbour,
    datasheet=(HERE / "hasel.yaml").read_text("utf-8"),
    setup="""\
leitwerk: 1
title: Weir
device: {{model: HASEL-R, at: "{at}", serial: 70012}}
channels:
  level: {{reading: level, expect: 2140 ± 5 mm}}
settings: {{network.name: Tannried, level.zero: 20 mm, full_scale: 1500 mm, sensor: float}}
""",
    at="modbus+tcp://127.0.0.1:{port}?unit=1",
    serial="70012",
    state=lambda device: {k: device.holding[k] for k in (1, 2, 3, 4, 18, 19, 20)},
    new=dict(zip(range(1, 5), _HASEL_NAME, strict=True)) | {18: 20, 19: 0, 20: 1500},
    odd=(",77,good", "1800"),
    backup="""{"backup": 1, "taken": "2026-03-02T06:00:00Z", "device": {"maker": "Haselnuss Messtechnik",
"model": "HASEL-R", "serial": "70012", "firmware": "1.04"}, "settings": {"network.name": "Tannried",
"level.zero": 20.0, "full_scale": 1500.0, "sensor": "float"}}""",
    commands=SETTINGS,
)


_ESPE_NAME = [int.from_bytes(b"TANK"[k : k + 2], "big") for k in range(0, 4, 2)]


def _espe(*, rtu: bool) -> Scene:
    return Scene(
        right=lambda: Espe(rtu=rtu),
        wrong=lambda: _other_espe(rtu=rtu),
        datasheet=(HERE / "espe.yaml").read_text("utf-8"),
        setup="""\
leitwerk: 1
title: Tank
device: {{model: ESPE-2, at: "{at}", serial: 4101}}
channels:
  level:
    reading: level
    expect: 1200 ± 5 mm
    alarms: {{high: {{above: 1300 mm, clear: 1250 mm}}}}
outputs:
  horn: {{terminal: R1}}
  display:
    {{terminal: A1, shows: level, span: 0..1500 mm, signal: 4..20 mA, bad: 3.6 mA, load: 250 Ω, supply: 24 V}}
rules:
  hot: {{when: level.high is active, do: {{set: horn, to: on}}}}
settings: {{name: TANK}}
""",
        at="modbus+rtu://{path}?unit=1&line=19200,8N1" if rtu else HASEL.at,
        serial="4101",
        state=lambda device: {k: device.holding[k] for k in (2, 3, 10, 11, 12, 14, 15)},
        new=dict(zip((2, 3), _ESPE_NAME, strict=True)) | {10: 1500, 11: 360, 12: 0, 14: 0, 15: 0},
        odd=(",77,good", "1800"),
        backup="""{"backup": 1, "taken": "2026-03-02T06:00:00Z", "device": {"maker": "Espenlaub Messtechnik",
"model": "ESPE-2", "serial": "4101", "firmware": "2.03"}, "settings": {"name": "TANK",
"output.1.high": 1500.0, "output.1.low": 0.0}}""",
        on_a_wire=rtu,
        commands=(_on_a_bus("1..2") if rtu else {"upload": SETTINGS["upload"]}) | OUTPUTS,
    )


ULME = Scene(
    right=Ulme,
    wrong=UlmeNeighbour,
    datasheet=(HERE / "ulme.yaml").read_text("utf-8"),
    setup="""\
leitwerk: 1
title: Saw, main supply
device: {{model: PM 200, at: "{at}", serial: PM-0042}}
channels:
  supply: {{reading: voltage, expect: 230 ± 5 V}}
settings: {{averaging: 16, name: "SAW, MAIN", limit: 253 V}}
""",
    at="scpi+tcp://127.0.0.1:{port}",
    serial="PM-0042",
    state=lambda device: {k: device.settings[k] for k in ("SENS:AVER", "DISP:TEXT", "CALC:LIM")},
    new={"SENS:AVER": "16", "DISP:TEXT": '"SAW, MAIN"', "CALC:LIM": "253"},
    odd=(",77,good", "limit: 77"),
    backup="""{"backup": 1, "taken": "2026-03-02T06:00:00Z", "device": {"maker": "Tannried Instrumente",
"model": "PM 200", "serial": "PM-0042", "firmware": "1.10"}, "settings": {"averaging": 16.0,
"name": "SAW, MAIN", "limit": 253.0}}""",
    password=ULME_PASSWORD,
    commands=SETTINGS,
)
ILEX_SCENE = Scene(
    right=Ilex,
    wrong=_other_ilex,
    datasheet=ILEX,
    setup="""\
leitwerk: 1
title: Pressure
device: {{model: ILEX-1, at: "{at}", serial: PX 77}}
channels:
  pressure: {{reading: shown, expect: 3.4 ± 0.2 bar}}
settings: {{name: PUMP, limit: 4.5}}
""",
    at="text+serial://{path}?line=9600,8N1",
    serial="PX 77",
    state=lambda device: {"N": device.settings["N"], "L": float(device.settings["L"])},
    new={"N": "PUMP", "L": 4.5},
    odd=(",77,good", "limit: 77"),
    backup="""{"backup": 1, "taken": "2026-03-02T06:00:00Z", "device": {"maker": "Espenlaub Messtechnik",
"model": "ILEX-1", "serial": "PX 77", "firmware": "2.0"}, "settings": {"name": "PUMP", "limit": 4.5}}""",
    on_a_wire=True,
    password=ILEX_PASSWORD,
    commands=SETTINGS,
)
EIBISCH_SCENE = Scene(
    right=Eibisch,
    wrong=_other_eibisch,
    datasheet=EIBISCH,
    setup="""\
leitwerk: 1
title: Timber
device: {{model: EIBI-2, at: "{at}", serial: EB007}}
channels:
  moisture: {{reading: moisture, expect: 18 ± 1 %}}
settings: {{name: STACK, averaging: 16}}
""",
    at="sdi12+serial://{path}?unit=0&line=1200,8N1",
    serial="EB007",
    state=lambda device: dict(device.settings),
    new={"N": "STACK", "A": "16"},
    odd=(",77,good", "averaging: 7"),
    backup="""{"backup": 1, "taken": "2026-03-02T06:00:00Z", "device": {"maker": "Espenlaub Messtechnik",
"model": "EIBI-2", "serial": "EB007", "firmware": "1.0"},
"settings": {"name": "STACK", "averaging": 16.0}}""",
    on_a_wire=True,
    timeout="0.3",
    commands=_on_a_bus("0..1")
    | {"readdress": ("readdress", "{at}", "--serial", "EB007", "--to", "9")},
)
STATION = Scene(
    right=Broker,
    wrong=lambda: Broker("BS-0032", 7.7),
    datasheet="",
    setup="""\
leitwerk: 1
title: Head water
device: {{model: laerche, at: "{at}", serial: BS-0031}}
sample: every 5 min
report: every 30 min
channels:
  level: {{reading: level, expect: 1.42 ± 0.15 m}}
settings: {{name: HEAD-WATER}}
""",
    at="mqtt+tcp://127.0.0.1:{port}",
    serial="BS-0031",
    state=lambda broker: {"asked": broker.asked},
    new={"asked": "HEAD-WATER"},
    odd=(",7.7,good", "depth: 7.7"),
    backup="{{}}",
    timeout="0.3",
    commands={
        "request": ("request", "setup.yaml"),
        "station": ("station", "setup.yaml"),
        **{name: SETTINGS[name] for name in ("live", "device", "adopt", "find")},
    },
    well={"request": 1},
)
ROBINIE = Scene(
    Robinie,
    lambda: Robinie("RB-2", "77.0"),
    "",
    """\
leitwerk: 1
title: Kiln
device: {{model: talker, at: "{at}", serial: RB-1}}
channels:
  value: {{reading: said.value, unit: °C, expect: 21.5 ± 1 °C}}
exchanges:
  kiln:
    says:
      messages:
        ask: {{keyword: ASK, asks: said}}
        set: {{keyword: SET, fields: [{{given: number}}]}}
    understands:
      keywords:
        said:
          keyword: VAL
          answer: nothing
          values: [{{number: °C, name: value, decimals: 1}}, {{text: 12, name: serial}}]
""",
    "talk+tcp://127.0.0.1:{port}",
    "RB-1",
    lambda device: device.settings,
    {"SET": "42"},
    ("77.0", "RB-2"),
    "{}",
    commands={
        "live": SETTINGS["live"],
        "device": SETTINGS["device"],
        "say": ("exchange", "say", "setup.yaml", "set", "42"),
    },
)


SCENES = {
    "Modbus TCP": HASEL,
    "Modbus TCP, outputs": _espe(rtu=False),
    "Modbus RTU, outputs": _espe(rtu=True),
    "SCPI": ULME,
    "text": ILEX_SCENE,
    "SDI-12": EIBISCH_SCENE,
    "exchange": ROBINIE,
    "MQTT": STATION,
}


def wait_until(is_so: Callable[[], bool], at_most_s: float = 1.0) -> bool:
    """Whether it becomes so in time: what arrived is taken by a thread of its own."""
    end = time.monotonic() + at_most_s
    while not (found := is_so()) and time.monotonic() < end:
        time.sleep(0.005)
    return found
