"""leitwerk import-rows, leitwerk export-rows and leitwerk correct-rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import Pair, user
from leitwerk.cli.rows_of import STORE, rows_options

if TYPE_CHECKING:
    from leitwerk.analysis.series import Series
    from leitwerk.cli.rows_of import RowsWanted
    from leitwerk.recordings.about import About


@click.command("import-rows")
@click.argument("file")
@click.option("--device", required=True, metavar="SERIAL", help="The device that they are of.")
@click.option("--time", "time_head", metavar="HEADING", help="The column with the time.")
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="'HEADING = NAME [UNIT]'",
    help="A column to take.",
)
@click.option("--zone", default="UTC", show_default=True, help="Of times without a zone.")
@click.option(
    "--time-form", default="", metavar="FORM", help="Such as '%d.%m.%Y %H:%M:%S'; else ISO 8601."
)
@click.option("--decimal", type=click.Choice([".", ","]), default=".", show_default=True)
@click.option("--separator", default=",", show_default=True, help="Between cells; 'tab'.")
@click.option("--heading-line", type=click.IntRange(1, 1000), default=1, show_default=True)
@STORE
def import_rows(
    file: str,
    *,
    device: str,
    time_head: str | None,
    columns: tuple[str, ...],
    zone: str,
    time_form: str,
    decimal: str,
    separator: str,
    heading_line: int,
    store: str,
) -> int:
    """Take the rows of FILE into the store: one of Leitwerk's own, or a CSV or XLSX of another program.

    Of another program, the column of the time and each column that is wanted are named. Rows that are there
    already are passed over; one that differs from what is there is refused.

    Exit code 0: taken. 2: usage, or a file that cannot be used.
    """
    from leitwerk.parsing.local_time import find_zone
    from leitwerk.project.kept_json import KeptIdentity
    from leitwerk.recordings.foreign import ForeignForm, parse_column, read_foreign
    from leitwerk.recordings.sources import read_rows_of
    from leitwerk.recordings.store import Store

    path = Path(file)
    if columns:
        if time_head is None:
            raise click.UsageError("name the column of the time: --time HEADING")
        form = ForeignForm(
            time_head, dict(map(parse_column, columns)), find_zone(zone), time_form, decimal,
            "\t" if separator == "tab" else separator, heading_line,
        )  # fmt: skip
        series, about = read_foreign(path, form), _plain_about(zone)
    else:
        series, about = read_rows_of(file)
    held = about.device or KeptIdentity(maker="", model="", serial=device, firmware="")
    about = about.model_copy(
        update={
            "device": held.model_copy(update={"serial": device}),
            "source": "import" if columns else about.source,
            "run": about.run or path.name,
        }
    )
    done = Store(store).append(series, about)
    known = f", {done.known:,} were there already" if done.known else ""
    click.echo(f"{store}: {done.rows:,} rows of {len(series.columns)} channels taken{known}")
    return FINE


def _plain_about(zone: str) -> About:
    from leitwerk.recordings.about import About

    return About(zone=zone, source="import")


@click.command("export-rows")
@click.argument("source")
@rows_options
@click.option("--to", "target", required=True, metavar="FILE", help=".csv, .parquet or .xlsx.")
def export_rows(wanted: RowsWanted, *, target: str) -> int:
    """Write rows of SOURCE, a file or a device of the store, into a file; with --setup, derived channels.

    Exit code 0: written. 2: usage, or rows that cannot be used.
    """
    from leitwerk.errors import QuantityError
    from leitwerk.project.files import write_atomic
    from leitwerk.recordings.parquet import write_parquet

    checked = wanted.checked()
    series, about = wanted.read(checked)
    path = Path(target)
    if path.suffix == ".csv":
        write_atomic(path, series.csv())
    elif path.suffix == ".parquet":
        write_parquet(series, path, about.to_json())
    elif path.suffix == ".xlsx":
        write_atomic(path, _xlsx(series))
    else:
        raise QuantityError(
            f"rows cannot be written as {path.suffix or target!r}", valid=".csv, .parquet, .xlsx"
        )
    click.echo(f"{path}: {series.times_s.size:,} rows")
    return FINE


def _xlsx(series: Series) -> bytes:
    from leitwerk.recordings.spreadsheet import series_xlsx

    return series_xlsx(series)


@click.command("correct-rows")
@click.argument("device")
@click.option("--reason", required=True, help="Why; it is kept with the version.")
@click.option(
    "--clock",
    metavar="TIME",
    help="Its clock was ahead by this at the end, spread over the run: '90 s', or 'noted' at the fetch.",
)
@click.option(
    "--all-along",
    is_flag=True,
    help="With --clock: it was off by as much from the start, as one that was set wrongly.",
)
@click.option(
    "--setup",
    metavar="SETUP",
    help="Work channels anew from what the device stored, by this setup.",
)
@click.option(
    "--add",
    "added",
    type=Pair(),
    multiple=True,
    metavar="NAME=VALUE",
    help="Add a value: 'pressure=0.2 kPa'.",
)
@click.option(
    "--less", "less", multiple=True, nargs=2, metavar="NAME OTHER", help="Take another channel off."
)
@STORE
def correct_rows(
    device: str,
    *,
    reason: str,
    clock: str | None,
    all_along: bool,
    setup: str | None,
    added: tuple[tuple[str, str], ...],
    less: tuple[tuple[str, str], ...],
    store: str,
) -> int:
    """Make a corrected version of the rows of DEVICE, a serial number, in the store, beside the others.

    The clock: what it was off at the end is spread evenly over each run. A later calibration, or a scale that
    was wrong: the channels are worked anew by SETUP from what the device stored. A barometer: its channel is
    taken off. What is not worked anew is made of the newest version.

    Exit code 0: made. 2: usage, or it cannot be corrected so.
    """
    from leitwerk.parsing.durations import parse_duration
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.parsing.units import parse_unit
    from leitwerk.project.setups import read_setup
    from leitwerk.recordings.corrections import Corrections
    from leitwerk.recordings.store import Store

    ahead_s: float | None = None if clock == "noted" else 0.0
    if clock is not None and ahead_s is not None:
        sign = -1.0 if clock.strip().startswith("-") else 1.0
        ahead_s = sign * parse_duration(clock.strip().lstrip("+-")).value_in(parse_unit("s"))
    wanted = Corrections(
        ahead_s,
        all_along,
        None if setup is None else read_setup(setup),
        {name: parse_quantity(value) for name, value in added},
        dict(less),
    )
    held = Store(store)
    base = None if setup is None else 1  # what the device stored
    change = wanted.prepared(held.parts(device, base))
    made = held.make_version(device, change, reason=reason, by=user(), made_from=base)
    click.echo(f"{store}: version {made.version} of {device}: {reason}")
    return FINE
