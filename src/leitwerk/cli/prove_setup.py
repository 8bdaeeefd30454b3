"""The proof of a whole setup, for 'leitwerk prove SETUP'."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.attend import attend_options
from leitwerk.cli.devices import warn_of_driven
from leitwerk.cli.exit_codes import result_code
from leitwerk.cli.note_visit import note_visit
from leitwerk.cli.options import kept_folder, user
from leitwerk.cli.printing import echo_json
from leitwerk.cli.proof_answers import Person, reference_channel
from leitwerk.commissioning.guided_proof import ProofOptions, prove_setup
from leitwerk.commissioning.proof_plan import Applier, plan_proof
from leitwerk.commissioning.proof_record import ProofRecord, drift_lines, load_record
from leitwerk.commissioning.proof_reference import ReferenceChannel
from leitwerk.commissioning.proof_script import read_script
from leitwerk.devices.device import connect
from leitwerk.errors import QuantityError
from leitwerk.parsing.quantities import parse_quantity
from leitwerk.project.files import read_bytes
from leitwerk.project.kept import device_folder

if TYPE_CHECKING:
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.commissioning.proof_record import StepResult
    from leitwerk.devices.device import Device
    from leitwerk.links.options import LinkOptions


@dataclass(frozen=True)
class ProofWishes:
    """What was asked for on the command line, as it was typed."""

    script: str | None
    points: tuple[tuple[str, str], ...]
    adjust: tuple[tuple[str, str], ...]
    references: tuple[tuple[str, str, str], ...]
    instruments: tuple[str, ...]
    due: str | None
    record: str | None
    against: str | None
    page: str | None
    settle_s: float
    alarm_s: float
    period_s: float
    folder: str | None
    armed: bool
    as_json: bool


def prove_whole(checked: CheckedSetup, setup: str, link: LinkOptions, wishes: ProofWishes) -> int:
    """Prove a whole setup; the exit code."""
    if wishes.page is not None:
        from leitwerk.reports.report_text import require_form

        require_form(Path(wishes.page))
    plan = plan_proof(checked, _points(checked, wishes.points), dict(wishes.adjust))
    before = None if wishes.against is None else load_record(Path(wishes.against))
    names = frozenset(name for name, *_ in wishes.references)
    known = [*(c.name for c in checked.channels), *(o.name for o in checked.outputs)]
    for name in names:
        if name not in known:
            raise QuantityError(
                f"there is no channel or output {name[:40]!r}", valid=", ".join(known)
            )
    applier: Applier = Person(checked, names)
    if wishes.script is not None:
        applier = read_script(read_bytes(wishes.script), wishes.script, checked, plan)
    kept = kept_folder(setup, wishes.folder)
    stamp = datetime.now(UTC).strftime("%Y-%m-%dT%H%M%SZ")
    usual = device_folder(kept, checked.setup.device.serial) / f"{stamp}-proof.json"
    path = Path(wishes.record) if wishes.record else usual

    def show(result: StepResult) -> None:
        if not wishes.as_json:
            click.echo(str(result))

    attend = attend_options(checked, kept, armed=wishes.armed, quiet=True)
    with ExitStack() as stack:
        device = stack.enter_context(connect(checked, link=link))
        named = checked.setup.device
        warn_of_driven(device.require(named.model, named.serial), device.address)
        references = _references(wishes, setup, checked, device, link, stack)
        options = ProofOptions(
            path, user(), attend, references, wishes.instruments, _due(wishes.due), wishes.settle_s,
            wishes.period_s, wishes.alarm_s, on_step=show,
        )  # fmt: skip
        try:
            found = prove_setup(checked, device, plan, applier, options)
        except KeyboardInterrupt:
            if path.exists():
                click.echo(f"broken off; resume it with --record {path}", err=True)
            raise
        note_visit(device, kept, "prove")
    _print(found, before, path, wishes)
    return result_code(found)


def _points(checked: CheckedSetup, given: tuple[tuple[str, str], ...]) -> dict[str, list[float]]:
    found: dict[str, list[float]] = {}
    for name, value in given:
        if name not in [c.name for c in checked.channels]:
            valid = ", ".join(c.name for c in checked.channels)
            raise QuantityError(f"there is no channel {name!r}", valid=valid)
        number = parse_quantity(value).value_in(checked.channel(name).unit)
        found.setdefault(name, []).append(number)
    return found


def _due(given: str | None) -> date | None:
    try:
        return None if given is None else date.fromisoformat(given)
    except ValueError:
        raise QuantityError(f"{given!r} is not a date", valid="--due 2027-03-02") from None


def _references(
    wishes: ProofWishes,
    setup: str,
    checked: CheckedSetup,
    device: Device,
    link: LinkOptions,
    stack: ExitStack,
) -> dict[str, ReferenceChannel]:
    """The channels that are read as references; those of the same device over the same link."""
    found = {}
    for name, path, channel in wishes.references:
        if Path(path).resolve() == Path(setup).resolve():
            found[name] = ReferenceChannel(checked, device, channel)
        else:
            found[name] = stack.enter_context(reference_channel(path, channel, link))
    return found


def _print(found: ProofRecord, before: ProofRecord | None, path: Path, wishes: ProofWishes) -> None:
    drift = [] if before is None else drift_lines(before, found)
    if wishes.page is not None:
        from leitwerk.reports.record_report import record_report
        from leitwerk.reports.recording_report import ReportOptions
        from leitwerk.reports.report_text import write_report

        write_report(record_report(found, ReportOptions(kind=""), drift), Path(wishes.page))
    if wishes.as_json:
        echo_json({**found.model_dump(), "outcome": found.outcome.value, "drift": drift})
        return
    click.echo(found.summary())
    click.echo(f"record: {path}")
    if wishes.page is not None:
        click.echo(f"page: {wishes.page}")
    if drift:
        click.echo("\n".join(drift))
