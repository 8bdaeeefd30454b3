"""leitwerk attend, acknowledge and prove."""

from __future__ import annotations

from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND, reports_errors
from leitwerk.cli.options import DURATION, link_options

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from leitwerk.commissioning.alarm_proof import Proof
    from leitwerk.links.options import LinkOptions
    from leitwerk.monitoring.attendant import AttendOptions
    from leitwerk.monitoring.events import Event
    from leitwerk.setup.model import Setup

_KEEP = click.option("--keep", metavar="FOLDER", help="For log and messages, not 'kept'.")
_ARM = click.option("--arm", is_flag=True, help="Outputs may really be switched.")
_EVERY = click.option(
    "--every", "period_s", default="1 s", show_default=True, type=DURATION, metavar="TIME",
    help="Time from poll to poll.",
)  # fmt: skip


def _folder(setup: str, keep: str | None) -> Path:
    return Path(keep) if keep else Path(setup).parent / "kept"


def _means(wanted: Setup, folder: Path, *, armed: bool, quiet: bool) -> AttendOptions:
    from leitwerk.cli.options import user
    from leitwerk.monitoring.attendant import AttendOptions

    told = (lambda event: None) if quiet else _tell
    passwords = _passwords(wanted, armed=armed)
    return AttendOptions(folder, armed=armed, passwords=passwords, told=told, by=user())


def _passwords(wanted: Setup, *, armed: bool) -> Mapping[str, str]:
    """What will be needed, asked for now: later nobody may be there."""
    from leitwerk.cli.password import passwords_of
    from leitwerk.project.library import find_datasheet
    from leitwerk.rules.definition import ChangeSetting, ControlRecording

    every = passwords_of(wanted.device.model, wanted.device.serial)
    role = find_datasheet(wanted.device.model).role
    actions = [action for rule in wanted.rules.values() for action in (*rule.do, *rule.escalate)]
    needs = wanted.schedule or any(isinstance(a, ChangeSetting | ControlRecording) for a in actions)
    return {role: every[role]} if role and (armed or needs) else every


def _tell(event: Event) -> None:
    click.echo(str(event), err=True)


@click.command()
@click.argument("setup")
@click.option(
    "--for", "duration_s", type=DURATION, metavar="TIME", help="End after that; else with Ctrl+C."
)
@_EVERY
@_ARM
@_KEEP
@reports_errors
@link_options(2.0)
def attend(
    setup: str,
    *,
    duration_s: float | None,
    period_s: float,
    arm: bool,
    keep: str | None,
    link: LinkOptions,
) -> int:
    """Follow the alarms and rules of SETUP on this computer, and do what is due.

    What moves things (outputs) is only told, not done, unless this is armed; when it ends, every
    output that it switched goes to its safe state.

    Exit code 0: ended as asked. 1: the setup has errors. 2: usage. 3: device not reached.
    """
    import math
    import signal

    from leitwerk.devices.device import connect
    from leitwerk.monitoring.attendant import Attendant
    from leitwerk.project.setups import read_setup

    wanted = read_setup(setup)
    means = _means(wanted, _folder(setup, keep), armed=arm, quiet=False)
    with connect(wanted, link=link) as device:
        attendant = Attendant(wanted, device, means)
        rules, alarms = len(attendant.engine.rules), len(attendant.situation.board.watched)
        armed = "outputs are armed" if arm else "outputs are not armed"
        click.echo(f"{wanted.title}: {alarms} alarms, {rules} rules, {armed}", err=True)
        # Whoever ends a service sends this signal; outputs must be made safe then, too.
        signal.signal(signal.SIGTERM, signal.default_int_handler)
        try:
            attendant.attend(period_s=period_s, duration_s=duration_s or math.inf)
        except KeyboardInterrupt:
            click.echo("ended by a signal; outputs are safe", err=True)
    if len(attendant.post.outbox):
        click.echo(
            f"{len(attendant.post.outbox)} messages wait in {attendant.post.outbox.folder}",
            err=True,
        )
    return FINE


@click.command()
@click.argument("setup")
@click.argument("alarm")
@click.option(
    "--reset", "act", flag_value="reset", help="Reset one that is latched and acknowledged."
)
@click.option(
    "--shelve", "lasts_s", type=DURATION, metavar="TIME", help="Put it out of sight for so long."
)
@click.option("--unshelve", "act", flag_value="unshelve", help="Bring it back into sight.")
@click.option("--out", "act", flag_value="take out of service", help="Take it out of service.")
@click.option("--back", "act", flag_value="put back into service", help="Put it back into service.")
@_KEEP
@reports_errors
def acknowledge(
    setup: str, alarm: str, *, act: str | None, lasts_s: float | None, keep: str | None
) -> int:
    """Tell whoever attends SETUP's device that ALARM (channel.alarm) has been seen.

    Exit code 0: asked for. 2: usage, or there is no such alarm.
    """
    from leitwerk.alarms.states import OperatorAction
    from leitwerk.errors import QuantityError
    from leitwerk.monitoring.operator_acts import request_act
    from leitwerk.project.setups import assign_setup, read_setup

    if act and lasts_s:
        raise click.UsageError("one act at a time")
    wanted = read_setup(setup)
    known = [f"{c.name}.{a.name}" for c in assign_setup(wanted) for a in c.alarms]
    if alarm not in known:
        raise QuantityError(f"there is no alarm {alarm[:60]!r}", valid=", ".join(known[:12]))
    chosen = OperatorAction.SHELVE if lasts_s else OperatorAction(act or OperatorAction.ACKNOWLEDGE)
    request_act(_folder(setup, keep), wanted.device.serial, alarm, chosen, lasts_s or 0.0)
    click.echo(f"{alarm}: {chosen.value}, asked for", err=True)
    return FINE


@click.command()
@click.argument("setup")
@click.argument("alarm")
@click.option(
    "--for", "duration_s", default="10 min", show_default=True, type=DURATION, metavar="TIME",
    help="Wait so long for all of it.",
)  # fmt: skip
@click.option(
    "--every", "period_s", default="0.5 s", show_default=True, type=DURATION, metavar="TIME",
    help="Time from poll to poll.",
)  # fmt: skip
@_ARM
@click.option(
    "--simulated",
    is_flag=True,
    help="On a stand-in that warms its sensor by itself, with services.",
)
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@_KEEP
@reports_errors
@link_options(2.0)
def prove(
    setup: str,
    alarm: str,
    *,
    duration_s: float,
    period_s: float,
    arm: bool,
    simulated: bool,
    as_json: bool,
    keep: str | None,
    link: LinkOptions,
) -> int:
    """Watch ALARM (channel.alarm) trip and clear, and say what happened and what did not.

    Warm the sensor, wait, and let it cool again. Each thing that the setup promises is looked for:
    the trip after its delay, the device's own alarm, outputs, messages, the clear at its point.

    Exit code 0: all of it happened. 1: something did not. 2: usage. 3: device not reached.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.project.setups import read_setup

    wanted = read_setup(setup)
    times = {"duration_s": duration_s, "period_s": period_s}
    if simulated:
        with _warmed(wanted, alarm, link, quiet=as_json) as (copy, means):
            found = _prove(copy, alarm, means, link, **times)
    else:
        means = _means(wanted, _folder(setup, keep), armed=arm, quiet=as_json)
        found = _prove(wanted, alarm, means, link, **times)
    if as_json:
        echo_json(found.to_dict())
    else:
        _print_proof(found)
    return FINE if found.passed else FOUND


def _print_proof(found: Proof) -> None:
    from rich.text import Text

    from leitwerk.cli.printing import console

    out = console()
    head, *steps, end = str(found).splitlines()
    out.print(f"\n{head}", style="bold", markup=False)
    for step, line in zip(found.steps, steps, strict=True):
        text = Text(line)
        text.stylize("green" if step.ok else "bold red", 0, 9)
        out.print(text)
    out.print(end, style="bold green" if found.passed else "bold red", markup=False)


def _prove(
    wanted: Setup,
    alarm: str,
    means: AttendOptions,
    link: LinkOptions,
    *,
    duration_s: float,
    period_s: float,
) -> Proof:
    from leitwerk.commissioning.alarm_proof import prove as watch
    from leitwerk.devices.device import connect

    with connect(wanted, link=link) as device:
        return watch(wanted, device, means, alarm, duration_s=duration_s, period_s=period_s)


@contextmanager
def _warmed(
    wanted: Setup, alarm: str, link: LinkOptions, *, quiet: bool
) -> Iterator[tuple[Setup, AttendOptions]]:
    """The setup on a stand-in that holds it already, and how it is attended."""
    from leitwerk.commissioning.alarm_proof import warming
    from leitwerk.devices.device import connect
    from leitwerk.errors import QuantityError
    from leitwerk.monitoring.attendant import AttendOptions
    from leitwerk.project.setups import assign_setup
    from leitwerk.standins.warmed import passwords_of, simulated
    from leitwerk.transfer.upload import upload

    channel_name, _, name = alarm.partition(".")
    channel = next((c for c in assign_setup(wanted) if c.name == channel_name), None)
    point = next((a for a in channel.alarms if a.name == name), None) if channel else None
    if channel is None or point is None:
        raise QuantityError(f"this setup has no alarm {alarm[:60]!r}", valid="channel.alarm")
    with simulated(wanted, channel.terminal, warming(point, channel)) as one:
        passwords = passwords_of(wanted)
        with connect(one.setup, link=link) as device:
            upload(one.setup, device, keep=one.folder, passwords=passwords, by="simulation")
        told = (lambda event: None) if quiet else _tell
        yield one.setup, AttendOptions(one.folder, armed=True, passwords=passwords, told=told)
