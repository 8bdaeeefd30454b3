"""leitwerk listen, leitwerk single-out, leitwerk bind, leitwerk unbind and leitwerk places."""

from __future__ import annotations

import json
import math
import random
import sys
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import (
    DURATION,
    JSON,
    MODEL,
    for_option,
    kept_folder,
    link_options,
    writing_options,
)

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping

    from rich.table import Table

    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.options import Writing
    from leitwerk.commissioning.binding import Bound
    from leitwerk.devices.device import Device
    from leitwerk.devices.listening import HeardTelegram, Listener
    from leitwerk.links.options import LinkOptions
    from leitwerk.wireless.air import Air
    from leitwerk.wireless.singling_out import Singled

_REFRESH_S = 0.5
_PAUSES = (0.5, 2.5)  # of the time to operate it
_HEADS = (
    "", "Number", "Name", "Kind", "Value", "Strength", "Way", "Battery", "Age", "Times", "Every",
)  # fmt: skip
_WIDE = 100  # from so many columns on, the last two are shown, too
_PLACE_KEYS = ("place", "id", "label", "kind", "value", "way")
_NEW_S = 10.0  # for so long one that was heard for the first time stands out


@click.command()
@click.argument("where")
@for_option("How long to listen; until you end it, if not given.")
@MODEL
@JSON
@link_options(2.0)
def listen(
    where: str, *, duration_s: float | None, model: str | None, as_json: bool, link: LinkOptions
) -> int:
    """Listen to all wireless transmitters that the receiver at WHERE hears, bound or not.

    WHERE is a setup file, an address, or a name of the inventory. On a terminal, a table is kept up to date;
    what was heard for the first time stands out. Otherwise each telegram is a line. Nothing is bound.

    Exit code 0: something was heard. 1: nothing was. 2: usage. 3: not reached.
    """
    from leitwerk.devices.listening import listening

    with _opened(where, model, link) as (device, names), listening(device) as listener:
        endless = duration_s is None
        with suppress(KeyboardInterrupt):
            if sys.stdout.isatty() and not as_json:
                _show_table(listener, names, 1e9 if endless else float(duration_s or 0.0))
            else:
                for heard in listener.hear(1e9 if endless else float(duration_s or 0.0)):
                    _print_line(heard, listener, names, as_json=as_json)
        reader, air = listener.reader, listener.air
        text = f"{len(air.heard)} transmitters, {reader.good} telegrams, {reader.wrong} disturbed"
        more = f", {air.not_remembered} of further transmitters" if air.not_remembered else ""
        click.echo(text + more, err=True)
        return FINE if air.heard else FOUND


@contextmanager
def _opened(
    where: str, model: str | None, link: LinkOptions
) -> Iterator[tuple[Device, Mapping[int, str]]]:
    """A device, and the names of the transmitters that its setup binds, where one is named."""
    from leitwerk.cli.devices import open_where
    from leitwerk.commissioning.binding import names_of
    from leitwerk.project.files import names_file
    from leitwerk.project.setups import read_setup

    names = names_of(read_setup(where)) if names_file(where) else {}
    with open_where(where, model, link) as device:
        yield device, names


def _print_line(
    heard: HeardTelegram, listener: Listener, names: Mapping[int, str], *, as_json: bool
) -> None:
    one = listener.air.heard.get(heard.telegram.number)
    if one is None:
        return
    if as_json:
        entry = {**one.to_dict(listener.now_s), "name": names.get(one.number)}
        click.echo(json.dumps(entry, ensure_ascii=False))
        return
    t = heard.telegram
    new = "NEW " if one.times == 1 and one.copies == 0 else ""
    who = names.get(one.number, "")
    value = _value(t.kind, t.value, listener)
    low = ", low battery" if t.battery_low else ""
    over = f", {t.way} ({t.relay})" if t.relay else ""
    click.echo(
        f"{new}{listener.telegrams.ids.write(one.number)} {t.kind} {value}, {t.strength:g} "
        f"{listener.telegrams.unit}{over}{low}{'  ' + who if who else ''}"
        if t.strength is not None
        else f"{new}{listener.telegrams.ids.write(one.number)} {t.kind} {value}{over}{low}  {who}".rstrip()
    )


def _value(kind: str, value: float | str | None, listener: Listener) -> str:
    if value is None:
        return "no value"
    field = listener.telegrams.form.values.get(kind)
    unit = "" if field is None or isinstance(value, str) else field.unit
    return f"{value} {unit}".rstrip()


def _show_table(listener: Listener, names: Mapping[int, str], duration_s: float) -> None:
    """A table of all that were heard, refreshed until the end."""
    from rich.live import Live

    from leitwerk.cli.tables import console

    end = listener.now_s + duration_s
    terminal = console()
    with Live(console=terminal, auto_refresh=False, vertical_overflow="crop") as live:
        while (left := end - listener.now_s) > 0.0:
            for _ in listener.hear(min(_REFRESH_S, left)):
                pass
            live.update(_table(listener, names, wide=terminal.width >= _WIDE), refresh=True)


def _table(listener: Listener, names: Mapping[int, str], *, wide: bool) -> Table:
    from rich.box import SIMPLE_HEAD
    from rich.table import Table

    # Of a number, no digit may be cut.
    table = Table(box=SIMPLE_HEAD, show_edge=False, padding=0)
    shown = len(_HEADS) if wide else len(_HEADS) - 2
    for head in _HEADS[:shown]:
        table.add_column(head, no_wrap=True)
    now = listener.now_s
    order = sorted(listener.air.heard.values(), key=lambda one: (-one.first_s, one.number))
    for one in order:
        t, every = one.last, one.interval_s
        is_new = now - one.first_s < _NEW_S
        cells = (
            "new" if is_new else "",
            listener.telegrams.ids.write(one.number),
            names.get(one.number, "not bound"),
            t.kind,
            _value(t.kind, t.value, listener),
            "" if t.strength is None else f"{t.strength:g} {listener.telegrams.unit}",
            t.way + (f" ({t.relay})" if t.relay else ""),
            {None: "", True: "low", False: "good"}[t.battery_low],
            f"{now - one.last_s:.0f} s",
            f"{one.times}",
            "" if math.isnan(every) else f"{every:.0f} s",
        )
        table.add_row(*cells[:shown], style="bold" if is_new else "")
    return table


# ---------------------------------------------------------------------- the one in the hand


@click.command("single-out")
@click.argument("where")
@click.option("--quiet", "quiet_s", type=DURATION, default="30 s", show_default=True, metavar="TIME",
              help="How long to listen first, while nothing is operated.")  # fmt: skip
@click.option("--window", "window_s", type=DURATION, default="4 s", show_default=True, metavar="TIME",
              help="How long you have to operate it, each time.")  # fmt: skip
@click.option("--at-most", "most", type=click.IntRange(2, 20), default=8, show_default=True,
              help="How often to ask.")  # fmt: skip
@MODEL
@JSON
@link_options(2.0)
def single_out(
    where: str,
    *,
    quiet_s: float,
    window_s: float,
    most: int,
    model: str | None,
    as_json: bool,
    link: LinkOptions,
) -> int:
    """Find which transmitter is the one in the hand: operate it each time that you are asked.

    The one that was heard each time, and of which that is no chance, is it. Where several may be it, you are
    asked once more. None is chosen by chance: if they cannot be told apart, the candidates are printed with
    what to do.

    Exit code 0: it was found. 1: it was not. 2: usage. 3: not reached.
    """
    from leitwerk.cli.printing import echo_json

    with _opened(where, model, link) as (device, names):
        found, listener = _sing(device, names, quiet_s, window_s, most)
        write = listener.telegrams.ids.write
        one = None if found.number is None else listener.air.heard.get(found.number)
    if as_json:
        echo_json(
            {
                "number": found.number,
                "candidates": [
                    {"number": c.number, "hits": c.hits, "name": names.get(c.number)}
                    for c in found.candidates
                ],
                "step": found.step,
            }
        )
    elif one is not None:
        click.echo(
            f"it is {write(one.number)}, {one.last.kind} {names.get(one.number, '')}".rstrip()
        )
    else:
        click.echo("it is not known which one it is")
        for candidate in found.candidates:
            name = names.get(candidate.number, "")
            click.echo(f"  {write(candidate.number)}: heard {candidate.hits} times {name}".rstrip())
        click.echo(f"  {found.step}")
    return FINE if found.number is not None else FOUND


def _sing(
    device: Device, names: Mapping[int, str], quiet_s: float, window_s: float, most: int
) -> tuple[Singled, Listener]:
    """Ask, listen, decide; what is asked goes to standard error."""
    from leitwerk.devices.listening import listening
    from leitwerk.wireless.singling_out import SinglingOut

    with listening(device) as listener:
        tries = SinglingOut(says_operated="operated" in listener.telegrams.form.further)
        click.echo(f"listening for {quiet_s:g} s: do not operate it yet", err=True)
        tries.take_quiet(quiet_s, _heard(listener, quiet_s))
        found = tries.result(names)
        for number in range(1, most + 1):
            click.echo(f"{number}: operate it now ({window_s:g} s)", err=True)
            tries.take_operated(window_s, _heard(listener, window_s))
            found = tries.result(names)
            if found.number is not None:
                break
            click.echo(f"   {found.step}", err=True)
            # A pause of any length: what transmits in a rhythm must not fit to it.
            pause_s = window_s * random.uniform(*_PAUSES)  # noqa: S311 - no secret
            tries.take_quiet(pause_s, _heard(listener, pause_s))
        return found, listener


def _heard(listener: Listener, duration_s: float) -> Iterator[tuple[int, bool | None]]:
    """The numbers that are heard within a time, each telegram once, and whether they were operated."""
    counts: dict[int, int | None] = {}
    for heard in listener.hear(duration_s):
        t = heard.telegram
        if t.counter is not None and counts.get(t.number) == t.counter:
            continue
        counts[t.number] = t.counter
        yield t.number, t.operated


# ---------------------------------------------------------------------- places


@click.command()
@click.argument("setup")
@click.argument("number", metavar="ID")
@click.option("--place", metavar="N", help="The place; the first free one if not given.")
@click.option("--kind", metavar="KIND", help="What it is; as it says itself, if not given.")
@click.option("--label", "name", metavar="TEXT", help="What people call it.")
@click.option("--channel", metavar="NAME", help="The channel that it feeds.")
@click.option(
    "--replace", "replaces", is_flag=True, help="In place of the one that is bound there."
)
@for_option("How long to wait for its first value.", "30 s")
@writing_options
@link_options(2.0)
def bind(
    setup: str,
    number: str,
    *,
    place: str | None,
    kind: str | None,
    name: str | None,
    channel: str | None,
    replaces: bool,
    duration_s: float,
    writing: Writing,
    link: LinkOptions,
) -> int:
    """Bind the transmitter ID, as it stands on its label, to a place of the receiver of SETUP.

    Leading zeros and separators do not matter. It is refused, with the reason, if the number has a wrong
    check digit, is bound already (here, or by another setup beside this one), or the place is taken. It is
    stored in the receiver, read back, and written into the setup file; then its first value is waited for.

    Exit code 0: bound, and heard with a value that is as expected. 1: bound, and not heard, or not as
    expected. 2: usage, or refused. 3: not reached. 4: the receiver refused.
    """
    from leitwerk.cli.note_visit import note_visit
    from leitwerk.cli.password import passwords_of
    from leitwerk.commissioning.binding import Wish, wait_for_first
    from leitwerk.commissioning.binding import bind as bind_one
    from leitwerk.devices.device import connect
    from leitwerk.devices.listening import listening, telegrams_of_model
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    named = checked.setup.device
    with connect(checked, link=link) as device:
        device.require(named.model, named.serial)
        ids = telegrams_of_model(device.datasheet).ids
        wanted, first = ids.read(number), None
        waits = checked.setup.places.get(place or "")
        if kind is None and not replaces and (waits is None or waits.kind is None):
            click.echo("waiting for it, to see what it is: press its send key", err=True)
            with listening(device) as listener:
                first = wait_for_first(listener, wanted, duration_s)
            kind = None if first is None else first.telegram.kind
        wish = Wish(number, place, kind, name, channel, replaces)
        passwords = passwords_of(named.model, named.serial)
        bound = bind_one(checked, device, wish, writing.options(setup, passwords))
        click.echo(f"bound: {number} at place {bound.place}, read back and written to {setup}")
        note_visit(device, kept_folder(setup, None), f"bind {number}")
        return _first_value(bound, device, duration_s)


def _first_value(bound: Bound, device: Device, wait_s: float) -> int:
    """Wait until what was bound is heard, and hold its value against what is expected."""
    from leitwerk.commissioning.binding import NOTHING_CAME, wait_for_first
    from leitwerk.devices.listening import listening

    with listening(device) as listener:
        heard = wait_for_first(listener, bound.number, wait_s)
        if heard is None:
            click.echo(f"not heard within {wait_s:g} s:")
            for text in NOTHING_CAME:
                click.echo(f"  {text}")
            return FOUND
        value = _value(heard.telegram.kind, heard.telegram.value, listener)
    click.echo(f"heard: {heard.telegram.kind} {value}")
    entry = bound.setup.setup.places[bound.place]
    if entry.kind not in {None, heard.telegram.kind}:
        click.echo(f"it says that it is a {heard.telegram.kind}, the setup says {entry.kind}")
        return FOUND
    return _as_expected(bound, heard.telegram.value)


def _as_expected(bound: Bound, value: float | str | None) -> int:
    entry = bound.setup.setup.places[bound.place]
    channel = next((c for c in bound.setup.channels if c.name == entry.channel), None)
    expected = getattr(channel, "expected", None)
    if channel is None or expected is None or not isinstance(value, float):
        return FINE
    middle, within = expected
    fits = abs(value - middle) <= within
    verdict = "as expected" if fits else "not as expected"
    click.echo(f"{channel.name}: {verdict} ({middle:g} ± {within:g} {channel.symbol})")
    return FINE if fits else FOUND


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
@JSON
@link_options(2.0)
def places(setup: str, *, duration_s: float, as_json: bool, link: LinkOptions) -> int:
    """List the places of the receiver of SETUP: what is bound there, its value, and what is odd about it.

    Found are transmitters that are silent against their own interval, weak, or have a low battery, and relays
    that double the traffic or repeat each other. Transmitters that are not bound are counted only.

    Exit code 0: nothing odd. 1: something odd. 2: usage. 3: not reached.
    """
    from leitwerk.cli.printing import echo_json, print_columns
    from leitwerk.commissioning.binding import names_of
    from leitwerk.devices.device import connect
    from leitwerk.devices.listening import listening
    from leitwerk.project.setups import read_setup
    from leitwerk.wireless.air import AirLimits, oddities

    checked = read_setup(setup)
    names = names_of(checked)
    with connect(checked, link=link) as device:
        device.require(checked.setup.device.model, checked.setup.device.serial)
        with listening(device) as listener:
            for _ in listener.hear(duration_s):
                pass
            telegrams, air, now = listener.telegrams, listener.air, listener.now_s
            weak, unit = telegrams.weak, telegrams.unit
            limits = AirLimits(unit=unit) if weak is None else AirLimits(weak, unit)
            odd = list(oddities(air, names, now, limits, telegrams.ids.write))
            rows = list(_place_rows(checked, air, listener.telegrams.ids.read, listener))
    strangers = len(air.heard.keys() - names.keys())
    if as_json:
        echo_json(
            {
                "places": [dict(zip(_PLACE_KEYS, row, strict=True)) for row in rows],
                "strangers": strangers,
                "odd": [{"rule": rule, "message": text} for rule, text in odd],
            }
        )
    else:
        print_columns(("Place", "Number", "Name", "Kind", "Value", "Way"), rows)
        click.echo(f"{strangers} further transmitters are heard and not bound")
        for _, text in odd:
            click.echo(text)
    return FOUND if odd else FINE


def _place_rows(
    checked: CheckedSetup, air: Air, read: Callable[[str], int], listener: Listener
) -> Iterator[tuple[str, ...]]:
    for place, entry in sorted(checked.setup.places.items(), key=lambda item: int(item[0])):
        one = None if entry.id is None else air.heard.get(read(entry.id))
        value = "not heard" if one is None else _value(one.last.kind, one.last.value, listener)
        ways = "" if one is None else ", ".join(
            "direct" if not relay else f"relay {relay}" for relay in sorted(one.relays)
        )  # fmt: skip
        yield (
            place,
            entry.id or "waits",
            entry.label or entry.channel or "",
            entry.kind or "",
            value,
            ways,
        )
