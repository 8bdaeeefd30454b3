"""leitwerk datasheet."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND, result_code
from leitwerk.cli.options import JSON, folder_option, kept_folder, link_options

if TYPE_CHECKING:
    from pathlib import Path

    from leitwerk.datasheet.model import Datasheet
    from leitwerk.links.options import LinkOptions


SIMULATED = "simulated"


@click.command()
@click.argument("file")
@click.option(
    "--try",
    "address",
    metavar="WHERE",
    help="Read every point of it from a device, by address or name.",
)
@click.option(
    "--prove",
    metavar="WHERE",
    help="Prove it on a device, by address or name, or on a 'simulated' one.",
)
@click.option("--arm", is_flag=True, help="With --prove: write settings, and give them back.")
@folder_option("backups, journals and receipts")
@JSON
@link_options(1.0)
def datasheet(
    file: str,
    *,
    address: str | None,
    prove: str | None,
    arm: bool,
    folder: str | None,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Find the mistakes in the datasheet FILE, and try or prove it on a device.

    FILE is a file, or the model of a datasheet that is known already. Trying reads every point by
    itself, shows what came and says what looks wrong; nothing is written. Proving reads all settings
    twice, and adopts them; with --arm it also writes other values, reads them back, and gives the old
    ones back: nothing must depend on the device meanwhile.

    Exit code 0: fine. 1: mistakes, points that could not be read or look wrong, or not proven. 2: usage.
    3: not reached. 4: refused.
    """
    from pathlib import Path

    from leitwerk.cli.printing import echo_json, print_findings
    from leitwerk.project.library import find_datasheet, known_models, read_datasheet

    known = not Path(file).exists() and file in known_models()
    sheet = find_datasheet(file) if known else read_datasheet(file)
    if prove is not None:
        kept = kept_folder(file if Path(file).is_file() else "here", folder)
        return _prove(sheet, file, prove, kept, arm=arm, as_json=as_json, link=link)
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
    doubtful = sum(bool(tried.doubt) for tried in results)
    odd = f", {doubtful} of them look wrong" if doubtful else ""
    click.echo(f"{len(results) - troubles} of {len(results)} points read{odd}", err=as_json)
    return FOUND if troubles or doubtful else FINE


def _prove(
    sheet: Datasheet,
    file: str,
    where: str,
    kept: Path,
    *,
    arm: bool,
    as_json: bool,
    link: LinkOptions,
) -> int:
    from contextlib import nullcontext

    from leitwerk.cli.options import user
    from leitwerk.cli.password import passwords_of
    from leitwerk.cli.printing import echo_json
    from leitwerk.commissioning.datasheet_proof import prove_datasheet
    from leitwerk.devices.device import open_device
    from leitwerk.parsing.address import parse_where
    from leitwerk.project.inventory import resolve_address
    from leitwerk.standins.from_datasheet import PASSWORD
    from leitwerk.standins.process import start_standin
    from leitwerk.transfer.task import UploadOptions

    simulated = start_standin(file) if where == SIMULATED else nullcontext()
    with simulated as one:
        address = one.address if one is not None else resolve_address(parse_where(where))
        with open_device(sheet, address, link=link) as device:
            identity = device.identify()
            passwords = passwords_of(identity.model, identity.serial)
            if one is not None:
                passwords.update(dict.fromkeys(sheet.writing.roles, PASSWORD))
            proof = prove_datasheet(
                device,
                UploadOptions(kept, passwords, by=user()),
                write=arm or one is not None,
                on_step=(lambda step: None) if as_json else lambda step: click.echo(str(step)),
            )
    if as_json:
        echo_json(proof.to_dict())
    else:
        click.echo(proof.outcome.value.upper())
    return result_code(proof)
