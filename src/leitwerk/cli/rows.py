"""leitwerk rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import JSON, link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("setup")
@click.argument("table")
@click.option("--to", "to", metavar="FILE", help="Write the rows into a file, .csv or .xlsx.")
@JSON
@link_options(2.0)
def rows(setup: str, table: str, *, to: str | None, as_json: bool, link: LinkOptions) -> int:
    """Read a TABLE that the device of SETUP stores: the rows that are in use.

    The file can be edited, and named in a setup: records: {TABLE: {file: FILE}}.

    Exit code 0: read. 1: the setup has errors. 2: usage. 3: device not reached. 4: it refused.
    """
    from leitwerk.check.records import rows_in
    from leitwerk.cli.printing import echo_json, print_columns
    from leitwerk.devices.device import connect
    from leitwerk.project.rows_file import write_rows
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    with connect(checked, link=link) as device:
        columns, found = rows_in(table, device.datasheet, device.read_settings())
    if to is not None:
        write_rows(Path(to), columns, found)
    if as_json:
        echo_json([dict(zip(columns, row, strict=True)) for row in found])
    elif to is None:
        print_columns(tuple(columns), [tuple(row) for row in found])
    else:
        click.echo(f"{to}: {len(found)} row{'s' * (len(found) != 1)}")
    return FINE
