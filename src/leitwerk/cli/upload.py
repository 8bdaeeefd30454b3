"""leitwerk upload."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON, link_options, writing_options

if TYPE_CHECKING:
    from leitwerk.cli.options import Writing
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("setup")
@click.option("--plan", is_flag=True, help="Show what would change, and change nothing.")
@JSON
@writing_options
@link_options(2.0)
def upload(setup: str, *, plan: bool, writing: Writing, link: LinkOptions, as_json: bool) -> int:
    """Upload SETUP to its device and verify that it arrived.

    Only the device that the setup names is written to, and only what differs. The password is asked
    for, or taken from LEITWERK_PASSWORD_<ROLE>.

    Exit code 0: verified. 1: the setup has errors, or a plan has changes. 2: usage. 3: device not
    reached. 4: refused.
    """
    from leitwerk.cli.devices import remember
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of, secrets_of
    from leitwerk.cli.printing import print_findings, print_result
    from leitwerk.cli.progress import StepView
    from leitwerk.devices.device import connect
    from leitwerk.findings import Severity
    from leitwerk.project.setups import read_setup
    from leitwerk.transfer.upload import plan_upload
    from leitwerk.transfer.upload import upload as carry

    checked = read_setup(setup)
    warnings = [f for f in checked.findings if f.severity is Severity.WARNING]
    print_findings(warnings, err=True)
    with (
        connect(checked, link=link) as device,
        StepView() as steps,
    ):
        if plan:
            planned = plan_upload(checked, device)
            print_result(planned, as_json=as_json)
            return FOUND if planned.changes else FINE
        wanted = checked.setup.device
        passwords = passwords_of(wanted.model, wanted.serial, steps)
        secrets = secrets_of(wanted.model, wanted.serial, steps)
        options = writing.options(setup, passwords, steps.show, secrets)
        receipt = carry(checked, device, options)
        note_visit(device, Path(options.folder), "upload", by=options.by)
    remember(receipt.identity, device.address, receipts=options.folder)
    print_result(receipt, as_json=as_json)
    return FINE
