"""leitwerk fetch and leitwerk record."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND, reports_errors
from leitwerk.cli.options import MODEL, folder_option, kept_folder, link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("where")
@MODEL
@folder_option("the files")
@reports_errors
@link_options(2.0)
def fetch(where: str, *, model: str | None, folder: str | None, link: LinkOptions) -> int:
    """Fetch the recordings of the device at WHERE into CSV files; nothing is erased.

    WHERE is an address, a name of the inventory, or a setup file. The device may then count its
    recordings as fetched.

    Exit code 0: all fetched. 1: it has none. 2: usage. 3: device not reached. 4: refused.
    """
    from datetime import UTC, datetime
    from pathlib import Path

    from leitwerk.cli.devices import remember, resolve_device
    from leitwerk.cli.progress import StepView
    from leitwerk.devices.device import open_device
    from leitwerk.recordings.fetch import fetch_recordings
    from leitwerk.transfer.receipt import KeptFiles

    sheet, address = resolve_device(where, model, link)
    kept = kept_folder(where if Path(where).is_file() else "here", folder)
    with open_device(sheet, address, link=link) as device, StepView() as steps:
        identity = device.identify()
        files = KeptFiles.at(kept, identity.serial, datetime.now(UTC))
        paths = fetch_recordings(device, device.read_settings(), files.stem, steps.show)
    remember(identity, address)
    for path in paths:
        click.echo(str(path))
    if not paths:
        click.echo("the device has no recordings", err=True)
    return FINE if paths else FOUND


@click.command()
@click.argument("setup")
@click.argument("what", type=click.Choice(["start", "stop"]))
@reports_errors
@link_options(2.0)
def record(setup: str, what: str, *, link: LinkOptions) -> int:
    """Start or stop the recording of the device of SETUP, and verify that it does.

    Exit code 0: done, or it did so already. 2: usage. 3: device not reached. 4: refused, or another device.
    """
    from leitwerk.cli.password import passwords_of
    from leitwerk.devices.device import connect
    from leitwerk.devices.recordings import control_recording
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    named = checked.setup.device
    with connect(checked, link=link) as device:
        device.require(named.model, named.serial)
        passwords = passwords_of(named.model, named.serial)
        changed = control_recording(device, start=what == "start", passwords=passwords)
    if what == "start":
        click.echo("recording started" if changed else "it records already")
    else:
        click.echo("recording stopped" if changed else "it was not recording")
    return FINE
