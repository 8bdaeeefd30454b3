"""leitwerk datasheet."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND, reports_errors
from leitwerk.cli.options import JSON, link_options

if TYPE_CHECKING:
    from leitwerk.links.options import LinkOptions


@click.command()
@click.argument("file")
@click.option(
    "--try",
    "address",
    metavar="WHERE",
    help="Read every point of it from a device, by address or name.",
)
@JSON
@reports_errors
@link_options(1.0)
def datasheet(file: str, *, address: str | None, as_json: bool, link: LinkOptions) -> int:
    """Find the mistakes in the datasheet FILE, and try it on a device.

    FILE is a file, or the model of a datasheet that is known already. Trying reads every point by
    itself and shows what came; nothing is written.

    Exit code 0: fine. 1: mistakes, or points that could not be read. 2: usage. 3: not reached.
    """
    from pathlib import Path

    from leitwerk.cli.printing import echo_json, print_findings
    from leitwerk.project.library import find_datasheet, known_models, read_datasheet

    known = not Path(file).exists() and file in known_models()
    sheet = find_datasheet(file) if known else read_datasheet(file)
    if address is None:
        counts = {group: len(sheet.points(group)) for group in sheet.groups}
        if as_json:
            doubts = [finding.to_dict() for finding in sheet.doubts]
            echo_json({"model": sheet.model, "points": counts, "findings": doubts})
        else:
            print_findings(sheet.doubts)
            points = ", ".join(f"{count} {group}" for group, count in counts.items() if count)
            warnings = f"{len(sheet.doubts)} warning{'s' * (len(sheet.doubts) != 1)}"
            click.echo(
                f"{sheet.model}: {sheet.summary}\n{file}: no errors found, {warnings} ({points})"
            )
        return FINE

    from leitwerk.devices.datasheet_trial import try_datasheet
    from leitwerk.devices.device import open_device
    from leitwerk.parsing.address import parse_where
    from leitwerk.project.inventory import resolve_address

    results = []
    with open_device(sheet, resolve_address(parse_where(address)), link=link) as device:
        for tried in try_datasheet(device):
            results.append(tried)
            if not as_json:
                click.echo(str(tried))
    if as_json:
        echo_json([tried.to_dict() for tried in results])
    said = next((t.value for t in results if (t.group, t.name) == ("identity", "model")), None)
    if said is not None and said != sheet.model:
        click.echo(
            f"the device says that it is {said!r}, the datasheet is for {sheet.model!r}", err=True
        )
    troubles = sum(bool(tried.trouble) for tried in results)
    click.echo(f"{len(results) - troubles} of {len(results)} points read", err=as_json)
    return FOUND if troubles else FINE
