"""leitwerk loop, leitwerk pulse and leitwerk release."""

from __future__ import annotations

from contextlib import ExitStack
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, result_code
from leitwerk.cli.options import (
    DURATION,
    JSON,
    MODEL,
    FiniteNumber,
    for_option,
    kept_folder,
    link_options,
)

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.check.outputs import CheckedOutput
    from leitwerk.links.options import LinkOptions

_ARM = click.option(
    "--arm",
    is_flag=True,
    help="Switch the output. Without it, only report what would be done.",
)


def _output(setup: CheckedSetup, name: str) -> CheckedOutput:
    from leitwerk.errors import QuantityError

    known = {output.name: output for output in setup.outputs}
    if name not in known:
        valid = ", ".join(known) or "none; this setup has no outputs"
        raise QuantityError(f"this setup has no output {name[:40]!r}", valid=valid)
    return known[name]


@click.command()
@click.argument("setup")
@click.argument("output")
@click.option("--measured", metavar="A,B,…", help="What was measured at each step, in order.")
@click.option(
    "--through",
    nargs=2,
    metavar="SETUP CHANNEL",
    help="Read the other end through a device's channel.",
)
@click.option(
    "--within",
    "tolerance",
    type=FiniteNumber(0.0, 100.0, min_open=True),
    metavar="X",
    help="Largest allowed error, in mA or V (default: 0.5 % of the span).",
)
@click.option(
    "--settle",
    "settle_s",
    default="1 s",
    type=DURATION,
    metavar="TIME",
    show_default=True,
    help="How long the loop takes to settle.",
)
@_ARM
@JSON
@link_options(2.0)
def loop(
    setup: str,
    output: str,
    *,
    measured: str | None,
    through: tuple[str, str] | None,
    tolerance: float | None,
    settle_s: float,
    arm: bool,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Drive the analog OUTPUT of SETUP to 4, 8, 12, 16 and 20 mA and compare with the other end.

    What was measured there is typed in when asked for, given with --measured, or read through
    another device. Where that device makes a value of the signal, the values of both ends are compared,
    too. The output goes back to its channel at the end.

    Exit code 0: passed. 1: not passed. 2: usage. 3: device not reached. 4: refused.
    """
    from leitwerk.check.outputs import AnalogOutput
    from leitwerk.cli.devices import warn_of_driven
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.cli.printing import print_result
    from leitwerk.cli.proof_answers import ask_measured, reference_channel
    from leitwerk.commissioning.loop_check import check_loop, parse_measured
    from leitwerk.devices.device import connect
    from leitwerk.errors import QuantityError
    from leitwerk.parsing.units import parse_unit
    from leitwerk.project.setups import read_setup

    wanted = read_setup(setup)
    found, named = _output(wanted, output), wanted.setup.device
    if not isinstance(found, AnalogOutput):
        raise QuantityError(f"output {output} is a relay", valid="an analog output")
    if not arm:
        click.echo(
            f"not driven: {output} would go through its whole signal; --arm does it", err=True
        )
        return FINE
    with ExitStack() as stack:
        unit = parse_unit(found.loop.unit)
        if measured is not None:
            measure = parse_measured(measured, unit)
        elif through is not None:
            other = stack.enter_context(reference_channel(*through, link))
            measure = lambda asked: other.received(found.loop)  # noqa: E731
        else:
            measure = ask_measured(unit)
        device = stack.enter_context(connect(wanted, link=link))
        warn_of_driven(device.require(named.model, named.serial), device.address)
        result = check_loop(
            found,
            device,
            measure,
            passwords=passwords_of(named.model, named.serial),
            wanted=wanted.settings,
            tolerance=tolerance,
            settle_s=settle_s,
            on_interrupt=lambda so_far: print_result(so_far, as_json=as_json),
        )
        note_visit(device, kept_folder(setup, None), f"loop {output}")
    print_result(result, as_json=as_json)
    return result_code(result)


@click.command()
@click.argument("setup")
@click.argument("output")
@for_option("How long to keep it on.", "1 s")
@_ARM
@link_options(2.0)
def pulse(setup: str, output: str, *, duration_s: float, arm: bool, link: LinkOptions) -> int:
    """Switch the relay OUTPUT of SETUP on for a moment, to see and hear that it works.

    Exit code 0: done. 1: the setup has errors. 2: usage. 3: device not reached. 4: it did not switch.
    """
    from leitwerk.cli.devices import warn_of_driven
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.commissioning.loop_check import pulse as switch
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    wanted = read_setup(setup)
    found, named = _output(wanted, output), wanted.setup.device
    if not arm:
        click.echo(
            f"not switched: {output} would be on for {duration_s:g} s; --arm does it", err=True
        )
        return FINE
    passwords = passwords_of(named.model, named.serial)
    with connect(wanted, link=link) as device:
        warn_of_driven(device.require(named.model, named.serial), device.address)
        during, after = switch(found, device, duration_s, passwords=passwords)
        note_visit(device, kept_folder(setup, None), f"pulse {output}")
    click.echo(f"{output}: was {during} for {duration_s:g} s, is {after} again")
    return FINE


@click.command()
@click.argument("where")
@MODEL
@link_options(2.0)
def release(where: str, *, model: str | None, link: LinkOptions) -> int:
    """Release the outputs of the device at WHERE that a killed program left driven.

    WHERE is its setup file, an address, or a name of the inventory.

    Exit code 0: released, or none was left. 1: the setup has errors. 2: usage. 3: device not reached.
    4: it refused.
    """
    from leitwerk.cli.devices import open_where
    from leitwerk.cli.password import passwords_of
    from leitwerk.devices.driving import release_left

    with open_where(where, model, link) as device:
        identity = device.identify()
        names = release_left(device, passwords_of(identity.model, identity.serial))
    for name in names:
        click.echo(f"output {name} released")
    if not names:
        click.echo("no output of this device was left driven from this computer")
    return FINE
