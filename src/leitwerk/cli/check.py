"""leitwerk check."""

from __future__ import annotations

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON


@click.command()
@click.argument("setup")
@click.option("--datasheet", metavar="FILE", help="Use this datasheet instead of the shipped one.")
@click.option("--account", is_flag=True, help="Show where each entry of the setup ends.")
@JSON
def check(setup: str, *, as_json: bool, datasheet: str | None, account: bool) -> int:
    """Find the mistakes in SETUP before they reach a device.

    Afterwards it says where the entries of the setup end: stored in the device, worked by Leitwerk
    (and when), for people only, or refused.

    Exit code 0: no errors. 1: errors. 2: the file cannot be read.
    """
    from leitwerk.cli.printing import counts_text, echo_json, print_findings, print_rows
    from leitwerk.project.library import read_datasheet
    from leitwerk.project.setups import check_file

    result = check_file(setup, datasheet=read_datasheet(datasheet) if datasheet else None)
    if as_json:
        echo_json(result.to_dict())
        return FINE if result.ok else FOUND
    print_findings(result.findings)
    if result.checked is not None:
        if account:
            for entry in result.checked.account.entries:
                click.echo(f"  {entry}")
        print_rows([("account:", line) for line in result.checked.account.lines()])
    can = "can be uploaded" if result.ok else "cannot be uploaded like this"
    click.echo(f"{setup}: {can} ({counts_text(result.findings)})")
    return FINE if result.ok else FOUND
