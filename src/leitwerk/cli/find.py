"""leitwerk ports and leitwerk find."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import timeout_option

if TYPE_CHECKING:
    from leitwerk.parsing.address import BusAddress, LinkAddress


@click.command()
@click.option("--json", "as_json", is_flag=True, help="Print the ports as JSON.")
def ports(*, as_json: bool) -> int:
    """List the serial ports of this machine: which devices were seen there, what keeps them busy."""
    from leitwerk.cli.printing import echo_json
    from leitwerk.devices.scan import list_serial_ports
    from leitwerk.project.inventory import Inventory

    every, known = list_serial_ports(), Inventory.nearest().devices()
    seen = {p.path: [d.name for d in known if d.address.serial_port == p.path] for p in every}
    if as_json:
        echo_json([{**port.to_dict(), "devices": seen[port.path]} for port in every])
        return FINE
    for port in every:
        state = f"{port.trouble}: {port.remedy}" if port.trouble else "free"
        click.echo(f"{port.path:20} {port.description:40} {state}")
        if seen[port.path]:
            click.echo(f"{'':20} seen there: {', '.join(seen[port.path])}")
    if not every:
        click.echo("no serial ports; is the converter plugged in?")
    return FINE


@click.command()
@click.argument("address")
@click.option("--units", default=None, help="Units to ask, such as 1..20; all, on a serial line.")
@click.option("--hosts", default=None, help="Last numbers of the hosts to ask, such as 1..254.")
@click.option(
    "--lines", is_flag=True, help="On a serial port, try the usual line settings in turn."
)
@click.option("--remember", is_flag=True, help="Keep the devices found in the inventory.")
@timeout_option(0.2)
@click.option("--json", "as_json", is_flag=True, help="Print what was found as JSON.")
def find(
    address: str,
    *,
    units: str | None,
    hosts: str | None,
    lines: bool,
    remember: bool,
    timeout: float,
    as_json: bool,
) -> int:
    """Find the devices behind ADDRESS. Reads only; Ctrl+C ends it without harm.

    Exit code 0: a device was found. 1: none. 2: usage. 3: the address is not reached.
    """
    from leitwerk.cli.devices import remember as note
    from leitwerk.cli.printing import echo_json
    from leitwerk.cli.progress import StepView
    from leitwerk.devices.scan import USUAL_LINES, expand_addresses, scan_lines
    from leitwerk.parsing.address import parse_where
    from leitwerk.project.inventory import resolve_address
    from leitwerk.project.library import find_datasheet, known_models

    base = resolve_address(parse_where(address))
    asked = _units(units, base)
    every = expand_addresses(base, asked, _numbers(hosts, 0, 255) if hosts else ())
    sheets = [find_datasheet(model) for model in known_models()]
    on_lines = list(USUAL_LINES) if lines and base.is_serial else [base.line]
    with StepView() as steps:
        seen = scan_lines(
            every, on_lines, sheets, timeout_s=timeout,
            progress=lambda line, done, total: steps.show(
                f"ask at {line}" if base.is_serial else "ask", done, total
            ),
            on_found=lambda device: None if as_json else steps.say(str(device)),
        )  # fmt: skip
    which = f" (units {asked[0]}..{asked[-1]})" if len(asked) > 1 else ""
    click.echo(seen.summary() + which, err=True)
    twice = {device.address for pair in seen.duplicates() for device in pair}
    for device in seen.found:
        if remember and device.address not in twice and device.identity is not None:
            note(device.identity, device.address)
    if as_json:
        echo_json([device.to_dict() for device in seen.found])
    return FINE if seen.found else FOUND


def _units(text: str | None, base: LinkAddress) -> Sequence[BusAddress]:
    """The units to ask; on a serial line all that there can be, elsewhere the one of the address."""
    from leitwerk.errors import QuantityError
    from leitwerk.links.kinds import find_kind

    every = list(find_kind(base.protocol).units)
    if text is None:
        return every if base.is_serial else ()
    names = [str(unit) for unit in every]
    low, _, high = text.replace(" ", "").partition("..")
    high = high or low
    if low in names and high in names and names.index(low) <= names.index(high):
        return every[names.index(low) : names.index(high) + 1]
    valid = f"{names[0]}..{names[-1]}, or one of them" if names else "no --units"
    raise QuantityError(f"{text!r} are not units behind {base}", valid=valid)


def _numbers(text: str, least: int, most: int) -> range:
    from leitwerk.errors import QuantityError

    low, _, high = text.replace(" ", "").partition("..")
    high = high or low
    if not (low.isdecimal() and high.isdecimal() and least <= int(low) <= int(high) <= most):
        raise QuantityError(f"{text!r} is no such span", valid=f"{least}..{most}, or one of them")
    return range(int(low), int(high) + 1)
