"""A check of some seconds, for 'leitwerk live' with --for, or where there is no terminal."""

from __future__ import annotations

import sys
from contextlib import nullcontext
from typing import TYPE_CHECKING, Self

import click

from leitwerk.cli.exit_codes import result_code
from leitwerk.cli.options import kept_folder

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.live_files import KeptSamples
    from leitwerk.commissioning.live_check import LiveProgress
    from leitwerk.commissioning.live_report import LiveReport
    from leitwerk.links.options import LinkOptions


def check_for_a_while(
    checked: CheckedSetup,
    duration_s: float,
    period_s: float,
    form: str | None,
    kept: KeptSamples,
    figure: str | None,
    link: LinkOptions,
) -> int:
    """Watch a device for a time, and print the verdicts; the exit code."""
    from leitwerk.cli.devices import remember
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.commissioning.live_check import verify
    from leitwerk.devices.device import connect

    view = TableView(checked.setup.title) if form is None and sys.stdout.isatty() else None
    with connect(checked, link=link) as device, view or nullcontext(), kept:

        def show(progress: LiveProgress) -> None:
            if view is not None:
                view.show(progress)

        report = verify(
            checked,
            device,
            duration_s=duration_s,
            period_s=period_s,
            on_sample=show,
            on_taken=kept.take,
        )
        changed = note_visit(device, kept_folder(checked.setup.source.file, None), "live")
    remember(report.identity, device.address)
    if figure:
        from leitwerk.reports.live_figure import draw_report

        draw_report(report, figure)
    print_report(report, form, shown_already=view is not None)
    if changed and form is None:
        click.echo(changed)
    return result_code(report)


def print_report(report: LiveReport, form: str | None, *, shown_already: bool) -> None:
    """Print a report in the form that was asked for; a table that was drawn already only gets its end."""
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
