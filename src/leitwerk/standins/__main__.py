"""The stand-ins as a program: ``python -m leitwerk.standins fichte-8 linde``."""

from __future__ import annotations

import asyncio
import contextlib
import random
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Coroutine
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, NoReturn, Protocol

import click

from leitwerk.datasheet.model import Datasheet
from leitwerk.datasheet.vocabulary import BUS_UNIT
from leitwerk.errors import LeitwerkError
from leitwerk.evaluation.course import Course
from leitwerk.parsing.address import BusAddress, LinkAddress, SerialLine
from leitwerk.project.files import read_bytes
from leitwerk.project.library import find_datasheet, read_datasheet
from leitwerk.protocols.board_image import from_hex, parse_program
from leitwerk.protocols.sdi12 import UNITS
from leitwerk.standins.boards import Fixture, make_lot
from leitwerk.standins.carriers import LevelMeter
from leitwerk.standins.charger import BATTERY_SPOT, Charger
from leitwerk.standins.climate import ClimateLogger, serve_drive
from leitwerk.standins.clock import DeviceClock, utc_wall
from leitwerk.standins.faults import Disturbances, Faults, Troubles
from leitwerk.standins.firmware import Firmware, Profile
from leitwerk.standins.flow import FlowTransmitter
from leitwerk.standins.from_datasheet import make, profile_of
from leitwerk.standins.indicator import Indicator
from leitwerk.standins.lines import (
    TEXT_LINE,
    LineDevice,
    serve_lines_serial,
    serve_lines_tcp,
)
from leitwerk.standins.logger import Logger
from leitwerk.standins.mains import Wires, parse_act
from leitwerk.standins.meter import Meter
from leitwerk.standins.panel import Panel
from leitwerk.standins.plant import SPOTS, Plant, parse_spot
from leitwerk.standins.power import PowerAnalyzer
from leitwerk.standins.probe import SDI12_LINE, Probe, serve_sdi12
from leitwerk.standins.profile import find_profile
from leitwerk.standins.receiver import Receiver
from leitwerk.standins.server import RTU_LINE, serve_rtu, serve_tcp
from leitwerk.standins.station import Station, run_station
from leitwerk.standins.talking import serve_talking
from leitwerk.standins.wires import lay, parse_wire

_HOST = "127.0.0.1"
_SEED = 17
_DROPS = (5, 30)  # requests after which a copy that drops the link hangs up, again and again
_ROWS = 25  # of a recording that is there at the start
_COUNT = click.IntRange(min=0)


class Operated(Protocol):
    """What a line from the keyboard can operate."""

    def operate(self, line: str) -> str:
        """Carry it out; what happened, in words."""


@dataclass(frozen=True)
class _Options:
    """The options of this program, by the names of their parameters."""

    port: int
    copies: int
    numbered: bool
    rtu: bool
    bus: bool
    unit: str | None
    serial: str | None
    as_model: str | None
    open_: tuple[str, ...]
    short: tuple[str, ...]
    reverse: tuple[str, ...]
    recordings: int
    recording: bool
    program: str | None
    broker: str | None
    clock_ahead: float
    refuse_passwords: bool
    flat_battery: bool
    full_memory: bool
    silent_after_writes: int | None
    silent_after_requests: int | None
    slow: float
    corrupt_every: int
    drop_every: int
    drop_share: float
    wrong_unit_every: int
    power_loss_at_write: int
    time_factor: float
    courses: tuple[str, ...]
    wires: tuple[str, ...]
    drive: str | None
    with_parent: bool
    operate: bool
    miswired: tuple[str, ...]
    lot: int
    faulty: float
    seed: int

    @property
    def faults(self) -> Faults:
        """What goes wrong on the link."""
        return Faults(
            self.silent_after_writes, self.silent_after_requests, self.slow, self.corrupt_every,
            self.drop_every, self.wrong_unit_every, self.power_loss_at_write,
        )  # fmt: skip

    @property
    def troubles(self) -> Troubles:
        """What is wrong with the device."""
        return Troubles(self.refuse_passwords, self.flat_battery, self.full_memory)

    @property
    def disturbances(self) -> Disturbances:
        """What is wrong at its terminals."""
        return Disturbances(
            open=set(self.open_), shorted=set(self.short), reversed=set(self.reverse)
        )


@click.command()
@click.argument("models", nargs=-1)
@click.option(
    "--datasheet",
    "datasheets",
    multiple=True,
    metavar="FILE",
    help="A device that does what this datasheet says.",
)
@click.option(
    "--value",
    "values",
    multiple=True,
    metavar="READING=VALUE",
    help="What a reading of it shows: 'pressure=3.4 bar'.",
)
@click.option(
    "--port",
    default=0,
    type=click.IntRange(0, 65535),
    show_default="a free one",
    help="TCP port to listen on, for one stand-in.",
)
@click.option("--copies", default=1, type=click.IntRange(1, 1000), help="How many of each.")
@click.option("--numbered", is_flag=True, help="Copies have numbers, and a life, of their own.")
@click.option("--rtu", is_flag=True, help="On a serial line (a pseudo-terminal) instead of TCP.")
@click.option("--bus", is_flag=True, help="All of them that speak Modbus on one serial line.")
@click.option("--unit", default=None, help="Unit to answer to; the profile's, if not given.")
@click.option("--serial", default=None, help="Another serial number than the profile's.")
@click.option("--as-model", default=None, help="Say it is another model.")
@click.option("--open", "open_", multiple=True, metavar="T", help="Terminal with a broken wire.")
@click.option("--short", multiple=True, metavar="T", help="Terminal with a short circuit.")
@click.option("--reverse", multiple=True, metavar="T", help="Terminal with reversed polarity.")
@click.option("--recordings", default=0, help="Recordings in memory that have not been fetched.")
@click.option("--recording", is_flag=True, help="It is recording when it starts.")
@click.option("--program", metavar="FILE", help="Start with the program in an Intel HEX file.")
@click.option(
    "--broker", metavar="HOST:PORT", help="Where a station reports; its own, if not given."
)
@click.option("--clock-ahead", default=0.0, metavar="S", help="How fast its clock is, in s.")
@click.option("--refuse-passwords", is_flag=True, help="No password is right.")
@click.option("--flat-battery", is_flag=True, help="It cannot keep settings any more.")
@click.option("--full-memory", is_flag=True, help="It cannot record any more.")
@click.option(
    "--silent-after-writes",
    default=None,
    type=_COUNT,
    metavar="N",
    help="Answer nothing more after N write requests.",
)
@click.option(
    "--silent-after-requests",
    default=None,
    type=_COUNT,
    metavar="N",
    help="Answer nothing more after N requests of any kind.",
)
@click.option("--slow", default=0.0, metavar="S", help="Time for each answer.")
@click.option(
    "--corrupt-every", default=0, type=_COUNT, metavar="N", help="Spoil every Nth answer (serial)."
)
@click.option(
    "--drop-every", default=0, type=_COUNT, metavar="N", help="Hang up at every Nth request (TCP)."
)
@click.option(
    "--drop-share",
    default=0.0,
    metavar="P",
    help="Share of the numbered copies that hang up now and then.",
)
@click.option(
    "--wrong-unit-every", default=0, type=_COUNT, metavar="N", help="Every Nth answer: wrong unit."
)
@click.option(
    "--power-loss-at-write", default=0, type=_COUNT, metavar="N", help="No power in Nth write."
)
@click.option(
    "--miswired",
    multiple=True,
    metavar="ACT",
    help="Of an analyzer of power: exchange U2 U3, reverse I1, open N, transformer I 50.",
)
@click.option("--time-factor", default=1.0, help="How many times faster the plant's time runs.")
@click.option(
    "--course",
    "courses",
    multiple=True,
    metavar="'SPOT: …'",
    help="Drive a spot of the plant along a course: 'air_top: 21; to 85 in 20 s; stay 1 min'.",
)
@click.option("--drive", metavar="FOLDER", help="The folder that is the drive of a kiefer.")
@click.option(
    "--wire",
    "wires",
    multiple=True,
    metavar="'FROM, TO, …'",
    help="Wire an output to an input: 'weide A1, fichte-8 7, 250 Ω'.",
)
@click.option(
    "--operate",
    is_flag=True,
    help="Take lines such as 'key 1', 'air_top: 60' or 'open 2' from the keyboard.",
)
@click.option(
    "--lot", default=0, metavar="N", type=click.IntRange(0, 100_000),
    help="So many boards, one after the other: insert, remove, touch N.",
)  # fmt: skip
@click.option("--faulty", default=5.0, metavar="%", help="Share of boards of a lot with a fault.")
@click.option("--seed", default=1, metavar="N", help="Another lot.")
@click.option("--with-parent", is_flag=True, help="End when standard input is closed.")
def main(
    models: tuple[str, ...], datasheets: tuple[str, ...], values: tuple[str, ...], **more: Any
) -> None:
    """Run simulated devices until Ctrl+C: one of each of MODELS, each on its own port.

    They listen on ports of the loopback address or on pseudo-terminals, and print their addresses,
    with their passwords. Copies of a probe share one bus. With --datasheet, a datasheet of your own
    becomes a device in factory condition, to try a setup before it goes to the field.
    """
    options = _Options(**more)
    if not models and not datasheets:
        raise click.UsageError("name a model, or a datasheet with --datasheet")

    servers: list[Coroutine[Any, Any, None]] = []
    shared: list[Firmware] = []
    wired: list[Firmware] = []
    operated: list[Operated] = []
    try:
        units = _units(models, datasheets, values)
        servers += [
            s for unit in units for s in _servers_of(*unit, options, shared, operated, wired)
        ]
        servers += [_serve_rtu(shared, options)] if shared else []
        for text in options.wires:
            lay(parse_wire(text), wired)
    except (LeitwerkError, ValueError) as error:
        _give_up(str(error))
    _run(servers, options, operated)


def _servers_of(
    profile: Profile,
    sheet: Datasheet,
    options: _Options,
    shared: list[Firmware],
    operated: list[Operated],
    wired: list[Firmware],
) -> list[Coroutine[Any, Any, None]]:
    """What runs a device; ``shared`` takes those on one serial line, ``operated`` what can be operated,
    ``wired`` what wires can lead from and to.
    """
    profile = replace(
        profile,
        serial=options.serial or profile.serial,
        model=options.as_model or profile.model,
        unit=options.unit or profile.unit,
    )
    if profile.kind == "station":
        return [_run_station(sheet, profile, options)]
    if profile.kind == "climate":
        return [_serve_drive(sheet, profile, options)]
    if profile.kind == "probe":
        return [_serve_probes(sheet, profile, options)]
    if options.numbered:
        return _serve_numbered(sheet, profile, options)
    device = _make(profile, sheet, options)
    if isinstance(device, LineDevice):
        operated += [device.front] if isinstance(device, Indicator) else []
        operated += [device] if isinstance(device, Receiver) else []
        return [_serve_lines(device, options) for _ in range(options.copies)]
    operated += [device] if isinstance(device, Logger | Fixture) else []
    wired.append(device)
    if options.bus:
        shared.append(device)
        return []
    if options.rtu:
        return [_serve_rtu([device], options)]
    # Copies share everything but their port: what is asked of them is their number.
    return [_serve_tcp(device, options.faults, options.port) for _ in range(options.copies)]


def _units(
    models: tuple[str, ...], datasheets: tuple[str, ...], values: tuple[str, ...]
) -> list[tuple[Profile, Datasheet]]:
    """The devices to run: shipped ones, and those of datasheets with what their readings show."""
    profiles = [find_profile(model) for model in models]
    units = [(profile, find_datasheet(profile.model)) for profile in profiles]
    shown = {n.strip(): v.strip() for n, _, v in (text.partition("=") for text in values)}
    own = map(read_datasheet, datasheets)
    return [*units, *((profile_of(sheet, shown), sheet) for sheet in own)]


def _run(
    servers: list[Coroutine[Any, Any, None]], options: _Options, operated: list[Operated]
) -> None:
    async def run() -> None:
        every = asyncio.gather(*servers)
        if options.with_parent or options.operate:
            loop = asyncio.get_running_loop()
            end = every if options.with_parent else None
            threading.Thread(target=_read_input, args=(loop, end, operated), daemon=True).start()
        with contextlib.suppress(asyncio.CancelledError):
            await every

    try:
        asyncio.run(run())
    except KeyboardInterrupt:
        click.echo("stopped")
    except LeitwerkError as error:
        _give_up(str(error))
    except (OSError, RuntimeError) as error:
        _give_up(f"cannot listen on port {options.port}: {error}")


# ---------------------------------------------------------------------- one server each


def _serve_tcp(device: Firmware, faults: Faults, port: int) -> Coroutine[Any, Any, None]:
    def ready(where: int) -> None:
        _announce(device.profile, LinkAddress("modbus+tcp", _HOST, where, device.announced_unit))

    return serve_tcp(device, host=_HOST, port=port, faults=faults, ready=ready)


def _serve_rtu(devices: list[Firmware], options: _Options) -> Coroutine[Any, Any, None]:
    def ready(path: str) -> None:
        for device in devices:
            _announce(device.profile, _serial("modbus+rtu", device.announced_unit, path, RTU_LINE))

    return serve_rtu(devices, faults=options.faults, ready=ready)


def _serve_lines(device: LineDevice, options: _Options) -> Coroutine[Any, Any, None]:
    protocol = device.datasheet.link

    def ready(address: LinkAddress) -> None:
        _announce(device.profile, address)
        if isinstance(device, Indicator):
            _TALKING.add(asyncio.get_running_loop().create_task(_serve_talking(device)))

    if options.rtu:
        return serve_lines_serial(
            device,
            faults=options.faults,
            ready=lambda path: ready(_serial(f"{protocol}+serial", "", path, TEXT_LINE)),
        )
    return serve_lines_tcp(
        device,
        host=_HOST,
        port=options.port,
        faults=options.faults,
        ready=lambda where: ready(LinkAddress(f"{protocol}+tcp", _HOST, where)),
    )


_TALKING: set[asyncio.Task[None]] = set()  # a task that nothing holds may be collected


def _serve_talking(device: Indicator) -> Coroutine[Any, Any, None]:
    """The port at which an indicator talks, beside the one that programs it."""

    def ready(path: str) -> None:
        line = replace(TEXT_LINE, baud=int(float(device.settings["talk.baud"])))
        where = _serial("text+serial", "", path, line)
        click.echo(f"{device.profile.model} {device.profile.serial} talks at {where}")
        sys.stdout.flush()

    return serve_talking(device.talking, lambda: float(device.settings["talk.baud"]), ready=ready)


def _serve_numbered(
    sheet: Datasheet, profile: Profile, options: _Options
) -> list[Coroutine[Any, Any, None]]:
    """Copies that are devices of their own; a share of them hangs up at requests that vary."""
    chance = random.Random(_SEED)  # noqa: S311 - repeatable, and no secret
    bad = set(chance.sample(range(options.copies), round(options.drop_share * options.copies)))
    head = profile.serial.rstrip("0123456789")
    first, width = int(profile.serial[len(head) :]), len(profile.serial) - len(head)
    servers = []
    for k in range(options.copies):
        own = replace(profile, serial=f"{head}{first + k:0{width}d}")
        every = chance.randint(*_DROPS) if k in bad else options.drop_every
        device = _make(own, sheet, options)
        assert isinstance(device, Firmware)
        servers.append(_serve_tcp(device, replace(options.faults, drop_every=every), 0))
    return servers


def _serve_drive(
    sheet: Datasheet, profile: Profile, options: _Options
) -> Coroutine[Any, Any, None]:
    folder = Path(options.drive or tempfile.mkdtemp(prefix="leitwerk-kiefer-"))
    folder.mkdir(parents=True, exist_ok=True)
    device = ClimateLogger(
        sheet, profile, folder.resolve(), time.monotonic, factor=options.time_factor,
        device_clock=DeviceClock(ahead_s=options.clock_ahead, wall=utc_wall), troubles=options.troubles,
    )  # fmt: skip

    def ready(where: Path) -> None:
        _announce(profile, LinkAddress("drive", "", 0, folder=str(where)))

    return serve_drive(device, ready)


def _serve_probes(
    sheet: Datasheet, profile: Profile, options: _Options
) -> Coroutine[Any, Any, None]:
    first, width = UNITS.index(profile.unit), len(profile.serial)
    probes = [
        Probe(
            sheet,
            replace(profile, serial=f"{int(profile.serial) + k:0{width}d}"),
            UNITS[first + k],
            broken=bool(options.disturbances.open),
            spot=k,
        )
        for k in range(options.copies)
    ]

    def ready(path: str) -> None:
        for probe in probes:
            _announce(probe.profile, _serial("sdi12+serial", probe.unit, path, SDI12_LINE))

    return serve_sdi12(probes, faults=options.faults, ready=ready)


def _run_station(
    sheet: Datasheet, profile: Profile, options: _Options
) -> Coroutine[Any, Any, None]:
    where = None
    if options.broker is not None:
        host, _, port = options.broker.rpartition(":")
        where = (host or _HOST, int(port))
    return run_station(
        Station(sheet, profile, options.troubles, sensor_missing=bool(options.disturbances.open)),
        broker=where,
        time_factor=options.time_factor,
        ready=lambda host, port: _announce(profile, LinkAddress("mqtt+tcp", host, port)),
    )


def _serial(scheme: str, unit: BusAddress, path: str, line: SerialLine) -> LinkAddress:
    return LinkAddress(scheme, "", 0, unit, path, line)


def _announce(profile: Profile, address: LinkAddress) -> None:
    passwords = ", ".join(f"{role}: {password}" for role, password in profile.passwords.items())
    rights = f" (password of {passwords})" if passwords else ""
    click.echo(f"{profile.model} {profile.serial} listens at {address}{rights}")
    sys.stdout.flush()


def _make(profile: Profile, datasheet: Datasheet, options: _Options) -> Firmware | LineDevice:
    """The simulated device of a profile's kind."""
    troubles = options.troubles
    clock = DeviceClock(ahead_s=options.clock_ahead)
    lines: dict[str, Callable[..., LineDevice]] = {
        "meter": Meter,
        "indicator": Indicator,
        "receiver": Receiver,
    }
    if profile.kind in lines:
        own = {} if profile.kind == "indicator" else {"factor": options.time_factor}
        return lines[profile.kind](datasheet, profile, clock=clock, troubles=troubles, **own)
    if BUS_UNIT.name in profile.factory:
        profile = replace(profile, factory={**profile.factory, BUS_UNIT.name: profile.unit})
    more: dict[str, Any] = {"device_clock": clock, "troubles": troubles}
    if profile.kind == "datasheet":
        return make(datasheet, profile, time.monotonic, **more)
    missing = bool(options.disturbances.open)
    courses = dict(parse_spot(text, (*SPOTS, BATTERY_SPOT)) for text in options.courses)
    if profile.kind == "charger":
        course = courses.get(BATTERY_SPOT)
        return Charger(
            datasheet, profile, time.monotonic, sensor_missing=missing, course=course, **more
        )
    if profile.kind == "carriers":
        return LevelMeter(datasheet, profile, time.monotonic, **more)
    if profile.kind == "power":
        wires = Wires([parse_act(text) for text in options.miswired])
        more["factor"] = options.time_factor
        return PowerAnalyzer(datasheet, profile, time.monotonic, wires=wires, **more)
    if profile.kind == "flow":
        return FlowTransmitter(datasheet, profile, time.monotonic, sensor_missing=missing, **more)
    if profile.kind == "panel":
        boards = make_lot(options.lot, options.seed, faulty=options.faulty / 100.0)
        panel = (
            Fixture(boards, datasheet, profile, time.monotonic, **more)
            if boards
            else Panel(datasheet, profile, time.monotonic, **more)
        )
        if options.program is not None:
            text = read_bytes(options.program).decode("ascii", "replace")
            panel.burn(parse_program(from_hex(text), datasheet))
        return panel
    return _make_logger(profile, datasheet, options, courses, more)


def _make_logger(
    profile: Profile,
    datasheet: Datasheet,
    options: _Options,
    courses: dict[str, Course],
    more: dict[str, Any],
) -> Logger:
    """A logger in its plant, with the recordings that it is to have."""
    plant = Plant(factor=options.time_factor, courses=courses, begins_s=time.monotonic())
    logger = Logger(datasheet, profile, plant, time.monotonic, options.disturbances, **more)
    for k in range(options.recordings):
        logger.record(_ROWS, options.recordings - k)
        logger.recording_since_s = None
    if options.recording:
        logger.record()
    return logger


def _give_up(reason: str) -> NoReturn:
    # On standard output, where the parent process waits for its first line.
    click.echo(" ".join(reason.split()))
    sys.exit(2)


def _read_input(
    loop: asyncio.AbstractEventLoop, end: asyncio.Future[Any] | None, operated: list[Operated]
) -> None:
    """Lines that operate the devices; at the end of the input, their end if ``end`` is given."""
    for line in sys.stdin:
        for one in operated:
            click.echo(one.operate(line))
            sys.stdout.flush()
    if end is not None:
        loop.call_soon_threadsafe(end.cancel)


if __name__ == "__main__":
    main(prog_name="leitwerk standin")
