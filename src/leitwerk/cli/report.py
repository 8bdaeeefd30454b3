"""leitwerk report and leitwerk verify-report."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import Pair
from leitwerk.cli.panels import PANEL, parse_panels
from leitwerk.cli.rows_of import STORE, rows_options

if TYPE_CHECKING:
    from collections.abc import Mapping

    from leitwerk.cli.rows_of import RowsWanted
    from leitwerk.parsing.units import Unit


_LEDGER = ".jsonl"  # of a lot


@click.command()
@click.argument("source")
@rows_options
@click.option(
    "--to", "target", metavar="FILE", required=True, help="Where to: .pdf, .html, .csv or .xlsx."
)
@click.option(
    "--kind", default=None, metavar="NAME",
    help="Of rows: recording, transport, flow, energy, noise, supply; of a record: proof, calibration, "
    "batch; of a lot: lot; or the file of a template, mine.md.",
)  # fmt: skip
@click.option(
    "--language",
    type=click.Choice(["en", "de"]),
    default="en",
    show_default=True,
    help="Of its texts.",
)
@click.option(
    "--times", type=click.Choice(["local", "utc"]),
    help="As the clock of the place shows them (if not given), or ISO 8601 in UTC, as in records.",
)  # fmt: skip
@click.option(
    "--unit",
    "units",
    type=Pair(),
    metavar="NAME=UNIT",
    multiple=True,
    help="Show a channel in a unit.",
)
@click.option(
    "--events", "log", metavar="FILE",
    help="What operators did, from the log of 'leitwerk attend': kept/SERIAL/attend.jsonl.",
)  # fmt: skip
@click.option("--note", "notes", metavar="TEXT", multiple=True, help="What is to be said beside.")
@PANEL
def report(
    wanted: RowsWanted,
    *,
    target: str,
    kind: str | None,
    language: str,
    times: str | None,
    units: tuple[tuple[str, str], ...],
    notes: tuple[str, ...],
    log: str | None,
    panels: tuple[str, ...],
) -> int:
    """Write a report on SOURCE: rows, what a proof or a batch has recorded, or a lot of units.

    Rows are a file of samples, or the serial number of a device in the store. A record is the file that
    'leitwerk prove' or 'leitwerk batch' keeps. A lot is the ledger of 'leitwerk test-lot', lot.jsonl.

    With --setup: its header, the verdicts on its groups of alarms (section 'papers'), its channels. A report
    as PDF or HTML has a seal: 'leitwerk verify-report' shows whether it was changed.

    Exit code 0: written, and what is judged has passed, or nothing is judged. 1: written, not passed or
    unknown. 2: usage.
    """
    from leitwerk.monitoring.events import EventKind, read_events
    from leitwerk.reports.lot_report import lot_report, read_lot
    from leitwerk.reports.record_report import read_record, record_report
    from leitwerk.reports.recording_report import ReportOptions, make_report
    from leitwerk.reports.report_text import require_form, write_report
    from leitwerk.results import Outcome

    path = Path(target)
    require_form(path)
    events = [] if log is None else read_events(Path(log), {EventKind.OPERATOR})
    parsed = ReportOptions(
        kind or "",
        language,
        times != "utc",
        _units(units),
        notes,
        events,
        parse_panels(panels).names,
    )
    lot = read_lot(Path(wanted.source)) if Path(wanted.source).suffix == _LEDGER else None
    record = None if lot else read_record(Path(wanted.source))
    if lot is not None or record is not None:
        of_rows = {"--unit": units, "--panel": panels, "--events": log, "--setup": wanted.setup,
                   "--channel": wanted.channels, "--from": wanted.begin, "--until": wanted.end,
                   "--version": wanted.version, "--times": times}  # fmt: skip
        given = [name for name, value in of_rows.items() if value]
        if given:
            raise click.UsageError(f"{', '.join(given)}: for rows, not for a record")
        if record is not None:
            made, what = record_report(record, parsed), "record"
        elif lot is not None:
            made, what = lot_report(lot, parsed), f"{len(lot.result.records)} units"
    else:
        checked = wanted.checked()
        series, about = wanted.read(checked)
        listed = wanted.supply_events(checked, float(series.times_s[0]), float(series.times_s[-1]))
        options = replace(parsed, kind=kind or "recording", supply_events=listed)
        made = make_report(series, about, checked, options)
        what = f"{series.times_s.size:,} rows"
    write_report(made, path, language)
    click.echo(f"{path}: {what}{'' if made.outcome is None else f', {made.outcome.value}'}")
    return FINE if made.outcome in {Outcome.PASSED, None} else FOUND


def _units(given: tuple[tuple[str, str], ...]) -> dict[str, Unit]:
    from leitwerk.parsing.units import parse_unit

    return {name: parse_unit(symbol) for name, symbol in given}


@click.command("verify-report")
@click.argument("report", metavar="REPORT")
@click.option("--setup", metavar="SETUP", help="Whether it is of this setup.")
@click.option(
    "--source",
    metavar="SOURCE",
    help="Whether it is of these rows (a file, a device), or of this record.",
)
@STORE
def verify_report(report: str, *, setup: str | None, source: str | None, store: str) -> int:
    """Verify that REPORT (PDF or HTML) is as it was written, and of which data and setup it is.

    The seal shows a change. It is no signature: who made a report is not proven.

    Exit code 0: all that was asked is so. 1: something differs. 2: usage, or no report of Leitwerk.
    """
    from leitwerk.project.files import content_hash, read_bytes
    from leitwerk.reports.record_report import read_record, record_hash
    from leitwerk.reports.seal import read_seal

    seal = read_seal(Path(report))
    about, fine = seal.about, seal.is_unbroken
    click.echo(f"{report}: {'as it was written' if fine else 'CHANGED since it was written'}")
    click.echo(f"{about.get('title', '')}: {about.get('kind', '')}, {about.get('outcome', '')}")
    click.echo(f"made {about.get('made', '')}")
    if setup is not None:
        same = content_hash(read_bytes(setup)) == about.get("setup")
        click.echo(f"setup {setup}: {'the same' if same else 'ANOTHER one'}")
        fine &= same
    if source is not None and Path(source).suffix == _LEDGER:
        from leitwerk.reports.lot_report import read_lot

        same = read_lot(Path(source)).data_hash == about.get("data")
        click.echo(f"lot {source}: {'the same' if same else 'ANOTHER one'}")
        fine &= same
    elif source is not None:
        record = read_record(Path(source))
        same = (record_hash(record) if record else _rows_hash(source, store, about)) == about.get(
            "data"
        )
        what, one = ("record", "ANOTHER one") if record else ("rows of", "OTHERS")
        click.echo(f"{what} {source}: {'the same' if same else one}")
        fine &= same
    return FINE if fine else FOUND


def _rows_hash(source: str, store: str, about: Mapping[str, str]) -> str:
    """The hash of the rows that a report says it is of."""
    from leitwerk.recordings.sources import read_rows_of
    from leitwerk.reports.seal import series_hash

    begin, end = float(about.get("from", "nan")), float(about.get("to", "nan"))
    names = [name for name in about.get("columns", "").split(",") if name]
    series, _ = read_rows_of(source, store=store, channels=names, begin_s=begin, end_s=end)
    return series_hash(series)
