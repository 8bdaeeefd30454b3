"""leitwerk watchdog."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import result_code
from leitwerk.cli.options import JSON, MODEL, link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("where")
@MODEL
@JSON
@link_options(2.0)
def watchdog(where: str, *, model: str | None, as_json: bool, link: LinkOptions) -> int:
    """Send the device at WHERE nothing for longer than its watchdog waits, and verify that it acted.

    Nothing is written; but the device does what its watchdog is set to. WHERE is an address, a name
    of the inventory, or a setup file.

    Exit code 0: it acted. 1: it did not. 2: usage, or it has none. 3: not reached.
    """
    from leitwerk.cli.devices import open_where
    from leitwerk.cli.printing import print_result
    from leitwerk.devices.watchdog import try_watchdog

    with open_where(where, model, link) as device:
        result = try_watchdog(device)
    print_result(result, as_json=as_json)
    return result_code(result)
