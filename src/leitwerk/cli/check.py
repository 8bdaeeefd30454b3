"""leitwerk check."""

from __future__ import annotations

import click

from leitwerk.cli.exit_codes import FINE, FOUND, reports_errors


@click.command()
@click.argument("setup")
@click.option("--json", "as_json", is_flag=True, help="Print the findings as JSON.")
@click.option("--datasheet", metavar="FILE", help="Use this datasheet instead of the shipped one.")
@reports_errors
def check(setup: str, *, as_json: bool, datasheet: str | None) -> int:
    """Find the mistakes in SETUP before they reach a device.

    Exit code 0: no errors. 1: errors. 2: the file cannot be read.
    """
    from leitwerk.cli.printing import console, counts_text, echo_json, print_findings
    from leitwerk.project.library import read_datasheet
    from leitwerk.project.setups import check_file

    result = check_file(setup, datasheet=read_datasheet(datasheet) if datasheet else None)
    if as_json:
        echo_json(result.to_dict())
        return FINE if result.ok else FOUND
    out = console()
    print_findings(result.findings, out)
    if result.ok:
        out.print(f"{setup}: can be uploaded ({counts_text(result.findings)})")
        return FINE
    out.print(f"{setup}: cannot be uploaded like this ({counts_text(result.findings)})")
    return FOUND
