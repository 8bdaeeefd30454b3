"""leitwerk live."""

from __future__ import annotations

import csv
import sys
from collections.abc import Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Self, TextIO

import click

from leitwerk.cli.exit_codes import result_code
from leitwerk.cli.options import every_option, for_option, link_options

if TYPE_CHECKING:
    from leitwerk.analysis.series import Column
    from leitwerk.commissioning.live_check import LiveProgress
    from leitwerk.commissioning.live_report import LiveReport
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("setup")
@for_option("How long to watch.", "5 s")
@every_option("0.5 s")
@click.option("--json", "form", flag_value="json", help="Print the report as JSON.")
@click.option("--csv", "form", flag_value="csv", help="Print a CSV line for each channel.")
@click.option("--samples", metavar="FILE", help="Write every sample to a CSV file as it comes.")
@click.option("--figure", metavar="FILE", help="Draw the values against expectations (PNG).")
@link_options(2.0)
def live(
    setup: str,
    *,
    duration_s: float,
    period_s: float,
    form: str | None,
    samples: str | None,
    figure: str | None,
    link: LinkOptions,
) -> int:
    """Watch the readings and compare them with what SETUP expects.

    Exit code 0: passed. 1: not passed, or nothing is expected. 2: usage. 3: device not reached. 4:
    another device, or it refused.
    """
    from leitwerk.analysis.series import Column
    from leitwerk.cli.devices import remember
    from leitwerk.commissioning.live_check import verify
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    view = TableView(checked.setup.title) if form is None and _is_terminal() else None
    with (
        connect(checked, link=link) as device,
        view or nullcontext(),
        SampleFile(samples, [Column(c.name, c.symbol) for c in checked.channels]) as file,
    ):

        def show(sample: LiveProgress) -> None:
            file.keep(sample)
            if view is not None:
                view.show(sample)

        report = verify(
            checked,
            device,
            duration_s=duration_s,
            period_s=period_s,
            on_sample=show,
        )
    remember(report.identity, device.address)
    if figure:
        from leitwerk.reports.live_figure import draw_report

        draw_report(report, figure)
    _print(report, form, shown_already=view is not None)
    return result_code(report)


def _is_terminal() -> bool:
    return sys.stdout.isatty()


def _print(report: LiveReport, form: str | None, *, shown_already: bool) -> None:
    from leitwerk.cli.printing import echo_json

    if form == "json":
        echo_json(report.to_dict())
    elif form == "csv":
        click.echo(report.to_csv(), nl=False)
    elif shown_already:
        from leitwerk.cli.tables import closing_text, console

        console().print(closing_text(report))
    else:
        click.echo(str(report))


class TableView:
    """A table that is drawn anew with each sample, and stays when all is done."""

    def __init__(self, title: str) -> None:
        from rich.live import Live

        from leitwerk.cli.tables import console

        self._title = title
        self._live = Live(console=console(wraps=True), auto_refresh=False)

    def __enter__(self) -> Self:
        self._live.__enter__()
        return self

    def __exit__(self, *error: object) -> None:
        self._live.__exit__(None, None, None)

    def show(self, sample: LiveProgress) -> None:
        """Draw the table with what is known after this sample."""
        from leitwerk.cli.tables import live_table

        caption = f"sample {sample.number} of {sample.total}"
        width = self._live.console.width
        table = live_table(sample.channels(), self._title, caption, width)
        self._live.update(table, refresh=True)


class SampleFile:
    """A CSV file to which each sample goes at once: what was seen is kept, however it ends.

    It is begun with the first sample, so that a device that is not reached costs no older file.
    """

    def __init__(self, path: str | None, columns: Sequence[Column]) -> None:
        self._path, self._columns = path, columns
        self._file: TextIO | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        if self._file is not None:
            self._file.close()

    def keep(self, sample: LiveProgress) -> None:
        """Write a sample."""
        if self._path is None:
            return
        from leitwerk.analysis.series import series_heading
        from leitwerk.errors import FileProblem

        rows = [sample.row()]
        try:
            if self._file is None:
                self._file = Path(self._path).open("w", encoding="utf-8", newline="")  # noqa: SIM115
                rows.insert(0, series_heading(self._columns))
            csv.writer(self._file, lineterminator="\n").writerows(rows)
            self._file.flush()
        except OSError as error:
            reason = error.strerror or type(error).__name__
            raise FileProblem(
                f"cannot write {self._path}: {reason}",
                remedy="is the folder there, writable, and the disk not full?",
            ) from error
