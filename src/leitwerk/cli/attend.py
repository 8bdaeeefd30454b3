"""leitwerk attend and acknowledge."""

from __future__ import annotations

from contextlib import suppress
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import (
    DURATION,
    every_option,
    folder_option,
    for_option,
    kept_folder,
    link_options,
    user,
)

if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path

    from leitwerk.check.checked import CheckedSetup
    from leitwerk.links.options import LinkOptions
    from leitwerk.monitoring.attendant import AttendOptions
    from leitwerk.monitoring.events import Event

FOLDER = folder_option("log and messages")
ARM = click.option("--arm", is_flag=True, help="Allow that outputs are switched.")


@click.command()
@click.argument("setup")
@for_option("End after that time; else with Ctrl+C.")
@every_option("1 s")
@ARM
@FOLDER
@link_options(2.0)
def attend(
    setup: str,
    *,
    duration_s: float | None,
    period_s: float,
    arm: bool,
    folder: str | None,
    link: LinkOptions,
) -> int:
    """Follow the alarms and rules of SETUP on this computer, and carry out their actions.

    An action that switches an output is only reported, unless this is armed. At the end, every
    output that was switched from here goes to its safe state.

    Exit code 0: ended as asked. 1: the setup has errors. 2: usage. 3: device not reached. 4: an output could
    not be made safe.
    """
    import math

    from leitwerk.cli.devices import warn_of_driven
    from leitwerk.devices.device import connect
    from leitwerk.monitoring.attendant import Attendant
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    options = attend_options(checked, kept_folder(setup, folder), armed=arm, quiet=False)
    with connect(checked, link=link) as device:
        named = checked.setup.device
        warn_of_driven(device.require(named.model, named.serial), device.address)
        attendant = Attendant(checked, device, options)
        alarms = len(attendant.situation.board.watched)
        armed = "outputs are armed" if arm else "outputs are not armed"
        title, rules = checked.setup.title, len(checked.rules)
        click.echo(f"{title}: {alarms} alarms, {rules} rules, {armed}", err=True)
        try:
            attendant.attend(period_s=period_s, duration_s=duration_s or math.inf)
        except KeyboardInterrupt:
            click.echo("ended by a signal", err=True)
    with suppress(OSError):  # the terminal may be gone
        if arm:
            click.echo("outputs that were switched from here are safe", err=True)
    outbox = attendant.messenger.outbox
    if len(outbox):
        click.echo(f"{len(outbox)} messages wait in {outbox.folder}", err=True)
    return FINE


def attend_options(
    checked: CheckedSetup, folder: Path, *, armed: bool, quiet: bool
) -> AttendOptions:
    """How a device is attended from the command line: events are printed, unless it is quiet."""
    from leitwerk.cli.options import user
    from leitwerk.monitoring.attendant import AttendOptions

    on_event = (lambda event: None) if quiet else print_event
    passwords = _passwords(checked, armed=armed)
    return AttendOptions(folder, armed=armed, passwords=passwords, by=user(), on_event=on_event)


def _passwords(checked: CheckedSetup, *, armed: bool) -> Mapping[str, str]:
    """What will be needed, asked for now: later there may be no person at the terminal."""
    from leitwerk.cli.password import passwords_of
    from leitwerk.monitoring.attendant import needs_login

    device, role = checked.setup.device, checked.datasheet.role
    passwords = passwords_of(device.model, device.serial)
    return {role: passwords[role]} if needs_login(checked, armed=armed) else passwords


def print_event(event: Event) -> None:
    """Print an event as one line, on standard error."""
    from leitwerk.cli.printing import print_line

    line = str(event)
    print_line(line, len(line) - len(event.text), err=True)


@click.command()
@click.argument("setup")
@click.argument("alarm")
@click.option(
    "--reset", "word", flag_value="reset", help="Reset an alarm that is latched and acknowledged."
)
@click.option("--shelve", "lasts_s", type=DURATION, metavar="TIME", help="Hide it for that time.")
@click.option("--unshelve", "word", flag_value="unshelve", help="Show it again.")
@click.option("--out", "word", flag_value="take out of service", help="Take it out of service.")
@click.option(
    "--back", "word", flag_value="put back into service", help="Put it back into service."
)
@click.option("--note", metavar="TEXT", help="What is to be kept beside it.")
@FOLDER
def acknowledge(
    setup: str,
    alarm: str,
    *,
    word: str | None,
    lasts_s: float | None,
    note: str | None,
    folder: str | None,
) -> int:
    """Acknowledge ALARM (channel.alarm) of SETUP, where 'leitwerk attend' runs.

    Exit code 0: asked for. 2: usage, or there is no such alarm.
    """
    from leitwerk.alarms.states import OperatorAction
    from leitwerk.errors import QuantityError
    from leitwerk.monitoring.operator_requests import (
        LONGEST_NOTE,
        OperatorRequest,
        request_action,
    )
    from leitwerk.project.setups import read_setup

    if word and lasts_s:
        raise click.UsageError("only one of the options at a time")
    checked = read_setup(setup)
    known = [name for channel in checked.channels for name, _ in channel.named_alarms()]
    if alarm not in known:
        raise QuantityError(f"there is no alarm {alarm[:60]!r}", valid=", ".join(known[:12]))
    action = OperatorAction.SHELVE if lasts_s else OperatorAction(word or "acknowledge")
    serial = checked.setup.device.serial
    if note is not None and len(note) > LONGEST_NOTE:
        raise QuantityError("the note is too long", valid=f"at most {LONGEST_NOTE} characters")
    asked = OperatorRequest(
        alarm=alarm, action=action, lasts_s=lasts_s or 0.0, by=user()[:100], note=note or ""
    )
    request_action(kept_folder(setup, folder), serial, asked)
    click.echo(f"{alarm}: {action.value}, asked for", err=True)
    return FINE
