"""leitwerk ports and leitwerk find."""

from __future__ import annotations

import click

from leitwerk.cli.outcome import FINE, FOUND, reports_errors, timeout_option


@click.command()
@click.option("--json", "as_json", is_flag=True, help="Print the ports as JSON.")
@reports_errors
def ports(*, as_json: bool) -> int:
    """List the serial ports of this machine, and what keeps them from being used."""
    from leitwerk.cli.show import echo_json
    from leitwerk.links.scan import list_serial_ports

    every = list_serial_ports()
    if as_json:
        echo_json([port.to_dict() for port in every])
        return FINE
    for port in every:
        state = f"{port.trouble}: {port.remedy}" if port.trouble else "free"
        click.echo(f"{port.path:20} {port.description:40} {state}")
    if not every:
        click.echo("no serial ports; is the converter plugged in?")
    return FINE


@click.command()
@click.argument("address")
@click.option("--units", default="1..247", show_default=True, help="Unit identifiers to ask.")
@click.option(
    "--lines", is_flag=True, help="On a serial port, try the usual line settings in turn."
)
@timeout_option(0.2)
@click.option("--json", "as_json", is_flag=True, help="Print what was found as JSON.")
@reports_errors
def find(address: str, *, units: str, lines: bool, timeout: float, as_json: bool) -> int:
    """Ask every unit behind ADDRESS who is there. Reads only; Ctrl+C ends it without harm.

    Exit code 0: somebody was found. 1: nobody. 2: usage. 3: the address is not reached.
    """
    from leitwerk.address import parse_address
    from leitwerk.cli.show import echo_json
    from leitwerk.cli.steps import StepView
    from leitwerk.errors import QuantityError
    from leitwerk.links.scan import USUAL_LINES, scan_lines
    from leitwerk.project import find_datasheet, known_models

    base, asked = parse_address(address), _units(units)
    if base.protocol != "modbus":
        raise QuantityError(f"{base} has no units to ask", valid="an address of Modbus")
    every = [find_datasheet(model) for model in known_models()]
    sheets = [sheet for sheet in every if sheet.link == base.protocol]
    on_lines = list(USUAL_LINES) if lines and base.is_serial else [base.line]
    with StepView() as steps:
        scan = scan_lines(
            base, on_lines, asked, sheets, timeout_s=timeout,
            progress=lambda line, done, total: steps.show(
                f"ask the units at {line}" if base.is_serial else "ask the units", done, total
            ),
            on_found=lambda device: None if as_json else click.echo(str(device)),
        )  # fmt: skip
    click.echo(scan.summary(), err=True)
    if as_json:
        echo_json([device.to_dict() for device in scan.found])
    return FINE if scan.found else FOUND


def _units(text: str) -> range:
    from leitwerk.errors import QuantityError

    low, _, high = text.replace(" ", "").partition("..")
    high = high or low
    if not (low.isdecimal() and high.isdecimal() and 1 <= int(low) <= int(high) <= 247):
        raise QuantityError(f"{text!r} are no unit identifiers", valid="1..247, or one of them")
    return range(int(low), int(high) + 1)
