"""leitwerk rating."""

from __future__ import annotations

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import JSON


@click.command()
@click.argument("setup")
@click.argument("channel")
@click.option("--from", "low", metavar="VALUE", help="The lowest input.")
@click.option("--to", "high", metavar="VALUE", help="The highest input.")
@click.option("--every", "step", metavar="VALUE", help="The step from one input to the next.")
@JSON
def rating(
    setup: str, channel: str, *, low: str | None, high: str | None, step: str | None, as_json: bool
) -> int:
    """Print what CHANNEL of SETUP shows for values of the one input that it is computed from.

    For a flow, the heads are those for which its law is valid; a column says what an error of 1 mm in
    the level costs. No device is needed.

    Exit code 0: done. 1: the setup has errors. 2: usage.
    """
    from leitwerk.cli.printing import echo_json, print_columns
    from leitwerk.evaluation.rating import rate_channel
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.project.setups import read_setup

    typed = {
        key: None if text is None else parse_quantity(text)
        for key, text in (("low", low), ("high", high), ("every", step))
    }
    found = rate_channel(read_setup(setup), channel, **typed)
    if as_json:
        echo_json(found.to_dict())
        return FINE
    click.echo(f"{found.title}: {found.law}")
    print_columns(*found.cells())
    return FINE
