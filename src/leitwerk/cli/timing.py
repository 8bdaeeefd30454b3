"""leitwerk budget, leitwerk timetable and leitwerk condense."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE, FOUND, result_code
from leitwerk.cli.options import DURATION, JSON, local_moment
from leitwerk.cli.rows_of import rows_options

if TYPE_CHECKING:
    from collections.abc import Sequence
    from zoneinfo import ZoneInfo

    from rich.table import Table

    from leitwerk.check.budget import Item, TimeBudget
    from leitwerk.check.campaign_memory import MemoryUse
    from leitwerk.check.checked import CheckedSetup
    from leitwerk.cli.rows_of import RowsWanted
    from leitwerk.datasheet.model import Store
    from leitwerk.rules.schedule import PlannedRun

_MOST_ROWS = 60
_BAR = 56  # characters of a timeline
_FILLED = "·▁▂▃▄▅▆▇█"


def _checked(setup: str) -> CheckedSetup:
    """A setup checked on its datasheet, also one with errors."""
    from leitwerk.check.compile import check_setup
    from leitwerk.project.setups import datasheet_of, load_setup

    loaded = load_setup(setup)
    return check_setup(loaded, datasheet_of(loaded))


_from = click.option(
    "--from", "start", metavar="TIME", help="As if it were then: '2026-03-02 06:00'; else now."
)


@click.command()
@click.argument("setup")
@_from
@click.option(
    "--poll", "poll_s", type=DURATION, metavar="TIME", help="Time from one poll to the next."
)
@JSON
def budget(setup: str, *, start: str | None, poll_s: float | None, as_json: bool) -> int:
    """Show whether time, memory, battery and link suffice for SETUP, and for how long.

    Exit code 0: everything fits. 1: something does not. 2: usage.
    """
    from leitwerk.check.budget_check import setup_budget
    from leitwerk.cli.printing import echo_json
    from leitwerk.cli.tables import console
    from leitwerk.parsing.address import LinkAddress
    from leitwerk.rules.schedule import local_text

    checked = _checked(setup)
    wanted, at = checked.setup, checked.setup.device.at
    baud = at.line.baud if isinstance(at, LinkAddress) and at.is_serial else None
    begins = local_moment(start, wanted.zone)
    found = setup_budget(
        wanted, checked.datasheet, checked.channels, begins, poll_s=poll_s, baud=baud
    )
    if as_json:
        echo_json(found.to_dict())
    else:
        click.echo(f"{found.title}, from {local_text(found.start, found.zone)}")
        console(wraps=True).print(_budget_table(found))
        click.echo(_limit(found))
    return result_code(found)


def _budget_table(found: TimeBudget) -> Table:
    from rich.box import SIMPLE_HEAD
    from rich.table import Table
    from rich.text import Text

    table = Table(box=SIMPLE_HEAD, pad_edge=False)
    for name, justify in (("What", "left"), ("Used", "right"), ("", "left"), ("", "left")):
        table.add_column(name, justify=justify, no_wrap=name != "")  # type: ignore[arg-type]
    for item in found.items:
        used = "" if item.part is None else f"{100 * item.part:.3g} %"
        verdict = Text("fits", "green") if item.fits else Text("too much", "bold red")
        nearest = f"; would fit: {item.nearest}" if item.nearest else ""
        if item.part is None:
            verdict = Text("")
        table.add_row(item.name, used, verdict, item.says + nearest)
    return table


def _limit(found: TimeBudget) -> str:
    limiting: Item | None = found.limiting
    if limiting is None:
        return "nothing here has a limit"
    return f"what limits it is the {limiting.name}: {limiting.says}"


@click.command()
@click.argument("setup")
@_from
@click.option("--until", metavar="TIME", help="Show runs that begin before; else for 30 days.")
@JSON
def timetable(setup: str, *, start: str | None, until: str | None, as_json: bool) -> int:
    """Show the planned runs of SETUP as one timeline, and where they overlap.

    Of campaigns that the device stores by itself, it shows what they take of its memory at most, too.

    Exit code 0: done. 1: runs overlap, or the setup has errors. 2: usage.
    """
    from datetime import timedelta

    from leitwerk.check.budget_check import full_after_s
    from leitwerk.check.campaign_memory import memory_uses
    from leitwerk.cli.printing import echo_json
    from leitwerk.rules.schedule import overlaps, plan_runs

    checked = _checked(setup)
    wanted, plans = checked.setup, checked.runs
    full = full_after_s(wanted, checked.datasheet, checked.channels)
    now = local_moment(start, wanted.zone)
    end = local_moment(until, wanted.zone) if until else now + timedelta(days=30)
    planned = plan_runs(plans, wanted.zone, now, end, full_after_s=full)
    double = overlaps(planned)
    waiting = [plan for plan in plans if plan.start.when is not None]
    uses = memory_uses(planned, wanted, checked.datasheet)
    if as_json:
        echo_json(
            {
                "zone": wanted.zone.key,
                "runs": [run.to_dict(wanted.zone) for run in planned],
                "waiting": [{"run": p.name, "start": str(p.start)} for p in waiting],
                "memory": [use.to_dict() for use in uses],
                "overlaps": [[a.to_dict(wanted.zone), b.to_dict(wanted.zone)] for a, b in double],
            }
        )
        return FOUND if double else FINE
    click.echo(f"{wanted.title}: times in {wanted.zone.key}")
    _print_runs(planned, wanted.zone)
    for plan in waiting:
        click.echo(f"{plan.start}  to  {plan.stop}  {plan.name}")
    for first, second in double:
        click.echo(f"overlap: {second.name} begins while {first.name} still records")
    if uses:
        _print_timeline(uses, checked.datasheet.memory, wanted.zone)
    if not plans:
        click.echo("it has no schedule; add a group 'schedule'")
    return FOUND if double else FINE


def _print_runs(planned: list[PlannedRun], zone: ZoneInfo) -> None:
    """Each run; of one that the device carries out again and again, the first, and how often."""
    times = Counter(run.name for run in planned if run.stores)
    lines: dict[str, str] = {}
    for number, run in enumerate(planned):
        count = times.get(run.name, 0)
        again = f", daily, {count} times" if count > 1 else ""
        lines.setdefault(run.name if run.stores else str(number), run.line(zone) + again)
    shown = list(lines.values())
    for line in shown[:_MOST_ROWS]:
        click.echo(line)
    if len(shown) > _MOST_ROWS:
        click.echo(f"… and {len(shown) - _MOST_ROWS} more; --json lists all")


def _print_timeline(uses: Sequence[MemoryUse], store: Store | None, zone: ZoneInfo) -> None:
    """A bar for each campaign over the same time, and how full the memory is at most."""
    from leitwerk.check.campaign_memory import timeline
    from leitwerk.rules.schedule import local_text

    line = timeline(uses, _BAR)
    if line is None:
        return
    wide = max(map(len, ("memory", *line.runs)))
    first, last = (local_text(moment, zone)[:16] for moment in (line.begin, line.end))
    click.echo(f"\n{'':{wide}}  {first}{last:>{_BAR - len(first)}}")
    for name, stores in line.runs.items():
        rows = line.rows[name]
        takes = "until it is stopped" if rows is None else f"{rows:,.0f} rows at most"
        bar = "".join("█" if part else "·" for part in stores)
        click.echo(f"{name:{wide}}  {bar}  {takes}")
    if store is not None:
        parts = (min(rows / store.capacity, 1.0) for rows in line.filled)
        bar = "".join(_FILLED[round(part * (len(_FILLED) - 1))] for part in parts)
        used = f"{line.filled[-1]:,.0f} of {store.amount(store.capacity)} at most"
        click.echo(f"{'memory':{wide}}  {bar}  {used}")


@click.command()
@click.argument("source")
@rows_options
@click.option(
    "--every",
    "length_s",
    required=True,
    type=DURATION,
    metavar="TIME",
    help="The storage interval.",
)
@click.option(
    "--statistics",
    default="mean",
    show_default=True,
    metavar="A,B,…",
    help="Which statistics of each interval.",
)
@click.option(
    "--zone",
    metavar="NAME",
    help="Whose days and hours the intervals follow; else the setup's, or UTC.",
)
def condense(wanted: RowsWanted, *, length_s: float, statistics: str, zone: str | None) -> int:
    """Condense SOURCE to the statistics of intervals on the wall clock, as CSV.

    SOURCE is a file of samples, or the serial number of a device in the store, which is read piece by piece.
    Days have 23 or 25 hours when the clocks change, and an hour that comes twice makes two. Times in a file
    that are written without a zone are in --zone.

    Exit code 0: done. 2: usage, or no recording.
    """
    from leitwerk.analysis.statistics import STATISTICS
    from leitwerk.errors import QuantityError
    from leitwerk.parsing.local_time import find_zone
    from leitwerk.recordings.condense import condense_pieces
    from leitwerk.signals.angles import full_turn

    names = [name.strip() for name in statistics.split(",")]
    for name in names:
        if name not in STATISTICS:
            message = f"{name[:40]!r} is not a statistic"
            raise QuantityError(message, valid=", ".join(STATISTICS))
    checked = wanted.checked()
    given = None if zone is None else find_zone(zone)
    pieces = wanted.pieces(checked, given)
    channels = () if checked is None else checked.channels
    counted = {c.name for c in channels if full_turn(c.unit) and not c.turn}
    found = condense_pieces(pieces, length_s, names, given or wanted.zone(checked), counted=counted)
    first = next(found, None)
    if first is None:
        raise QuantityError("there are no rows in this time", valid="a time with rows")
    click.echo(first.csv(), nl=False)
    for piece in found:
        click.echo(piece.csv().partition("\n")[2], nl=False)
    return FINE
