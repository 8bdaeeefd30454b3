"""The stand-in as a program: ``python -m leitwerk.standins fichte-8``."""

from __future__ import annotations

import asyncio
import contextlib
import sys
import threading
import time
from collections.abc import Coroutine
from dataclasses import replace
from typing import Any, NoReturn

import click

from leitwerk.address import LinkAddress, parse_address
from leitwerk.datasheet import Datasheet
from leitwerk.errors import LeitwerkError
from leitwerk.project import find_datasheet
from leitwerk.standins.charger import Charger
from leitwerk.standins.firmware import Firmware, Profile
from leitwerk.standins.logger import Disturbances, Logger
from leitwerk.standins.meter import Meter, serve_lines
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile
from leitwerk.standins.server import Faults, Serial, serve_rtu, serve_tcp


@click.command()
@click.argument("model")
@click.option(
    "--port",
    default=0,
    type=click.IntRange(0, 65535),
    show_default="a free one",
    help="TCP port to listen on.",
)
@click.option("--copies", default=1, type=click.IntRange(1, 1000), help="So many, each on a port.")
@click.option("--rtu", is_flag=True, help="On a serial line (a pseudo-terminal) instead of TCP.")
@click.option("--unit", default=3, show_default=True, help="Unit identifier to answer to.")
@click.option("--serial", default=None, help="Another serial number than the profile's.")
@click.option("--as-model", default=None, help="Say it is another model.")
@click.option("--open", "open_", multiple=True, metavar="T", help="Terminal with a broken wire.")
@click.option("--short", multiple=True, metavar="T", help="Terminal with a short circuit.")
@click.option("--reverse", multiple=True, metavar="T", help="Terminal with reversed polarity.")
@click.option("--recordings", default=0, help="Recordings in memory that nobody has fetched.")
@click.option("--recording", is_flag=True, help="It is recording when it starts.")
@click.option(
    "--silent-after-writes",
    default=None,
    type=int,
    metavar="N",
    help="Answer nothing more after N write requests.",
)
@click.option(
    "--silent-after-requests",
    default=None,
    type=int,
    metavar="N",
    help="Answer nothing more after N requests of any kind.",
)
@click.option("--slow", default=0.0, metavar="S", help="Take so long for each answer.")
@click.option("--corrupt-every", default=0, metavar="N", help="Spoil every Nth answer (RTU).")
@click.option("--time-factor", default=1.0, help="The plant's time runs so many times faster.")
@click.option("--with-parent", is_flag=True, help="End when standard input is closed.")
def main(  # noqa: C901 - one option after the other
    model: str,
    *,
    port: int,
    copies: int,
    rtu: bool,
    unit: int,
    serial: str | None,
    as_model: str | None,
    open_: tuple[str, ...],
    short: tuple[str, ...],
    reverse: tuple[str, ...],
    recordings: int,
    recording: bool,
    silent_after_writes: int | None,
    silent_after_requests: int | None,
    slow: float,
    corrupt_every: int,
    time_factor: float,
    with_parent: bool,
) -> None:
    """Run a simulated device on a port of the loopback address, until Ctrl+C."""
    try:
        profile = find_profile(model)
        datasheet = find_datasheet(model)
    except LeitwerkError as error:
        _give_up(str(error))
    profile = replace(profile, serial=serial or profile.serial, model=as_model or profile.model)
    wrong = Disturbances(open=set(open_), shorted=set(short), reversed=set(reverse))
    device = _make(profile, datasheet, wrong, time_factor)
    if isinstance(device, Logger):
        device.recordings = [[] for _ in range(recordings)]
        device.recording_since_s = time.monotonic() if recording else None
    faults = Faults(silent_after_writes, silent_after_requests, slow, corrupt_every)

    def ready(where: int | Serial) -> None:
        if isinstance(where, Serial):
            address = LinkAddress("modbus+rtu", "", 0, unit, where.path, where.line)
        else:
            address = parse_address(f"{datasheet.link}+tcp://127.0.0.1:{where}")
            address = replace(address, unit=unit if datasheet.link == "modbus" else "")
        click.echo(f"{profile.model} {profile.serial} listens at {address}")
        sys.stdout.flush()

    def serve() -> Coroutine[Any, Any, None]:
        host = "127.0.0.1"
        if isinstance(device, Meter):
            return serve_lines(device, host=host, port=port, faults=faults, ready=ready)
        if rtu:
            return serve_rtu(device, unit=unit, faults=faults, ready=ready)
        return serve_tcp(device, host=host, port=port, unit=unit, faults=faults, ready=ready)

    async def run() -> None:
        # Copies share everything but their port: what is asked of them is how many there are.
        server = asyncio.gather(*(serve() for _ in range(copies)))
        if with_parent:
            loop = asyncio.get_running_loop()
            threading.Thread(target=_wait_for_parent, args=(loop, server), daemon=True).start()
        with contextlib.suppress(asyncio.CancelledError):
            await server

    try:
        asyncio.run(run())
    except KeyboardInterrupt:
        click.echo("stopped")
    except (OSError, RuntimeError) as error:
        _give_up(f"cannot listen on port {port}: {error}")


def _make(
    profile: Profile, datasheet: Datasheet, wrong: Disturbances, time_factor: float
) -> Firmware | Meter:
    """The simulated device of a profile's kind."""
    if profile.kind == "meter":
        return Meter(datasheet, profile)
    if profile.kind == "charger":
        return Charger(datasheet, profile, time.monotonic, sensor_missing=bool(wrong.open))
    return Logger(datasheet, profile, Plant(factor=time_factor), time.monotonic, wrong)


def _give_up(reason: str) -> NoReturn:
    # On standard output, where whoever started this process waits for its first line.
    click.echo(" ".join(reason.split()))
    sys.exit(1)


def _wait_for_parent(loop: asyncio.AbstractEventLoop, server: asyncio.Future[Any]) -> None:
    sys.stdin.read()
    loop.call_soon_threadsafe(server.cancel)


if __name__ == "__main__":
    main(prog_name="leitwerk standin")
