"""leitwerk limits."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, reports_errors

if TYPE_CHECKING:
    from leitwerk.setup.limits import LimitSet


@click.command()
@click.argument("what", default="")
@click.argument("parameters", nargs=-1, metavar="[NAME=VALUE]…")
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@reports_errors
def limits(what: str, parameters: tuple[str, ...], *, as_json: bool) -> int:
    """List limit sets; show one worked out for its parameters; or show all alarms of a setup.

    WHAT is the name of a set (battery cells=6 chemistry=lead), or a setup file: then alarms that
    come from a set are shown worked out, and values of the setup's own are marked.

    Exit code 0: done. 1: the setup has errors. 2: usage.
    """
    from leitwerk.cli.printing import echo_json, print_columns
    from leitwerk.errors import QuantityError
    from leitwerk.project.library import find_limits, known_limits

    if not what:
        sets = [find_limits(name) for name in known_limits()]
        if as_json:
            echo_json([_set_dict(one) for one in sets])
            return FINE
        print_columns(
            ("Set", "Told", "What it is"),
            [(s.name, " ".join(s.parameters), s.summary) for s in sets],
        )
        return FINE
    if Path(what).is_file():
        rows = _of_setup(what)
        if as_json:
            echo_json(rows)
        else:
            columns = ("alarm", "trips", "clears", "after", "from", "own")
            print_columns(
                tuple(c.capitalize() for c in columns), [tuple(r[c] for c in columns) for r in rows]
            )
        return FINE
    given = {}
    for text in parameters:
        name, equals, value = text.partition("=")
        if not equals:
            raise QuantityError(
                f"{text[:40]!r} is no parameter", valid="NAME=VALUE, such as cells=6"
            )
        given[name] = value
    chosen = find_limits(what)
    alarms = chosen.expand(given)
    if as_json:
        echo_json({**_set_dict(chosen), "alarms": alarms})
        return FINE
    click.echo(f"{chosen.name}: {chosen.summary}\nsource: {chosen.source}")
    for name, alarm in alarms.items():
        click.echo(f"  {name}: {{{', '.join(f'{key}: {value}' for key, value in alarm.items())}}}")
    return FINE


def _set_dict(one: LimitSet) -> dict[str, object]:
    return {
        "set": one.name,
        "summary": one.summary,
        "source": one.source,
        "unit": str(one.unit),
        "parameters": list(one.parameters),
    }


def _of_setup(path: str) -> list[dict[str, str]]:
    """Every alarm of a setup in its channel's unit, where it comes from, and what is its own."""
    from leitwerk.parsing.quantities import format_number
    from leitwerk.project.setups import assign_setup, read_setup

    wanted = read_setup(path)
    rows = []
    for channel in assign_setup(wanted):
        symbol = "" if channel.is_contact else channel.unit.symbol
        for alarm in channel.alarms:
            origin = wanted.channels[channel.name].alarms[alarm.name].origin
            ends = [format_number(end) for end in alarm.clear if math.isfinite(end)]
            rows.append(
                {
                    "alarm": f"{channel.name}.{alarm.name}",
                    "trips": alarm.condition(
                        symbol, channel.states if channel.is_contact else None
                    ),
                    "clears": "" if alarm.inside else f"{' or '.join(ends)} {symbol}".strip(),
                    "after": f"{format_number(alarm.delay_s)} s",
                    "from": origin.set,
                    "own": ", ".join(origin.own),
                }
            )
    return rows
