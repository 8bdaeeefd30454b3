"""leitwerk recover, leitwerk restore and leitwerk history."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON, folder_option, kept_folder, link_options, writing_options

if TYPE_CHECKING:
    from leitwerk.cli.options import Writing
    from leitwerk.links.options import LinkOptions
    from leitwerk.project.inventory import Inventory


@click.command()
@click.argument("setup")
@click.option("--finish", is_flag=True, help="Write what is still missing.")
@click.option("--undo", is_flag=True, help="Give the device its old settings back.")
@JSON
@writing_options
@link_options(2.0)
def recover(
    setup: str,
    *,
    finish: bool,
    undo: bool,
    writing: Writing,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Show what an interrupted upload to SETUP's device has left, and finish or undo it.

    A test run or another act that changes settings only for a while, and was broken off, is undone, too.

    Exit code 0: finished or undone, and verified. 1: it is unfinished (without an option). 2: usage,
    or nothing is unfinished. 3: device not reached. 4: refused.
    """
    from leitwerk.cli.devices import remember
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of, secrets_of
    from leitwerk.cli.printing import print_result
    from leitwerk.cli.progress import StepView
    from leitwerk.devices.device import open_device
    from leitwerk.identity import Identity
    from leitwerk.project.claims import left_claims
    from leitwerk.project.inventory import resolve_address
    from leitwerk.project.setups import datasheet_of, load_setup
    from leitwerk.transfer.for_a_while import give_claims_back
    from leitwerk.transfer.recover import inspect_interrupted, unfinished
    from leitwerk.transfer.recover import recover as settle

    if finish and undo:
        raise click.UsageError("--finish or --undo, not both")
    wanted = load_setup(setup)
    sheet, kept = datasheet_of(wanted), kept_folder(setup, writing.folder)
    named = Identity("", sheet.model, wanted.device.serial, "")
    left = [one for one in left_claims(named) if one.changes_settings]
    journal = None if left else unfinished(kept, named.serial)
    with (
        open_device(
            sheet, resolve_address(wanted.device.at), zone=wanted.zone, link=link
        ) as device,
        StepView() as steps,
    ):
        for one in left:
            click.echo(str(one))
        if left and not undo:
            click.echo("  give back what it changed with --undo")
            return FOUND
        if journal is None:
            device.require(named.model, named.serial)
            passwords = passwords_of(named.model, named.serial, steps)
            options = writing.options(setup, passwords, steps.show, {})
            for line in give_claims_back(device, left, options):
                click.echo(line)
            return FINE
        if not (finish or undo):
            found = inspect_interrupted(journal, device)
            print_result(found, as_json=as_json)
            if not as_json:
                click.echo("  finish it with --finish, or give the old settings back with --undo")
            return FOUND
        passwords = passwords_of(journal.identity.model, journal.identity.serial, steps)
        secrets = secrets_of(journal.identity.model, journal.identity.serial, steps)
        options = writing.options(setup, passwords, steps.show, secrets)
        receipt = settle(journal, device, options, undo=undo)
        note_visit(device, Path(options.folder), "recover", by=options.by)
    remember(receipt.identity, device.address, receipts=options.folder)
    print_result(receipt, as_json=as_json)
    return FINE


@click.command()
@click.argument("backup")
@click.argument("where")
@JSON
@writing_options
@link_options(2.0)
def restore(
    backup: str,
    where: str,
    *,
    writing: Writing,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Give the device at WHERE the settings of BACKUP back, and verify that it has them.

    Only the device that the backup is of is written to. WHERE is an address, a name of the
    inventory, or a setup file.

    Exit code 0: verified. 2: usage. 3: device not reached. 4: refused.
    """
    from leitwerk.cli.devices import open_where, remember
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.cli.printing import print_result
    from leitwerk.cli.progress import StepView
    from leitwerk.transfer.receipt import read_backup
    from leitwerk.transfer.restore import restore as give_back

    identity, _, _ = read_backup(backup)
    with (
        open_where(where, identity.model, link) as device,
        StepView() as steps,
    ):
        passwords = passwords_of(identity.model, identity.serial, steps)
        options = writing.options("here", passwords, steps.show)
        receipt = give_back(backup, device, options)
        note_visit(device, Path(options.folder), "restore", by=options.by)
    remember(receipt.identity, device.address, receipts=options.folder)
    print_result(receipt, as_json=as_json)
    return FINE


@click.command()
@click.argument("device")
@folder_option("the receipts")
@JSON
def history(device: str, *, folder: str | None, as_json: bool) -> int:
    """List the receipts of DEVICE, and verify that none was changed or removed.

    DEVICE is a setup file, a name of the inventory, an address at which it was seen, or a serial number.

    Exit code 0: the chain is complete. 1: it is not, or there is no receipt. 2: usage.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.datasheet.registers import readable
    from leitwerk.project.files import names_file
    from leitwerk.project.inventory import Inventory
    from leitwerk.project.kept import device_folder
    from leitwerk.transfer.history import read_history

    inventory = Inventory.nearest()
    serial = _serial_of(device, inventory)
    kept = kept_folder(device if names_file(device) else "here", folder)
    own = device_folder(kept, serial)
    found = read_history(own, inventory.newest_receipt(serial, own))
    if not found.receipts and not found.breaks:
        click.echo(f"no receipts of the device with serial number {serial} in {kept}", err=True)
        return FOUND
    if as_json:
        echo_json(found.to_dict())
    else:
        for receipt in found.receipts:
            what = receipt.get("what", {})
            changes = len(receipt.get("changes", ()))
            line = (
                f"{receipt.get('finished', '?')}  {what.get('kind', '?'):8} by "
                f"{receipt.get('by', '?')}: {changes} settings changed ({what.get('file', '?')})"
            )
            click.echo(readable(line))
        for broken in found.breaks:
            click.echo(f"broken: {broken}", err=True)
        count = f"{len(found.receipts)} receipt{'s' * (len(found.receipts) != 1)}"
        chain = "complete: none was changed or removed" if found.whole else "broken"
        click.echo(f"{count}; the chain is {chain}", err=True)
    return FINE if found.whole and found.receipts else FOUND


def _serial_of(device: str, inventory: Inventory) -> str:
    """The serial number of a device that is named by a setup, its name, its address, or itself."""
    from leitwerk.project.files import names_file
    from leitwerk.project.setups import load_setup

    if names_file(device):
        return load_setup(device).device.serial
    seen = [
        known
        for known in inventory.devices()
        if device.casefold() == known.name.casefold() or device == str(known.address)
    ]
    # Another device may have had the address before: the one that was seen there last has it now.
    return max(seen, key=lambda known: known.last_seen).identity.serial if seen else device
