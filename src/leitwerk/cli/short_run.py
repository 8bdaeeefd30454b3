"""leitwerk test-run."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import for_option, link_options, writing_options

if TYPE_CHECKING:
    from leitwerk.cli.options import Writing
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("setup")
@for_option("How long to record.", "10 s")
@click.option(
    "--to",
    "target",
    metavar="FILE",
    help="Where to: .csv; else SERIAL-test-run.csv in this folder.",
)
@writing_options
@link_options(2.0)
def test_run(
    setup: str, *, duration_s: float, target: str | None, writing: Writing, link: LinkOptions
) -> int:
    """Let the device of SETUP record for a short time as fast as it can, fetch it, and draw it.

    The device has to hold the setup, and must not be recording. Its interval is set for the run, and set back
    after it, verified both times; also if the run is broken off. If the program is killed, 'leitwerk recover'
    says so and gives it back. Meanwhile no other command on this computer writes to the device.

    Exit code 0: done. 1: the setup has errors, or rows are missing. 2: usage. 3: device not reached.
    4: refused.
    """
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.cli.progress import StepView
    from leitwerk.commissioning.test_run import record_short_run
    from leitwerk.devices.device import connect
    from leitwerk.project.files import write_atomic
    from leitwerk.project.setups import read_setup
    from leitwerk.reports.time_figure import draw_channels

    checked = read_setup(setup)
    named = checked.setup.device
    with connect(checked, link=link) as device, StepView() as steps:
        options = writing.options(setup, passwords_of(named.model, named.serial, steps), steps.show)
        run = record_short_run(
            checked, device, options, duration_s=duration_s,
            on_wait=lambda seconds: steps.show(f"record for {seconds:g} s", 0, 1),
        )  # fmt: skip
        note_visit(device, Path(options.folder), "test-run", by=options.by)
    path = Path(target or f"{named.serial}-test-run.csv")
    write_atomic(path, run.series.csv())
    click.echo(f"{path}: {run.series.times_s.size} rows, one every {run.interval_s:g} s")
    for one in run.left:
        click.echo(f"warning: {one}", err=True)
    if not run.is_complete:
        click.echo(
            f"not done: {duration_s:g} s should give {run.expected} rows; is the memory full, or does the "
            "device record less often than its setting says?",
            err=True,
        )
    known = {channel.name: channel for channel in checked.channels}
    columns = [k for k, column in enumerate(run.series.columns) if column.name in known]
    if columns and run.series.dated:
        values = run.series.known()
        figure = path.with_suffix(".png")
        draw_channels(
            [known[run.series.columns[k].name] for k in columns], run.series.times_s, values[:, columns],
            figure, title=f"{checked.setup.title}: test run", zone=checked.setup.zone,
        )  # fmt: skip
        click.echo(f"{figure}: drawn")
    return FINE if run.is_complete and not run.left else FOUND
