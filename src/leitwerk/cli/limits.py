"""leitwerk limits."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import JSON

if TYPE_CHECKING:
    from leitwerk.setup.limits import LimitSet


@click.group()
def limits() -> None:
    """Show limit sets: which there are, their alarms, and those that a setup uses."""


@limits.command("list")
@JSON
def list_sets(*, as_json: bool) -> int:
    """List the limit sets, with the parameters that each needs.

    Exit code 0: done.
    """
    from leitwerk.cli.printing import echo_json, print_columns
    from leitwerk.project.library import find_limits, known_limits

    sets = [find_limits(name) for name in known_limits()]
    if as_json:
        echo_json([_set_dict(one) for one in sets])
        return FINE
    rows = [(s.name, " ".join(s.parameters), s.summary) for s in sets]
    print_columns(("Set", "Parameters", "What it is"), rows)
    return FINE


@limits.command()
@click.argument("name")
@click.argument("parameters", nargs=-1, metavar="[NAME=VALUE]…")
@JSON
def show(name: str, parameters: tuple[str, ...], *, as_json: bool) -> int:
    """Show the alarms, settings and shares of the set NAME: battery cells=6 chemistry=lead.

    Exit code 0: done. 2: usage.
    """
    from leitwerk.cli.printing import echo_json
    from leitwerk.errors import QuantityError
    from leitwerk.project.library import find_limits

    given = {}
    for text in parameters:
        parameter, equals, value = text.partition("=")
        if not equals:
            message = f"{text[:40]!r} is not a parameter"
            raise QuantityError(message, valid="NAME=VALUE, such as cells=6")
        given[parameter] = value
    chosen = find_limits(name)
    alarms, settings = chosen.expand(given), chosen.settings_for(given)
    shares = chosen.shares_for(given, ("u1", "u2", "u3"))
    if as_json:
        echo_json({**_set_dict(chosen), "alarms": alarms, "settings": settings, "shares": shares})
        return FINE
    click.echo(f"{chosen.name}: {chosen.summary}\nsource: {chosen.source}")
    for alarm, entries in alarms.items():
        shown = ", ".join(f"{key}: {value}" for key, value in entries.items())
        click.echo(f"  {alarm}: {{{shown}}}")
    for setting, text in settings.items():
        click.echo(f"  {setting}: {text}")
    for share, entries in shares.items():
        click.echo(
            f"  {share}: {', '.join(entries['channels'])} within {entries['within']}, "
            f"{entries['at_least']} of the intervals of {entries['each']}"
        )
    return FINE


@limits.command()
@click.argument("setup")
@JSON
def used(setup: str, *, as_json: bool) -> int:
    """Show all alarms of SETUP in numbers, the set each comes from, and what the setup changes.

    Exit code 0: done. 1: the setup has errors. 2: usage.
    """
    from leitwerk.cli.printing import echo_json, print_columns

    rows = _alarms_of(setup)
    if as_json:
        echo_json(rows)
        return FINE
    columns = ("alarm", "trips", "clears", "after", "from", "own")
    print_columns(
        tuple(c.capitalize() for c in columns), [tuple(r[c] for c in columns) for r in rows]
    )
    return FINE


def _set_dict(one: LimitSet) -> dict[str, object]:
    return {
        "set": one.name,
        "summary": one.summary,
        "source": one.source,
        "unit": str(one.unit),
        "parameters": list(one.parameters),
    }


def _alarms_of(path: str) -> list[dict[str, str]]:
    """Every alarm of a setup in its channel's unit, where it comes from, and what is its own."""
    from leitwerk.parsing.quantities import format_number
    from leitwerk.project.setups import read_setup

    checked = read_setup(path)
    rows = []
    for channel in checked.channels:
        for name, alarm in channel.named_alarms():
            origin = checked.setup.channels[channel.name].alarms[alarm.name].origin
            ends = [format_number(end) for end in alarm.clear if math.isfinite(end)]
            rows.append(
                {
                    "alarm": name,
                    "trips": alarm.condition(channel.symbol, channel.states),
                    "clears": ""
                    if alarm.inside
                    else f"{' or '.join(ends)} {channel.symbol}".strip(),
                    "after": f"{format_number(alarm.delay_s)} s",
                    "from": origin.set,
                    "own": ", ".join(origin.own),
                }
            )
    return rows
