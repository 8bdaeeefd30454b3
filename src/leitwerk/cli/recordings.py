"""leitwerk fetch and leitwerk record."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import MODEL, folder_option, kept_folder, link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("where")
@MODEL
@folder_option("the files")
@link_options(2.0)
def fetch(where: str, *, model: str | None, folder: str | None, link: LinkOptions) -> int:
    """Fetch the recordings of the device at WHERE into CSV files; nothing is erased.

    WHERE is its setup file, an address, or a name of the inventory. With the setup, columns are its channels,
    with scale, correction and tare; else they are as the device stored them. Times are in UTC. The device may
    then count its recordings as fetched.

    Exit code 0: all fetched. 1: it has none. 2: usage. 3: device not reached. 4: refused.
    """
    from datetime import UTC, datetime

    from leitwerk.cli.devices import open_where, remember
    from leitwerk.cli.progress import StepView
    from leitwerk.project.files import names_file
    from leitwerk.project.setups import read_setup
    from leitwerk.recordings.fetch import RecordedWith, fetch_recordings
    from leitwerk.transfer.receipt import KeptFiles

    setup = read_setup(where) if names_file(where) else None
    kept = kept_folder(where if setup else "here", folder)
    with open_where(where, model, link) as device, StepView() as steps:
        if setup is not None:
            identity = device.require(setup.setup.device.model, setup.setup.device.serial)
        else:
            identity = device.identify()
        files = KeptFiles.at(kept, identity.serial, datetime.now(UTC))
        recorded_with = RecordedWith(device.read_settings(), setup)
        paths = fetch_recordings(device, recorded_with, files.stem, steps.show)
    remember(identity, device.address)
    for path in paths:
        click.echo(str(path))
    if not paths:
        click.echo("the device has no recordings", err=True)
        return FOUND
    click.echo(
        f"times are in UTC; the clock of the device is taken as {device.clock_zone}", err=True
    )
    if setup is None:
        click.echo(
            "values: as the device stored them; scale, correction and tare of a setup are not in them",
            err=True,
        )
    for channel in recorded_with.differing(device.datasheet):
        click.echo(
            f"{channel.name}: the device is set otherwise than {where} says; values are as stored",
            err=True,
        )
    return FINE


@click.command()
@click.argument("setup")
@click.argument("what", type=click.Choice(["start", "stop"]))
@link_options(2.0)
def record(setup: str, what: str, *, link: LinkOptions) -> int:
    """Start or stop the recording of the device of SETUP, and verify that it does.

    Exit code 0: done, or it did so already. 1: the setup has errors. 2: usage. 3: device not reached. 4:
    refused, or another device.
    """
    from leitwerk.cli.note_visit import note_visit
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
        note_visit(device, kept_folder(setup, None), f"record {what}")
    if what == "start":
        click.echo("recording started" if changed else "it records already")
    else:
        click.echo("recording stopped" if changed else "it was not recording")
    return FINE
