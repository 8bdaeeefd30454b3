"""leitwerk devices, leitwerk device and leitwerk readdress."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import (
    JSON,
    MODEL,
    every_option,
    folder_option,
    for_option,
    kept_folder,
    link_options,
)
from leitwerk.project.clock import REAL_TIME

if TYPE_CHECKING:
    from leitwerk.datasheet.model import Datasheet
    from leitwerk.devices.device import Device
    from leitwerk.links.options import LinkOptions
    from leitwerk.parsing.address import LinkAddress
    from leitwerk.reports.device_page import DevicePage


@click.command()
@click.option("--rename", nargs=2, metavar="NAME NEW", help="Give a device another name.")
@click.option("--forget", metavar="NAME", help="Remove a device from the list.")
@click.option(
    "--start-here", is_flag=True, help="Begin an inventory of this project, in this folder."
)
@JSON
def devices(
    *, rename: tuple[str, str] | None, forget: str | None, start_here: bool, as_json: bool
) -> int:
    """List the devices that were seen; their names stand for their addresses everywhere.

    A device is added when an upload, a live check or a page has identified it, and by
    'leitwerk find --remember'. The inventory is a file devices.sqlite in this folder or one above
    it, else one of your own for all projects.

    Exit code 0: devices are listed. 1: no device is known. 2: usage.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.project.inventory import FILE, Inventory

    inventory = Inventory(FILE) if start_here else Inventory.nearest()
    if start_here:
        inventory.start()
        click.echo(f"devices seen in this folder and below it are kept in {FILE}", err=True)
    if rename:
        device = inventory.rename(*rename)
        click.echo(f"{device.identity} is now {device.name}", err=True)
    if forget:
        click.echo(f"forgotten: {inventory.forget(forget).identity}", err=True)
    known = inventory.devices()
    if as_json:
        echo_json([device.to_dict() for device in known])
        return FINE if known else FOUND
    width = max((len(device.name) for device in known), default=0)
    for device in known:
        seen = device.last_seen.astimezone().strftime("%Y-%m-%d %H:%M")
        click.echo(f"{device.name:{width}}  {device.address}")
        click.echo(f"{'':{width}}  {device.identity}, last seen {seen}")
    if not known:
        click.echo("no device has been seen yet", err=True)
    return FINE if known or start_here or rename or forget else FOUND


@click.command()
@click.argument("where")
@MODEL
@click.option("--settings", is_flag=True, help="Show its settings, too.")
@click.option("--readings", is_flag=True, help="Show what it measures, too.")
@click.option("--recordings", is_flag=True, help="List its recordings; selects each in the device.")
@every_option(text="Read status and readings again and again, until you end it.")
@for_option("With --every: end after that time.")
@click.option(
    "--restarted",
    is_flag=True,
    help="Note that it was switched off and on: what waited is in force.",
)
@click.option("--set-clock", is_flag=True, help="Set its clock to the time of this machine first.")
@folder_option("the receipts")
@JSON
@link_options(1.0)
def device(
    where: str,
    *,
    model: str | None,
    settings: bool,
    readings: bool,
    recordings: bool,
    period_s: float | None,
    duration_s: float | None,
    restarted: bool,
    set_clock: bool,
    folder: str | None,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Show one device: identity, clock, status, memory, features, last receipts.

    WHERE is an address, a name of the inventory, or a setup file.

    Exit code 0: it was read. 1: the setup has errors. 2: usage. 3: not reached. 4: it refused.
    """
    from datetime import UTC, datetime

    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.options import user
    from leitwerk.cli.printing import echo_json, print_rows
    from leitwerk.project.files import names_file
    from leitwerk.reports.device_page import read_page
    from leitwerk.transfer.pending import note_restart

    kept = kept_folder(where if names_file(where) else "here", folder)
    with open_where(where, model, link) as one:
        address = one.address
        if set_clock:
            _set_clock(one)
        if restarted:
            note_restart(kept, one.identify().serial, datetime.now(UTC), user())
        page = read_page(one, folder=kept, recordings=recordings, readings=readings)
        changed = note_visit(one, kept, "device", page)
        if period_s is not None:
            remember(page.identity, address)
            _show_again(page, one, period_s, duration_s, as_json=as_json)
            return FINE
    remember(page.identity, address)
    if as_json:
        echo_json(page.to_dict())
        return FINE
    if changed:
        click.echo(changed)
    count = f"{len(page.settings.values)}" + ("" if settings else ", shown by --settings")
    print_rows([*page.rows(), ("settings", count)])
    if settings:
        for line in page.setting_lines():
            click.echo(f"  {line}")
    return FINE


def _show_again(
    page: DevicePage, device: Device, period_s: float, duration_s: float | None, *, as_json: bool
) -> None:
    """Show what changes by itself, again and again: in place on a terminal, else below each other."""
    import sys
    from datetime import datetime

    from leitwerk.cli.printing import echo_json, print_rows
    from leitwerk.monitoring.pacing import paced, sample_count

    count = sys.maxsize if duration_s is None else sample_count(duration_s, period_s)
    with suppress(KeyboardInterrupt):
        for _ in paced(range(count), period_s, REAL_TIME):
            page = page.refreshed(device)
            if as_json:
                echo_json({"status": dict(page.status), "readings": dict(page.readings)})
                continue
            if sys.stdout.isatty():
                click.clear()
            read = f"{datetime.now().astimezone():%H:%M:%S}"
            print_rows([("device", str(page.identity)), ("read at", read), *page.live_rows()])


@click.command()
@click.argument("where")
@click.option("--serial", required=True, help="The serial number that the device must have.")
@click.option("--to", "unit", default=None, metavar="UNIT", help="The new unit identifier.")
@click.option("--name", default=None, help="The new name, in the device and in the inventory.")
@MODEL
@link_options(1.0)
def readdress(
    where: str,
    *,
    serial: str,
    unit: str | None,
    name: str | None,
    model: str | None,
    link: LinkOptions,
) -> int:
    """Give the device at WHERE another unit identifier on its bus, or another name, safely.

    Its serial number is verified first, the new address and name must be free, and the device must
    answer there afterwards. If anything goes wrong, the message says where it answers now. WHERE is an
    address, a name of the inventory, or a setup file.

    Exit code 0: done. 2: usage. 3: not reached. 4: refused, taken, or another device.
    """
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.cli.progress import StepView
    from leitwerk.devices.device import open_device
    from leitwerk.devices.readdress import change_name, change_unit
    from leitwerk.errors import QuantityError
    from leitwerk.parsing.address import parse_address
    from leitwerk.project.inventory import Inventory

    if unit is None and name is None:
        raise QuantityError("nothing is to be changed", valid="--to UNIT, --name NAME, or both")
    sheet, address = resolve_device(where, model, link)
    inventory = Inventory.nearest()

    def reach(at: LinkAddress) -> Any:
        return open_device(sheet, at, link=link)

    with StepView() as steps:
        passwords = passwords_of(sheet.model, serial, steps)
        if name is not None:
            inventory.require_free(name, sheet.model, serial)
            with reach(address) as one:
                identity = change_name(
                    one, name, serial=serial, passwords=passwords, on_progress=steps.show
                )
                note_visit(one, kept_folder("here", None), "readdress")
            known = inventory.remember(identity, address)
            inventory.rename(known.name, name)
        if unit is not None:
            bare = str(address).replace(f"unit={address.unit}", f"unit={unit}")
            with reach(address) as one:
                moved = change_unit(
                    one,
                    parse_address(bare).unit,
                    serial=serial,
                    passwords=passwords,
                    reach=reach,
                    on_progress=steps.show,
                )
            inventory.remember(moved.identity, moved.new)
            with reach(moved.new) as one:
                note_visit(one, kept_folder("here", None), "readdress")
            click.echo(str(moved))
    return FINE


def remember(identity: Any, address: LinkAddress, *, receipts: str | Path | None = None) -> None:
    """Note that a device was seen, and its newest receipt in the folder ``receipts``.

    A failure to note it is reported and stops nothing. Outputs that a killed program left driven are named.
    """
    from leitwerk.errors import LeitwerkError
    from leitwerk.project.inventory import Inventory
    from leitwerk.project.kept import device_folder

    warn_of_driven(identity, address)
    try:
        inventory = Inventory.nearest()
        inventory.remember(identity, address)
        if receipts is not None:
            from leitwerk.transfer.history import head_of

            folder = device_folder(Path(receipts), identity.serial)
            inventory.note_receipt(identity.serial, folder, head_of(folder))
    except LeitwerkError as error:
        click.echo(f"note: {error.message}", err=True)


def warn_of_driven(identity: Any, address: LinkAddress) -> None:
    """Name what programs on this computer left driven or changed, and notes that cannot be read."""
    from leitwerk.project.claims import left_claims

    for note in left_claims(identity):
        for output in note.outputs:
            click.echo(f"warning: {output}; release it: leitwerk release {address}", err=True)
        if note.changes_settings:
            click.echo(f"warning: {note}; give it back: leitwerk recover SETUP --undo", err=True)
        if note.problem:
            click.echo(f"warning: {note}; look at the device, then remove the file", err=True)


def _set_clock(one: Any) -> None:
    from leitwerk.cli.password import passwords_of

    identity, role = one.identify(), one.datasheet.role
    if role:
        one.log_in_with(role, passwords_of(identity.model, identity.serial))
    one.set_clock()
    if role:
        one.log_out()


def open_where(where: str, model: str | None, link: LinkOptions) -> Device:
    """Open a device that is given by address, by name, or by its setup.

    With a setup, only the device that it names is accepted, and its clock is in the setup's zone.
    """
    from leitwerk.devices.device import open_device
    from leitwerk.project.files import names_file
    from leitwerk.project.setups import load_setup

    setup = load_setup(where) if names_file(where) else None
    zone = setup.zone if setup else None
    device = open_device(*resolve_device(where, model, link), zone=zone, link=link)
    if setup is not None:
        device.expected = (device.datasheet.model, setup.device.serial)
    return device


def resolve_device(
    where: str, model: str | None, link: LinkOptions
) -> tuple[Datasheet, LinkAddress]:
    """The datasheet and the address of a device, given by address, name or setup."""
    from leitwerk.devices.presence import identify_by_datasheets
    from leitwerk.errors import NotReached
    from leitwerk.parsing.address import DeviceName, parse_where
    from leitwerk.project.files import names_file
    from leitwerk.project.inventory import Inventory, resolve_address
    from leitwerk.project.library import find_datasheet, known_models
    from leitwerk.project.setups import datasheet_of, load_setup

    if names_file(where):
        setup = load_setup(where)
        sheet = find_datasheet(model) if model else datasheet_of(setup)
        return sheet, resolve_address(setup.device.at)
    place = parse_where(where)
    if isinstance(place, DeviceName):
        known = Inventory.nearest().find(place.name)
        return find_datasheet(model or known.identity.model), known.address
    if model is None:
        sheets = [find_datasheet(name) for name in known_models()]
        identity = identify_by_datasheets(place, sheets, link)
        if identity is None:
            raise NotReached(
                f"no device that a datasheet knows answers at {place}",
                remedy="is it on, and is the address right? 'leitwerk find' looks for it; if its model is "
                f"known, give --model, one of {', '.join(known_models())}",
            )
        model = identity.model
    return find_datasheet(model), place
