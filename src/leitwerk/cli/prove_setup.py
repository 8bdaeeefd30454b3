"""The proof of a whole setup, for 'leitwerk prove SETUP'."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.attend import attend_options
from leitwerk.cli.exit_codes import result_code
from leitwerk.cli.note_visit import note_visit
from leitwerk.cli.options import kept_folder, user
from leitwerk.cli.printing import echo_json
from leitwerk.commissioning.guided_proof import Applier, ProofOptions, prove_setup
from leitwerk.commissioning.proof_plan import PlannedStep, plan_proof
from leitwerk.commissioning.proof_record import drift_lines, load_record
from leitwerk.commissioning.proof_script import parse_applied, read_script
from leitwerk.devices.device import connect
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import parse_quantity
from leitwerk.project.files import read_bytes
from leitwerk.project.kept import device_folder

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.commissioning.guided_proof import Applied
    from leitwerk.commissioning.proof_record import StepResult
    from leitwerk.links.options import LinkOptions


class Person:
    """Asks at the terminal what was applied."""

    def __init__(self, setup: CheckedSetup) -> None:
        self._setup = setup

    def apply(self, step: PlannedStep) -> Applied | None:
        """Ask until the answer can be used; q breaks the proof off."""
        click.echo(f"\n{step.key}: {step.request}", err=True)
        asked = "Enter when it is so" if step.kind != "alarm" else "Enter, and begin"
        typed = (
            "" if step.kind != "point" else "; or type the reference, such as '21.52 °C ± 0.02 °C'"
        )
        while True:
            answer = click.prompt(
                f"  {asked}{typed}; skip; q ends, to be resumed",
                default="",
                show_default=False,
                err=True,
            )
            if answer.strip() == "q":
                raise KeyboardInterrupt
            try:
                return parse_applied(answer, step, self._setup)
            except QuantityError as error:
                click.echo(f"  {error}", err=True)


def prove_whole(
    checked: CheckedSetup,
    setup: str,
    link: LinkOptions,
    *,
    script: str | None,
    points: tuple[str, ...],
    record: str | None,
    against: str | None,
    settle_s: float,
    alarm_s: float,
    period_s: float,
    folder: str | None,
    as_json: bool,
) -> int:
    """Prove a whole setup; the exit code."""
    further: dict[str, list[float]] = {}
    for text in points:
        name, _, value = text.partition("=")
        if name not in [c.name for c in checked.channels]:
            raise QuantityError(
                f"there is no channel {name!r}", valid=", ".join(c.name for c in checked.channels)
            )
        further.setdefault(name, []).append(
            parse_quantity(value).value_in(checked.channel(name).unit)
        )
    plan = plan_proof(checked, further)
    before = None if against is None else load_record(Path(against))
    applier: Applier = Person(checked)
    if script is not None:
        applier = read_script(read_bytes(script), script, checked, plan)
    kept = kept_folder(setup, folder)
    stamp = datetime.now(UTC).strftime("%Y-%m-%dT%H%M%SZ")
    path = (
        Path(record)
        if record
        else device_folder(kept, checked.setup.device.serial) / f"{stamp}-proof.json"
    )

    def show(result: StepResult) -> None:
        if not as_json:
            click.echo(str(result))

    attend = attend_options(checked, kept, armed=False, quiet=True)
    options = ProofOptions(path, user(), attend, settle_s, period_s, alarm_s, show)
    with connect(checked, link=link) as device:
        try:
            found = prove_setup(checked, device, plan, applier, options)
        except KeyboardInterrupt:
            if path.exists():
                click.echo(f"broken off; resume it with --record {path}", err=True)
            raise
        note_visit(device, kept, "prove")
    if as_json:
        echo_json({**found.model_dump(), "outcome": found.outcome.value})
    else:
        click.echo(str(found).splitlines()[-1])
        click.echo(f"record: {path}")
        if before is not None:
            click.echo("\n".join(drift_lines(before, found)))
    return result_code(found)
