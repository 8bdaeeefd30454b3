"""leitwerk listen and leitwerk single-out."""

from __future__ import annotations

import json
import math
import sys
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND
from leitwerk.cli.options import JSON, MODEL, asking_options, for_option, link_options

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from rich.table import Table

    from leitwerk.commissioning.in_hand import Asking
    from leitwerk.devices.device import Device
    from leitwerk.devices.listening import HeardTelegram, Listener
    from leitwerk.links.options import LinkOptions
    from leitwerk.wireless.singling_out import Singled

BATTERY = {None: "", True: "low", False: "good"}  # in words
_REFRESH_S = 0.5
_HEADS = (
    "", "Number", "Name", "Kind", "Value", "Strength", "Way", "Battery", "Age", "Times", "Every",
)  # fmt: skip
_WIDE = 100  # from so many columns on, the last two are shown, too
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
    value = listener.telegrams.form.shown(t)
    low = ", low battery" if t.battery_low else ""
    over = f", {t.way} ({t.relay})" if t.relay else ""
    click.echo(
        f"{new}{listener.telegrams.ids.write(one.number)} {t.kind} {value}, {t.strength:g} "
        f"{listener.telegrams.unit}{over}{low}{'  ' + who if who else ''}"
        if t.strength is not None
        else f"{new}{listener.telegrams.ids.write(one.number)} {t.kind} {value}{over}{low}  {who}".rstrip()
    )


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
            listener.telegrams.form.shown(t),
            "" if t.strength is None else f"{t.strength:g} {listener.telegrams.unit}",
            t.way + (f" ({t.relay})" if t.relay else ""),
            BATTERY[t.battery_low],
            f"{now - one.last_s:.0f} s",
            f"{one.times}",
            "" if math.isnan(every) else f"{every:.0f} s",
        )
        table.add_row(*cells[:shown], style="bold" if is_new else "")
    return table


# ---------------------------------------------------------------------- the one in the hand


@click.command("single-out")
@click.argument("where")
@asking_options
@MODEL
@JSON
@link_options(2.0)
def single_out(
    where: str,
    *,
    asking: Asking,
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
    from leitwerk.devices.listening import listening

    with _opened(where, model, link) as (device, names), listening(device) as listener:
        found = ask_for_it(listener, names, asking)
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
    else:
        print_singled(found, listener, names)
    return FINE if found.number is not None else FOUND


def ask_for_it(listener: Listener, names: Mapping[int, str], asking: Asking) -> Singled:
    """Single out the one in the hand; what is to be done goes to standard error."""
    from leitwerk.commissioning.in_hand import single_out as single_out_one

    return single_out_one(listener, asking, lambda line: click.echo(line, err=True), names)


def print_singled(found: Singled, listener: Listener, names: Mapping[int, str]) -> None:
    """Print which one it is; the candidates and what to do if that is not known."""
    write = listener.telegrams.ids.write
    if found.number is not None:
        one = listener.air.heard[found.number]
        click.echo(
            f"it is {write(one.number)}, {one.last.kind} {names.get(one.number, '')}".rstrip()
        )
        return
    click.echo("it is not known which one it is")
    for candidate in found.candidates:
        name = names.get(candidate.number, "")
        click.echo(f"  {write(candidate.number)}: heard {candidate.hits} times {name}".rstrip())
    click.echo(f"  {found.step}")
