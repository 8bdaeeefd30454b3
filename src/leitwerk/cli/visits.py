"""leitwerk visits and leitwerk bundle."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.note_visit import note_visit
from leitwerk.cli.options import JSON, MODEL, folder_option, kept_folder, link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions
    from leitwerk.links.trace import TraceEntry


@click.command()
@click.argument("where")
@click.option("--show", type=click.IntRange(1), metavar="N", help="Show visit N; 1 is the newest.")
@click.option(
    "--compare",
    nargs=2,
    type=click.IntRange(1),
    metavar="N M",
    help="What changed from visit N to visit M.",
)
@folder_option("the visits")
@JSON
def visits(
    where: str,
    *,
    show: int | None,
    compare: tuple[int, int] | None,
    folder: str | None,
    as_json: bool,
) -> int:
    """List the visits to a device: what it was, held and showed each time.

    WHERE is its setup file, its serial number, or a name of the inventory. Every upload, live check and
    proof keeps a visit, and 'leitwerk device'.

    Exit code 0: there are some. 1: none. 2: usage.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.reports.visits import VisitChanges, load_visit, nth_visit, visit_files

    serial, kept = _serial_of(where, folder)
    if compare is not None:
        changes = VisitChanges(*(nth_visit(kept, serial, number) for number in compare))
        if as_json:
            echo_json(changes.to_dict())
        else:
            click.echo(str(changes))
        return FINE
    if show is not None:
        visit = nth_visit(kept, serial, show)
        if as_json:
            echo_json(visit.model_dump())
        else:
            click.echo(str(visit))
            for group in ("status", "readings", "settings"):
                click.echo(f"{group}:")
                for name, value in getattr(visit, group).items():
                    click.echo(f"  {name}: {value} {visit.units.get(name, '')}".rstrip())
        return FINE
    found = [load_visit(path) for path in reversed(visit_files(kept, serial))]
    if as_json:
        echo_json(
            [visit.model_dump(include={"at", "why", "by", "device", "address"}) for visit in found]
        )
    else:
        for number, visit in enumerate(found, start=1):
            click.echo(f"{number:3}  {visit}")
    if not found:
        click.echo(f"no visit to {serial} is kept in {kept}", err=True)
    return FINE if found else FOUND


def _serial_of(where: str, folder: str | None) -> tuple[str, Path]:
    """The serial number that is meant, and the folder with what is kept."""
    from leitwerk.project.files import names_file
    from leitwerk.project.inventory import Inventory
    from leitwerk.project.setups import load_setup

    if names_file(where):
        return load_setup(where).device.serial, kept_folder(where, folder)
    known = [d for d in Inventory.nearest().devices() if d.name == where]
    return (known[0].identity.serial if known else where), kept_folder("here", folder)


@click.command()
@click.argument("where")
@MODEL
@click.option(
    "--to", "target", metavar="FILE", help="Where to; else SERIAL-bundle.zip in this folder."
)
@folder_option("receipts and visits")
@link_options(2.0)
def bundle(
    where: str, *, model: str | None, target: str | None, folder: str | None, link: LinkOptions
) -> int:
    """Pack what somebody needs who is to help with a device: one ZIP, without any secret.

    It holds the device's page, status and settings, visits, receipts, the frames on the link while it was
    read, and a list of all that is in it. WHERE is an address, a name of the inventory, or a setup file.

    Exit code 0: written. 2: usage. 3: not reached. 4: refused.
    """
    from dataclasses import replace

    from leitwerk.cli.devices import open_where, remember
    from leitwerk.project.files import names_file
    from leitwerk.reports.bundle import known_secrets, pack
    from leitwerk.reports.device_page import read_page

    kept = kept_folder(where if names_file(where) else "here", folder)
    frames: list[str] = []

    def trace(entry: TraceEntry) -> None:
        frames.append(str(entry))
        if link.tracer is not None:
            link.tracer(entry)

    with open_where(where, model, replace(link, tracer=trace)) as one:
        page = read_page(one, folder=kept)
        note_visit(one, kept, "bundle", page)
    remember(page.identity, page.address)
    path = Path(target or f"{page.identity.serial}-bundle.zip")
    setup = Path(where) if names_file(where) else None
    names = pack(path, page, kept, setup=setup, trace=frames, secrets=known_secrets())
    click.echo(f"{path}: {len(names)} files")
    for name in names:
        click.echo(f"  {name}")
    return FINE
