"""leitwerk prove."""

from __future__ import annotations

from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

from leitwerk.cli.attend import ARM, FOLDER, attend_options, print_event
from leitwerk.cli.exit_codes import result_code
from leitwerk.cli.options import (
    DURATION,
    JSON,
    Pair,
    every_option,
    for_option,
    kept_folder,
    link_options,
)

if TYPE_CHECKING:
    from collections.abc import Iterator

    from leitwerk.check.checked import CheckedSetup
    from leitwerk.commissioning.alarm_proof import Proof
    from leitwerk.links.options import LinkOptions
    from leitwerk.monitoring.attendant import AttendOptions


@click.command()
@click.argument("setup")
@click.argument("alarm", required=False)
@for_option("How long to watch an alarm at most.", "10 min")
@every_option("0.5 s")
@ARM
@click.option(
    "--simulated",
    is_flag=True,
    help="On a stand-in that warms its sensor by itself, with services.",
)
@click.option(
    "--script", metavar="FILE", help="What is applied at each step, in place of a person."
)
@click.option(
    "--point",
    "points",
    type=Pair(),
    metavar="NAME=VALUE",
    multiple=True,
    help="A further point: 'air_top=60 °C'.",
)
@click.option(
    "--record", metavar="FILE", help="Where the record goes; one that was broken off is resumed."
)
@click.option(
    "--against", metavar="FILE", help="Show the drift since the record of an earlier proof."
)
@click.option(
    "--settle",
    "settle_s",
    type=DURATION,
    default="60 s",
    show_default=True,
    metavar="TIME",
    help="How long to wait until a point is steady.",
)
@click.option(
    "--adjust",
    type=Pair(),
    metavar="NAME=HOW",
    multiple=True,
    help="Adjust a channel by its points: 'stack=tare', 'air_top=offset'.",
)
@click.option(
    "--reference",
    "references",
    nargs=3,
    metavar="NAME SETUP CHANNEL",
    multiple=True,
    help="Read what is applied to a channel, or given by an output, from a device's channel.",
)
@click.option(
    "--instrument",
    "instruments",
    metavar="TEXT",
    multiple=True,
    help="What the references that are typed are measured with.",
)
@click.option(
    "--due", metavar="DATE", help="By when a calibration that is made here has to be repeated."
)
@click.option(
    "--page", metavar="FILE", help="Write the record as a report, too: .html, .pdf, .csv or .xlsx."
)
@JSON
@FOLDER
@link_options(2.0)
def prove(
    setup: str,
    alarm: str | None,
    *,
    duration_s: float,
    period_s: float,
    arm: bool,
    simulated: bool,
    script: str | None,
    points: tuple[tuple[str, str], ...],
    record: str | None,
    against: str | None,
    settle_s: float,
    adjust: tuple[tuple[str, str], ...],
    references: tuple[tuple[str, str, str], ...],
    instruments: tuple[str, ...],
    due: str | None,
    page: str | None,
    as_json: bool,
    folder: str | None,
    link: LinkOptions,
) -> int:
    """Prove a whole SETUP step by step; or watch one ALARM (channel.alarm) trip and clear.

    Without ALARM: channel by channel, it is said what to apply, and what is read is compared with it; then
    the outputs, if they are armed. With ALARM:
    warm the sensor, wait, and let it cool again. Each effect that the setup asks for is looked for: the
    trip after its delay, the device's own alarm, outputs, messages, the clear at its point.

    Exit code 0: passed. 1: not passed, or unknown. 2: usage. 3: device not reached.
    """
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.printing import echo_json
    from leitwerk.commissioning.alarm_proof import prove as watch
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    def run(checked: CheckedSetup, options: AttendOptions, named: str) -> Proof:
        with connect(checked, link=link) as device:
            proof = watch(checked, device, options, named, duration_s=duration_s, period_s=period_s)
            note_visit(device, kept_folder(setup, folder), f"prove {named}")
        return proof

    checked = read_setup(setup)
    if alarm is None:
        from leitwerk.cli.prove_setup import ProofWishes, prove_whole

        if simulated:
            raise click.UsageError("--simulated is for one alarm: name it")
        wishes = ProofWishes(
            script, points, adjust, references, instruments, due, record, against, page, settle_s,
            duration_s, period_s, folder, arm, as_json,
        )  # fmt: skip
        return prove_whole(checked, setup, link, wishes)
    if simulated:
        with _warmed(checked, alarm, link, quiet=as_json) as (moved, options):
            proof = run(moved, options, alarm)
    else:
        options = attend_options(checked, kept_folder(setup, folder), armed=arm, quiet=as_json)
        proof = run(checked, options, alarm)
    if as_json:
        echo_json(proof.to_dict())
    else:
        _print_proof(proof)
    return result_code(proof)


def _print_proof(proof: Proof) -> None:
    from rich.text import Text

    from leitwerk.cli.tables import OUTCOME_STYLES, console

    out = console()
    head, *steps, end = str(proof).splitlines()
    out.print(f"\n{head}", style="bold")
    for step, line in zip(proof.steps, steps, strict=True):
        text = Text(line)
        text.stylize(OUTCOME_STYLES[step.outcome], 0, 9)
        out.print(text)
    out.print(end, style=f"bold {OUTCOME_STYLES[proof.outcome]}")


@contextmanager
def _warmed(
    checked: CheckedSetup, alarm: str, link: LinkOptions, *, quiet: bool
) -> Iterator[tuple[CheckedSetup, AttendOptions]]:
    """The setup on a stand-in that holds it already, and how it is attended."""
    from leitwerk.check.channels import WiredChannel
    from leitwerk.commissioning.alarm_proof import warming
    from leitwerk.devices.device import connect
    from leitwerk.errors import QuantityError
    from leitwerk.monitoring.attendant import AttendOptions
    from leitwerk.standins.warmed import passwords_of, simulated
    from leitwerk.transfer.task import UploadOptions
    from leitwerk.transfer.upload import upload

    wired = [c for c in checked.channels if isinstance(c, WiredChannel)]
    alarms = {name: (c, a) for c in wired for name, a in c.named_alarms()}
    if alarm not in alarms:
        raise QuantityError(
            f"there is no alarm {alarm[:60]!r} at a terminal", valid=", ".join(alarms)
        )
    channel, definition = alarms[alarm]
    with simulated(checked, channel.terminal.name, warming(definition, channel)) as one:
        passwords = passwords_of(checked.setup.device.model)
        with connect(one.checked, link=link) as device:
            upload(one.checked, device, UploadOptions(one.folder, passwords, by="simulation"))
        on_event = (lambda event: None) if quiet else print_event
        yield (
            one.checked,
            AttendOptions(one.folder, armed=True, passwords=passwords, on_event=on_event),
        )
