"""leitwerk program."""

from __future__ import annotations

from pathlib import Path

import click

from leitwerk.cli.exit_codes import FINE


@click.command()
@click.argument("source")
@click.argument("target")
@click.option("--force", is_flag=True, help="Write over a target that is there.")
def program(source: str, target: str, *, force: bool) -> int:
    """Turn a setup into the image of a board that is programmed by a file, or an image into a setup.

    The ending of each file says what it is: .yaml is a setup, .hex an image as Intel HEX, .h one
    as a C header. What an image holds is proven by its CRC; one for another model is refused.

    Exit code 0: written. 1: the setup has errors. 2: usage, or the image is not valid.
    """
    from leitwerk.datasheet.settings import DeviceSettings
    from leitwerk.datasheet.vocabulary import BUS_UNIT
    from leitwerk.errors import FileProblem, QuantityError
    from leitwerk.identity import Identity
    from leitwerk.parsing.address import LinkAddress
    from leitwerk.project.files import read_bytes, write_atomic
    from leitwerk.project.library import find_datasheet
    from leitwerk.project.setups import read_setup
    from leitwerk.protocols.board_image import (
        build_program,
        from_c,
        from_hex,
        parse_program,
        read_model,
        to_c,
        to_hex,
    )
    from leitwerk.transfer.adopt import adopt

    if Path(target).exists() and not force:
        raise FileProblem(f"{target} is there already", remedy="give another name, or --force")
    kinds = (Path(source).suffix.casefold(), Path(target).suffix.casefold())
    if kinds[0] in {".yaml", ".yml"} and kinds[1] in {".hex", ".h"}:
        checked = read_setup(source)
        sheet, image, at = checked.datasheet, checked.settings, checked.setup.device.at
        if (
            BUS_UNIT.name in sheet.settings
            and isinstance(at, LinkAddress)
            and isinstance(at.unit, int)
        ):
            # The board will answer where the setup says that it is reached.
            image = DeviceSettings(image.model, {**image.values, BUS_UNIT.name: float(at.unit)})
        made = build_program(image, sheet)
        text = to_hex(made, sheet) if kinds[1] == ".hex" else to_c(made, sheet, checked.setup.title)
    elif kinds[0] in {".hex", ".h"} and kinds[1] in {".yaml", ".yml"}:
        content = read_bytes(source).decode("ascii", "replace")
        made = from_hex(content) if kinds[0] == ".hex" else from_c(content)
        sheet = find_datasheet(read_model(made))
        identity = Identity(sheet.maker, sheet.model, "unknown", "")
        image = parse_program(made, sheet)
        unit = image.values.get(BUS_UNIT.name)
        where = (
            f"{sheet.link}+rtu:///dev/ttyUSB0?unit={unit:.0f}"
            if isinstance(unit, float)
            else "board"
        )
        text = adopt(image, identity, where, sheet)
    else:
        raise QuantityError(
            f"{source} cannot be turned into {target}", valid=".yaml to .hex or .h, or back"
        )
    write_atomic(Path(target), text)
    click.echo(f"{target}: written for {sheet.model}, {len(made)} bytes", err=True)
    return FINE
