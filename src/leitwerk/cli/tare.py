"""leitwerk tare."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import for_option, kept_folder, link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("setup")
@click.argument("channel")
@click.option("--undo", is_flag=True, help="Take the last tare off again.")
@for_option("How long to read.", "5 s")
@click.option("--nominal", default="0", show_default=True, help="What it should show at rest.")
@click.option("--spread", metavar="VALUE", help="How far readings at rest may spread.")
@click.option("--drift", metavar="VALUE", help="How far they may drift meanwhile.")
@click.option("--most", metavar="VALUE", help="The largest tare that is plausible.")
@link_options(2.0)
def tare(
    setup: str,
    channel: str,
    *,
    undo: bool,
    duration_s: float,
    nominal: str,
    spread: str | None,
    drift: str | None,
    most: str | None,
    link: LinkOptions,
) -> int:
    """Read CHANNEL of SETUP at rest and take off what it shows.

    The tare is written into the setup file, under the earlier ones; the last is in force. It is
    refused when the readings spread or drift: by more than five noise-free steps, or ten, unless
    said otherwise; or when it would be larger than a quarter of the channel's span.

    Exit code 0: taken, or undone. 2: usage, or not at rest. 3: device not reached. 4: it refused.
    """
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.commissioning.adjusting import measure_tare, write_tare
    from leitwerk.devices.device import connect
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.project.editing import undo_tare
    from leitwerk.project.files import write_atomic
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    if undo:
        text = checked.setup.source.content.decode("utf-8-sig")
        write_atomic(Path(setup), undo_tare(text, channel))
        click.echo(f"{setup}: the last tare of {channel} is gone")
        return FINE
    found = checked.measured(channel)

    def number(text: str | None) -> float | None:
        return None if text is None else parse_quantity(text).value_in(found.unit)

    with connect(checked, link=link) as device:
        taken = measure_tare(
            checked, device, found, duration_s=duration_s, nominal=number(nominal) or 0.0,
            spread=number(spread), drift=number(drift), most=number(most),
        )  # fmt: skip
        write_tare(checked, found, taken)
        note_visit(device, kept_folder(setup, None), f"tare {channel}")
    click.echo(f"{setup}: {channel} is tared by {taken.offset:g} {found.difference_symbol}")
    return FINE
