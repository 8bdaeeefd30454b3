"""leitwerk upload."""

from __future__ import annotations

import getpass
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.outcome import FINE, patience_options, reports_errors
from leitwerk.errors import DeviceRefused

if TYPE_CHECKING:
    from leitwerk.cli.steps import StepView
    from leitwerk.links import Patience


@click.command()
@click.argument("setup")
@click.option("--discard-recordings", is_flag=True, help="Recordings nobody fetched may be erased.")
@click.option("--stop-recording", is_flag=True, help="A running recording may be stopped.")
@click.option("--keep", metavar="FOLDER", help="For backups and receipts; 'kept' beside the setup.")
@click.option("--by", metavar="NAME", help="Who uploads, for the receipt; you, if not given.")
@click.option("--trace", metavar="FILE", help="Keep every frame on the link; secrets are masked.")
@patience_options(2.0)
@click.option("--json", "as_json", is_flag=True, help="Print the receipt as JSON.")
@reports_errors
def upload(
    setup: str,
    *,
    discard_recordings: bool,
    stop_recording: bool,
    keep: str | None,
    by: str | None,
    trace: str | None,
    patience: Patience,
    as_json: bool,
) -> int:
    """Carry SETUP to its device and verify that it arrived.

    Only the device that the setup names is written to, and only what differs. The password is asked
    for, or taken from LEITWERK_PASSWORD_<ROLE>.

    Exit code 0: verified. 1: the setup has errors. 2: usage. 3: device not reached. 4: refused.
    """
    from leitwerk.check import check_setup
    from leitwerk.cli.show import console, echo_json, print_findings
    from leitwerk.cli.steps import StepView
    from leitwerk.cli.traces import tracing
    from leitwerk.findings import Severity
    from leitwerk.links import connect
    from leitwerk.project import read_setup
    from leitwerk.transfer import upload as carry

    wanted = read_setup(setup)
    with (
        tracing(trace) as tracer,
        connect(wanted, patience=patience, tracer=tracer) as device,
        StepView() as steps,
    ):
        findings = check_setup(wanted, device.datasheet)
        print_findings([f for f in findings if f.severity is Severity.WARNING], steps.console)
        receipt = carry(
            wanted,
            device,
            keep=keep or Path(setup).parent / "kept",
            passwords=Passwords(steps),
            discard_recordings=discard_recordings,
            stop_recording=stop_recording,
            by=by or _user(),
            progress=steps.show,
        )
    if as_json:
        echo_json(receipt.to_dict())
    else:
        console().print(str(receipt), markup=False)
    return FINE


class Passwords(dict[str, str]):
    """Passwords by role, from the environment or asked for; never kept anywhere."""

    def __init__(self, steps: StepView) -> None:
        super().__init__()
        self._steps = steps

    def __missing__(self, role: str) -> str:
        variable = f"LEITWERK_PASSWORD_{role.upper()}"
        found = os.environ.get(variable)
        if found is None and sys.stdin.isatty():
            self._steps.pause()
            found = getpass.getpass(f"Password of the {role}: ")
        if found is None:
            raise DeviceRefused(
                f"the device wants the password of the {role}",
                remedy=f"set {variable}, or run this in a terminal to be asked",
            )
        return found


def _user() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "unnamed"
