"""leitwerk adopt and leitwerk compare."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON, MODEL, link_options

if TYPE_CHECKING:
    from leitwerk.datasheet.model import Datasheet
    from leitwerk.datasheet.settings import DeviceSettings
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("where")
@click.option("--to", "file", metavar="FILE", help="Write it there; a file that is there is kept.")
@MODEL
@link_options(2.0)
def adopt(where: str, *, file: str | None, model: str | None, link: LinkOptions) -> int:
    """Read the device at WHERE and write a setup file from what it holds.

    Uploaded unchanged, it changes nothing. What a setup cannot express stands at the top of the file.
    WHERE is an address or a name of the inventory.

    Exit code 0: written. 2: usage, or the file is there already. 3: not reached. 4: refused.
    """
    from leitwerk.cli.devices import open_where, remember
    from leitwerk.errors import FileProblem
    from leitwerk.project.files import write_atomic
    from leitwerk.transfer.adopt import adopt as write_setup

    if file is not None and Path(file).exists():
        raise FileProblem(f"{file} is there already", remedy="give another name, or move it away")
    with open_where(where, model, link) as device:
        address, sheet = device.address, device.datasheet
        with device.staying_the_same() as identity:
            settings = device.read_settings()
        text = write_setup(settings, identity, str(address), sheet)
    remember(identity, address)
    if file is None:
        click.echo(text, nl=False)
    else:
        write_atomic(Path(file), text)
        click.echo(f"{file}: written from {identity}", err=True)
    return FINE


@click.command()
@click.argument("one")
@click.argument("other")
@JSON
@link_options(2.0)
def compare(one: str, other: str, *, as_json: bool, link: LinkOptions) -> int:
    """Show the settings in which ONE and OTHER differ.

    Each is a setup file, a backup, the image of a board (.hex, .h), or a device (an address, or a
    name of the inventory). Compared is what both determine; a setup says nothing about settings that
    it does not name.

    Exit code 0: no difference. 1: differences. 2: usage. 3: not reached.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.datasheet.settings import diff_common, lines_by_block
    from leitwerk.errors import QuantityError

    sheet, first = _side(one, link)
    other_sheet, second = _side(other, link)
    if sheet.model != other_sheet.model:
        raise QuantityError(
            f"{one} is of the model {sheet.model}, {other} of {other_sheet.model}",
            valid="two of one model",
        )
    changes, count = diff_common(first, second, sheet)
    if as_json:
        echo_json({"compared": count, "differences": [change.to_dict() for change in changes]})
    else:
        shown = [(c.setting, f"{c.shown_old()} | {c.shown_new()}") for c in changes]
        for line in lines_by_block(shown):
            click.echo(line)
        click.echo(f"{len(changes)} of {count} settings differ", err=True)
    return FOUND if changes else FINE


def _side(text: str, link: LinkOptions) -> tuple[Datasheet, DeviceSettings]:
    """The settings on one side of a comparison: of a setup, a backup, a program or a device."""
    from leitwerk.cli.devices import open_where
    from leitwerk.project.files import names_file, read_bytes
    from leitwerk.project.library import find_datasheet
    from leitwerk.project.setups import read_setup
    from leitwerk.protocols.board_image import from_c, from_hex, parse_program, read_model
    from leitwerk.transfer.receipt import read_backup

    if names_file(text):
        if text.endswith(".json"):
            identity, settings, _ = read_backup(text)
            return find_datasheet(identity.model), settings
        if Path(text).suffix in {".hex", ".h"}:
            content = read_bytes(text).decode("ascii", "replace")
            made = from_hex(content) if text.endswith(".hex") else from_c(content)
            sheet = find_datasheet(read_model(made))
            return sheet, parse_program(made, sheet)
        checked = read_setup(text)
        return checked.datasheet, checked.settings
    with open_where(text, None, link) as device, device.staying_the_same():
        return device.datasheet, device.read_settings()
