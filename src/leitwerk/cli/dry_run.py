"""leitwerk dry-run."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from leitwerk.cli.exit_codes import FINE
from leitwerk.cli.options import JSON, every_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from leitwerk.check.checked import CheckedSetup
    from leitwerk.evaluation.dry_run import Courses


@click.command("dry-run")
@click.argument("setup")
@click.option(
    "--course",
    "courses",
    multiple=True,
    metavar="'CHANNEL: …'",
    help="Draw a course: 'air_top: 21.5; to 85 in 2 min; stay 5 min; to 60 in 10 min'. "
    "Pieces: to VALUE in TIME, jump VALUE, stay TIME, missing TIME, "
    "swing ±A every TIME for TIME, noise SIGMA.",
)
@click.option(
    "--recorded",
    metavar="FILE",
    help="Take courses from a file: samples of live, a recording, means.",
)
@every_option(text="Time from one sample of a drawn course to the next.")
@JSON
@click.option("--figure", metavar="FILE", help="Draw values, limits and states (PNG).")
def dry_run(
    setup: str,
    *,
    courses: tuple[str, ...],
    recorded: str | None,
    period_s: float | None,
    as_json: bool,
    figure: str | None,
) -> int:
    """Feed a course of values through the alarms of SETUP.

    No device is needed, and none is reached. Exit code 0: done. 1: errors in the setup. 2: usage.
    """
    from leitwerk.cli.printing import print_result
    from leitwerk.evaluation.dry_run import dry_run as run
    from leitwerk.project.setups import read_setup

    checked = read_setup(setup)
    sample = checked.setup.sample
    interval_s = period_s or (sample.seconds if sample else 1.0)
    fed = _courses(checked, courses, recorded, interval_s)
    result = run(checked, fed)
    if figure:
        from leitwerk.reports.dry_run_figure import draw_dry_run

        draw_dry_run(result, figure)
    print_result(result, as_json=as_json)
    return FINE


def _courses(
    setup: CheckedSetup,
    drawn: Sequence[str],
    recorded: str | None,
    interval_s: float,
) -> Courses:
    from leitwerk.errors import QuantityError
    from leitwerk.evaluation.course import parse_course
    from leitwerk.evaluation.dry_run import draw_courses, read_recorded
    from leitwerk.project.files import read_bytes

    if recorded is not None:
        if drawn:
            raise click.UsageError("a course is either drawn or recorded")
        return read_recorded(read_bytes(recorded).decode("utf-8", "replace"), setup)
    if not drawn:
        raise click.UsageError("no course is given: use --course or --recorded")
    units = {c.name: c.unit for c in setup.channels}
    parsed = {}
    for text in drawn:
        name, colon, rest = text.partition(":")
        name = name.strip()
        if not colon or name not in units:
            message = f"{text[:40]!r} does not begin with a channel of this setup"
            raise QuantityError(message, valid=f"'CHANNEL: …' with one of {', '.join(units)}")
        parsed[name] = parse_course(rest, units[name])
    return draw_courses(parsed, interval_s)
