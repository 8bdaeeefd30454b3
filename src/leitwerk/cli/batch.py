"""leitwerk batch."""

from __future__ import annotations

import threading
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON, link_options, writing_options

if TYPE_CHECKING:
    from leitwerk.cli.options import Writing
    from leitwerk.links.options import LinkOptions
    from leitwerk.setup.model import Setup
    from leitwerk.transfer.batch import BatchItem, BatchResult


@click.command()
@click.argument("setup")
@click.argument("table")
@click.option("--at-once", default=8, show_default=True, type=click.IntRange(1, 64), metavar="N",
              help="Maximum number of devices in parallel.")  # fmt: skip
@click.option("--again", is_flag=True, help="Also the devices that this batch has done already.")
@click.option("--plan", is_flag=True, help="Only check the setups of all devices.")
@JSON
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
    """Upload SETUP to every device of TABLE, and verify each.

    TABLE is a CSV or XLSX file with a line for each device; its columns say in what they differ: serial, at,
    title, or the way to any other value, such as settings.name or 'channels.stack.expect [kg]'. One that
    fails stops no other. Begun again, it goes on with the devices that are left.

    Exit code 0: all verified. 1: some failed, or a setup has errors. 2: usage.
    """
    from leitwerk.cli.password import passwords_of
    from leitwerk.cli.printing import echo_json
    from leitwerk.cli.progress import StepView
    from leitwerk.transfer.batch import read_batch, upload_batch

    items = read_batch(setup, table, lambda said: click.echo(said, err=True))
    if plan:
        click.echo(f"{len(items)} devices, all of their setups can be uploaded", err=True)
        return FINE
    lock = threading.Lock()
    with StepView() as steps:

        def passwords(own: Setup) -> dict[str, str]:
            return passwords_of(own.device.model, own.device.serial, steps)

        def on_end(result: BatchResult) -> None:
            with lock:
                steps.end_unit(result.item.serial)
                if not as_json:
                    steps.say(str(result))

        def on_step(item: BatchItem, step: str, done: int, total: int) -> None:
            with lock:
                steps.show_unit(item.serial, step, done, total)

        results = upload_batch(
            items,
            writing.options(setup, {}),
            passwords=passwords,
            at_once=at_once,
            again=again,
            link=link,
            on_step=on_step,
            on_end=on_end,
        )
    if as_json:
        echo_json([result.to_dict() for result in results])
    counts = {
        state: sum(o.state == state for o in results) for state in ("done", "earlier", "failed")
    }
    summary = ", ".join(f"{n} {state}" for state, n in counts.items())
    click.echo(f"{len(results)} devices: {summary}", err=True)
    return FINE if all(result.ok for result in results) else FOUND
