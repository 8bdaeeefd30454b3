"""leitwerk to-table and from-table: parts of a setup as tables, and back."""

from __future__ import annotations

from pathlib import Path

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import JSON, Pair
from leitwerk.cli.settle import WRITE, settle


@click.command("to-table")
@click.argument("setup")
@click.argument("table")
@click.option("--of", "parts", multiple=True, metavar="PART",
              help="channels, alarms or contacts; more of them with further --of.")  # fmt: skip
def to_table(setup: str, table: str, *, parts: tuple[str, ...]) -> int:
    """Write the lists of SETUP as TABLE: .xlsx with a sheet for each, or one of them as .csv.

    These are channels, alarms, contacts, and tables that the device stores. With '--of batch', it is a table
    of devices for 'leitwerk batch', which begins with that of the setup.

    Exit code 0: written. 1: the setup cannot be read. 2: usage.
    """
    from leitwerk.project.setup_tables import write_setup_tables

    if Path(table).suffix.lower() == ".csv" and not parts:
        parts = ("channels",)
    written = write_setup_tables(setup, table, parts)
    click.echo(f"{table}: {', '.join(written)} of {setup}", err=True)
    return FINE


@click.command("from-table")
@click.argument("table")
@click.argument("setup")
@click.option("--column", "columns", type=Pair(), multiple=True, metavar="NAME=KEY",
              help="What a column of yours stands for, '-' for nothing; kept in columns.yaml.")  # fmt: skip
@click.option("--of", "part", default="", metavar="PART",
              help="What the table holds, where that does not show: channels, records.NAME, …")  # fmt: skip
@click.option(
    "--decimal",
    type=click.Choice(["comma", "point"]),
    help="What marks decimals; else it is found.",
)
@click.option(
    "--complete", is_flag=True, help="What the table does not have is removed from the setup."
)
@WRITE
@JSON
def from_table(
    table: str,
    setup: str,
    *,
    columns: tuple[tuple[str, str], ...],
    part: str,
    decimal: str | None,
    complete: bool,
    write: bool,
    as_json: bool,
) -> int:
    """Take channels, alarms, contacts and stored tables of TABLE, .csv or .xlsx, into SETUP.

    Units stand in the headings, as in 'expect [°C]', or in the cells. Mistakes are named with sheet and cell.
    Comments and order of the setup stay; a table that says the same as the setup changes nothing in it.

    Exit code 0: written, or nothing to do. 1: shown only, or there are errors. 2: usage.
    """
    from leitwerk.cli.printing import echo_json, print_findings, print_line
    from leitwerk.project.files import write_atomic
    from leitwerk.project.setup_tables import (
        COLUMNS_FILE,
        TableOptions,
        column_names,
        import_tables,
    )

    folder = Path(setup).parent
    names, kept = column_names(folder, columns)
    done = import_tables(table, setup, TableOptions(decimal, part, names, complete))
    if kept is not None:
        write_atomic(folder / COLUMNS_FILE, kept)
        click.echo(f"{folder / COLUMNS_FILE}: the names of the columns are kept", err=True)
    if as_json:
        echo_json(
            {"changes": list(done.lines), "findings": [f.to_dict() for f in done.findings],
             "understood": list(done.found)}
        )  # fmt: skip
    else:
        for said in done.found:
            click.echo(f"{table}: {said}", err=True)
        for line in done.lines:
            print_line(f"  {line}", 4)
        print_findings(done.findings)
    if done.ok and not done.is_new:
        click.echo(f"{setup}: as the table has it, nothing to do", err=True)
        return FINE
    count = len(done.lines)
    summary = f"{count} change{'s' * (count != 1)}"
    return settle(setup, done.text, done.findings, write=write, summary=summary)
