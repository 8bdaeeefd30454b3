"""leitwerk upload."""

from __future__ import annotations

import getpass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.outcome import FINE, FOUND, link_options, reports_errors

if TYPE_CHECKING:
    from leitwerk.cli.outcome import LinkOptions


@click.command()
@click.argument("setup")
@click.option("--plan", is_flag=True, help="Show what would change, and change nothing.")
@click.option("--wait", default=10.0, metavar="S", help="Wait so long for another writer to end.")
@click.option("--discard-recordings", is_flag=True, help="Recordings nobody fetched may be erased.")
@click.option("--fetch-recordings", is_flag=True, help="Fetch recordings first, beside the backup.")
@click.option("--stop-recording", is_flag=True, help="A running recording may be stopped.")
@click.option("--keep", metavar="FOLDER", help="For backups and receipts; 'kept' beside the setup.")
@click.option("--by", metavar="NAME", help="Who uploads, for the receipt; you, if not given.")
@reports_errors
@link_options(2.0)
@click.option("--json", "as_json", is_flag=True, help="Print the receipt as JSON.")
def upload(
    setup: str,
    *,
    plan: bool,
    discard_recordings: bool,
    fetch_recordings: bool,
    stop_recording: bool,
    wait: float,
    keep: str | None,
    by: str | None,
    link: LinkOptions,
    as_json: bool,
) -> int:
    """Carry SETUP to its device and verify that it arrived.

    Only the device that the setup names is written to, and only what differs. The password is asked
    for, or taken from LEITWERK_PASSWORD_<ROLE>.

    Exit code 0: verified. 1: the setup has errors, or a plan has changes. 2: usage. 3: device not
    reached. 4: refused.
    """
    from leitwerk.check import check_setup
    from leitwerk.cli.devices import remember
    from leitwerk.cli.password import passwords_of
    from leitwerk.cli.show import console, echo_json, print_findings
    from leitwerk.cli.steps import StepView
    from leitwerk.findings import Severity
    from leitwerk.links import connect
    from leitwerk.project import read_setup
    from leitwerk.transfer import Allowed, plan_upload
    from leitwerk.transfer import upload as carry

    wanted = read_setup(setup)
    with (
        connect(wanted, patience=link.patience, tracer=link.tracer) as device,
        StepView() as steps,
    ):
        findings = check_setup(wanted, device.datasheet)
        print_findings([f for f in findings if f.severity is Severity.WARNING], steps.console)
        if plan:
            planned = plan_upload(wanted, device)
            if as_json:
                echo_json(planned.to_dict())
            else:
                console().print(str(planned), markup=False)
            return FOUND if planned.changes else FINE
        receipt = carry(
            wanted,
            device,
            keep=keep or Path(setup).parent / "kept",
            passwords=passwords_of(wanted.device.model, wanted.device.serial, steps),
            allowed=Allowed(discard_recordings, stop_recording, fetch_recordings, wait),
            by=by or user(),
            progress=steps.show,
        )
    remember(receipt.identity, device.address)
    if as_json:
        echo_json(receipt.to_dict())
    else:
        console().print(str(receipt), markup=False)
    return FINE


def user() -> str:
    """Who runs this, for receipts."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "unnamed"
