"""leitwerk recordings and leitwerk summary."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON
from leitwerk.cli.rows_of import STORE, rows_options

if TYPE_CHECKING:
    from leitwerk.cli.rows_of import RowsWanted


@click.command()
@STORE
@click.option("--device", metavar="SERIAL", help="Only of this device.")
@click.option("--channel", metavar="NAME", help="Only what has this channel.")
@click.option("--from", "begin", metavar="TIME", help="Only what reaches beyond this time (UTC).")
@click.option("--until", "end", metavar="TIME", help="Only what begins before this time (UTC).")
@JSON
def recordings(
    store: str,
    *,
    device: str | None,
    channel: str | None,
    begin: str | None,
    end: str | None,
    as_json: bool,
) -> int:
    """List what a store holds: devices, runs, times, rows, and corrected versions with their reasons.

    Exit code 0: something was found. 1: nothing. 2: usage.
    """
    import math
    from dataclasses import asdict
    from zoneinfo import ZoneInfo

    from leitwerk.cli.options import local_moment
    from leitwerk.cli.printing import echo_json
    from leitwerk.recordings.store import Store

    held, utc = Store(store), ZoneInfo("UTC")
    found = held.holdings(
        device=device,
        channel=channel,
        begin_s=-math.inf if begin is None else local_moment(begin, utc).timestamp(),
        end_s=math.inf if end is None else local_moment(end, utc).timestamp(),
    )
    if as_json:
        echo_json([asdict(one) for one in found])
        return FINE if found else FOUND
    for one in found:
        click.echo(str(one))
        click.echo(f"  run {one.run} ({one.source}): {', '.join(one.columns)}")
    for serial in dict.fromkeys(one.device for one in found):
        for version in held.versions(serial):
            click.echo(
                f"{serial}: version {version.version} of {version.made} by {version.by}: {version.reason}"
            )
    if not found:
        click.echo(f"{store} holds nothing of that", err=True)
    return FINE if found else FOUND


@click.command()
@click.argument("source")
@rows_options
@JSON
def summary(wanted: RowsWanted, *, as_json: bool) -> int:
    """Summarise SOURCE: a file of samples, or the serial number of a device in the store.

    Count, gaps, minimum, mean, maximum, deviation and percentiles of each channel; totals of flows and
    powers; the mean kinetic temperature. With --setup: derived channels, the times in bands and in alarm, and
    what its section 'papers' judges and adds up.

    What is too long for the memory is read piece by piece; percentiles are then right to 1/32768 of the span.

    Exit code 0: done. 2: usage, or rows that cannot be used.
    """
    from leitwerk.cli.printing import echo_json

    checked = wanted.checked()
    found, judged = wanted.survey(checked)
    events = wanted.supply_events(checked, found.begin_s, found.end_s)
    if as_json:
        more = {} if events is None else {"events": events.to_dict()}
        echo_json(
            {**found.to_dict(), "judged": judged.to_dict(), "remarks": wanted.remarks(), **more}
        )
    else:
        click.echo(str(found))
        for line in wanted.remarks():
            click.echo(f"remark: {line}")
        for line in judged.lines():
            click.echo(line)
        for line in events.lines() if events is not None else ():
            click.echo(line)
    return FINE
