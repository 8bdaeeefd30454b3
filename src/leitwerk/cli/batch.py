"""leitwerk batch."""

from __future__ import annotations

import threading
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND, reports_errors
from leitwerk.cli.options import link_options, writing_options

if TYPE_CHECKING:
    from leitwerk.cli.options import Writing
    from leitwerk.links.options import LinkOptions
    from leitwerk.setup.model import Setup
    from leitwerk.transfer.batch import BatchItem, Outcome


@click.command()
@click.argument("setup")
@click.argument("table")
@click.option("--at-once", default=8, show_default=True, type=click.IntRange(1, 64), metavar="N",
              help="So many devices at the same time.")  # fmt: skip
@click.option("--again", is_flag=True, help="Also the units that this batch has done already.")
@click.option("--plan", is_flag=True, help="Only check the setups of all units.")
@click.option("--json", "as_json", is_flag=True, help="Print the outcomes as JSON.")
@reports_errors
@writing_options
@link_options(2.0)
def batch(
    setup: str,
    table: str,
    *,
    at_once: int,
    again: bool,
    plan: bool,
    writing: Writing,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Carry SETUP to every device of TABLE, and verify each.

    TABLE is a CSV file with a line for each unit; its columns say in what they differ: serial, at,
    title, or the way to any other value, such as settings.name or channels.stack.expect. One that
    fails stops no other. Begun again, it goes on with the units that are left.

    Exit code 0: all verified. 1: some failed, or a setup has errors. 2: usage.
    """
    from leitwerk.check.compile import check_setup
    from leitwerk.cli.password import passwords_of
    from leitwerk.cli.printing import console, echo_json, print_findings
    from leitwerk.cli.progress import StepView
    from leitwerk.project.library import find_datasheet
    from leitwerk.transfer.batch import read_batch, upload_batch

    units = read_batch(setup, table)
    wrong = 0
    for unit in units:
        findings = check_setup(unit.setup, find_datasheet(unit.setup.device.model))
        bad = [finding for finding in findings if finding.is_error]
        print_findings(bad, console())
        wrong += bool(bad)
    if wrong or plan:
        click.echo(f"{len(units)} units, the setups of {wrong} have errors", err=True)
        return FOUND if wrong else FINE
    lock = threading.Lock()
    with StepView() as steps:

        def passwords(own: Setup) -> dict[str, str]:
            return passwords_of(own.device.model, own.device.serial, steps)

        def ended(outcome: Outcome) -> None:
            with lock:
                steps.end_unit(outcome.unit.serial)
                if not as_json:
                    steps.say(str(outcome))

        def stepped(unit: BatchItem, step: str, done: int, total: int) -> None:
            with lock:
                steps.show_unit(unit.serial, step, done, total)

        outcomes = upload_batch(
            units,
            keep=writing.folder(setup),
            passwords=passwords,
            allowed=writing.allowed,
            by=writing.by,
            at_once=at_once,
            again=again,
            options=link,
            on_step=stepped,
            on_end=ended,
        )
    if as_json:
        echo_json([outcome.to_dict() for outcome in outcomes])
    counts = {
        state: sum(o.state == state for o in outcomes) for state in ("done", "earlier", "failed")
    }
    click.echo(
        f"{len(outcomes)} units: " + ", ".join(f"{n} {state}" for state, n in counts.items()),
        err=True,
    )
    return FINE if all(outcome.ok for outcome in outcomes) else FOUND
