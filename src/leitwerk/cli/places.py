"""leitwerk bind, leitwerk unbind and leitwerk places."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.listen import BATTERY
from leitwerk.cli.options import (
    JSON,
    asking_options,
    for_option,
    kept_folder,
    link_options,
    writing_options,
)

if TYPE_CHECKING:
    from collections.abc import Callable

    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.options import Writing
    from leitwerk.commissioning.first_value import FirstValue
    from leitwerk.commissioning.in_hand import Asking
    from leitwerk.commissioning.place_list import ListedPlace, PlaceList
    from leitwerk.devices.device import Device
    from leitwerk.devices.listening import HeardTelegram
    from leitwerk.links.options import LinkOptions

_HEADS = ("Place", "Number", "Name", "Kind", "Value", "Age", "Strength", "Battery", "Paths")


@click.command()
@click.argument("setup")
@click.argument("number", metavar="[ID]", required=False)
@click.option("--place", metavar="N", help="The place; the first free one if not given.")
@click.option("--kind", metavar="KIND", help="What it is; as it says itself, if not given.")
@click.option("--label", "name", metavar="TEXT", help="What people call it.")
@click.option("--channel", metavar="NAME", help="The channel that it feeds.")
@click.option(
    "--replace", "replaces", is_flag=True, help="In place of the one that is bound there."
)
@for_option("How long to wait for its first value.", "30 s")
@asking_options
@writing_options
@link_options(2.0)
def bind(
    setup: str,
    number: str | None,
    *,
    place: str | None,
    kind: str | None,
    name: str | None,
    channel: str | None,
    replaces: bool,
    duration_s: float,
    asking: Asking,
    writing: Writing,
    link: LinkOptions,
) -> int:
    """Bind the transmitter ID, as it stands on its label, to a place of the receiver of SETUP.

    Leading zeros and separators do not matter. Without an ID, it is the one in the hand: you are asked to
    operate it, as by 'leitwerk single-out', and nothing is bound if it is not found.

    It is refused, with the reason, if the number has a wrong check digit, is bound already (here, or by the
    setup of another receiver of the project), or the place is taken. It is stored in the receiver, read back,
    and written into the setup file; then its first value is waited for, and its channel is judged as by
    'leitwerk live'.

    Exit code 0: bound, and heard with a value that is as expected. 1: not found, or bound and not heard, or
    not as expected. 2: usage, or refused. 3: not reached. 4: the receiver refused.
    """
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.commissioning.binding import Wish
    from leitwerk.commissioning.binding import bind as bind_one
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    named = checked.setup.device
    with connect(checked, link=link) as device:
        device.require(named.model, named.serial)
        if number is None:
            number, said = _in_hand(checked, device, asking)
            if number is None:
                return FOUND
        else:
            waits = checked.setup.places.get(place or "")
            is_said = kind is not None or replaces or (waits is not None and waits.kind is not None)
            said = None if is_said else _said_by_itself(device, number, duration_s)
        wish = Wish(number, place, kind or said, name, channel, replaces)
        passwords = passwords_of(named.model, named.serial)
        bound = bind_one(checked, device, wish, writing.options(setup, passwords))
        click.echo(f"bound: {number} at place {bound.place}, read back and written to {setup}")
        note_visit(device, kept_folder(setup, None), f"bind {number}")
        first = _first_value(bound.setup, device, bound.place, bound.number, duration_s)
    _print_first(first, bound.setup, duration_s)
    return FINE if first.ok else FOUND


def _in_hand(
    checked: CheckedSetup, device: Device, asking: Asking
) -> tuple[str | None, str | None]:
    """Number and kind of the one in the hand; what is known of it is printed."""
    from leitwerk.cli.listen import ask_for_it, print_singled
    from leitwerk.commissioning.binding import names_of
    from leitwerk.devices.listening import listening

    names = names_of(checked)
    with listening(device) as listener:
        found = ask_for_it(listener, names, asking)
    print_singled(found, listener, names)
    if found.number is None:
        return None, None
    kind = listener.air.heard[found.number].last.kind
    return listener.telegrams.ids.write(found.number), kind


def _said_by_itself(device: Device, label: str, wait_s: float) -> str | None:
    """What a transmitter says that it is; None if it is not heard in time."""
    from leitwerk.devices.listening import telegrams_of_model

    number = telegrams_of_model(device.datasheet).ids.read(label)
    click.echo("waiting for it, to see what it is: press its send key", err=True)
    heard = _wait(device, number, wait_s)
    return None if heard is None else heard.telegram.kind


def _wait(device: Device, number: int, wait_s: float) -> HeardTelegram | None:
    from leitwerk.commissioning.first_value import wait_for_first
    from leitwerk.devices.listening import listening

    with listening(device) as listener:
        return wait_for_first(listener, number, wait_s)


def _first_value(
    checked: CheckedSetup, device: Device, place: str, number: int, wait_s: float
) -> FirstValue:
    from leitwerk.commissioning.first_value import FirstValue, judge_first

    click.echo("waiting for its first value: press its send key", err=True)
    heard = _wait(device, number, wait_s)
    return FirstValue(None) if heard is None else judge_first(checked, device, place, heard)


def _print_first(first: FirstValue, checked: CheckedSetup, wait_s: float) -> None:
    from leitwerk.cli.printing import print_line
    from leitwerk.commissioning.first_value import NOTHING_CAME
    from leitwerk.devices.listening import telegrams_of_model
    from leitwerk.evaluation.verdict import Verdict

    if first.heard is None:
        click.echo(f"not heard within {wait_s:g} s:")
        for text in NOTHING_CAME:
            click.echo(f"  {text}")
        return
    telegram = first.heard.telegram
    form = telegrams_of_model(checked.datasheet).form
    click.echo(f"heard: {telegram.kind} {form.shown(telegram)}")
    if first.wrong_kind:
        click.echo(first.wrong_kind)
    report = first.report
    if report is not None:
        value = f"{report.shown(report.last)} {report.unit}".rstrip()
        words = {Verdict.PASS: "as expected", Verdict.FAIL: "not as expected"}
        verdict = words.get(report.verdict, report.verdict.value)
        print_line(
            f"{report.name}: {value}, {verdict}" + (f": {report.reason}" if report.reason else ""),
            2,
        )


@click.command()
@click.argument("setup")
@click.argument("place")
@writing_options
@link_options(2.0)
def unbind(setup: str, place: str, *, writing: Writing, link: LinkOptions) -> int:
    """Free PLACE of the receiver of SETUP, in the receiver and in the setup file.

    Exit code 0: free. 2: usage. 3: not reached. 4: the receiver refused.
    """
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.commissioning.binding import unbind as unbind_one
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    named = checked.setup.device
    with connect(checked, link=link) as device:
        device.require(named.model, named.serial)
        passwords = passwords_of(named.model, named.serial)
        unbind_one(checked, device, place, writing.options(setup, passwords))
        note_visit(device, kept_folder(setup, None), f"unbind place {place}")
    click.echo(f"place {place} is free, in the receiver and in {setup}")
    return FINE


@click.command()
@click.argument("setup")
@for_option("How long to listen.", "30 s")
@click.option(
    "--figure",
    type=click.Path(path_type=Path),
    help="Draw which transmitters come over which relay: PNG or SVG.",
)
@JSON
@link_options(2.0)
def places(
    setup: str, *, duration_s: float, figure: Path | None, as_json: bool, link: LinkOptions
) -> int:
    """List the places of the receiver of SETUP: what is bound there, its value, over which paths it comes.

    Found are places that the receiver holds otherwise than the setup says; transmitters that are silent
    against their own interval, weak, not heard, or have a low battery; a number that two transmitters send;
    and relays that double the traffic or repeat each other. Transmitters that are not bound are counted only.

    Exit code 0: nothing odd. 1: something odd. 2: usage. 3: not reached.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.commissioning.place_list import list_places
    from leitwerk.devices.device import connect
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    with connect(checked, link=link) as device:
        device.require(checked.setup.device.model, checked.setup.device.serial)
        listed = list_places(checked, device, duration_s)
    if figure is not None:
        from leitwerk.reports.path_figure import draw_paths

        draw_paths(listed, figure)
    if as_json:
        echo_json(listed.to_dict())
    else:
        _print_list(listed, checked)
    return FOUND if listed.odd else FINE


def _print_list(listed: PlaceList, checked: CheckedSetup) -> None:
    from leitwerk.cli.printing import print_columns, print_line
    from leitwerk.devices.listening import telegrams_of_model

    received = telegrams_of_model(checked.datasheet)
    radio = "".join(f", {key} {value}" for key, value in listed.radio.items())
    print_line(f"{listed.receiver}{radio}; {listed.bound} of {listed.capacity} places are bound", 2)
    print_columns(
        _HEADS, (_cells(entry, received.ids.write, received.unit) for entry in listed.places)
    )
    click.echo()
    for path, use in listed.paths().items():
        more = [f"{use.strangers} that are not bound"] if use.strangers else []
        print_line(f"{path}: {', '.join([*use.names, *more])}", 2)
    click.echo(f"{len(listed.strangers)} transmitters that are not bound are heard")
    for one in listed.odd:
        print_line(one.message, 2)


def _cells(entry: ListedPlace, write: Callable[[int], str], unit: str) -> tuple[str, ...]:
    one = entry.heard
    number = entry.label or (write(entry.number) if entry.number else "waits")
    return (
        str(entry.place),
        number,
        entry.name,
        entry.kind,
        entry.value,
        "" if entry.age_s is None else f"{entry.age_s:.0f} s",
        "" if one is None or one.last.strength is None else f"{one.last.strength:g} {unit}",
        "" if one is None else BATTERY[one.last.battery_low],
        "" if one is None else ", ".join(map(str, sorted(one.paths))),
    )
